// Starts the console: theme, routes; the board comes along, every other page is a file that is fetched when it is first opened.
import 'antd/dist/reset.css';
import './look/look.css';
import './look/parts.css';
import './look/frame.css';
import './look/narrow.css';
import './look/contrast.css';
import { QueryClientProvider } from '@tanstack/react-query';
import { ConfigProvider } from 'antd';
import { lazy, StrictMode, Suspense, useEffect, useState } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter, Route, Routes, useParams } from 'react-router';
import { queries } from './api/client';
import { nonce } from './look/nonce';
import { antdTheme, apply, type Theme } from './look/palette';
import Board from './pages/board/Board';
import { Frame } from './parts/Frame';

const Run = lazy(() => import('./pages/run/Run'));
const Project = lazy(() => import('./pages/project/Project'));
const Deliveries = lazy(() => import('./pages/project/Deliveries'));
const Proposals = lazy(() => import('./pages/project/Proposals'));
const OneProposal = lazy(async () => ({ default: (await import('./pages/project/Proposals')).OneProposal }));
const Environments = lazy(() => import('./pages/delivery/Environments'));
const OneEnvironment = lazy(() => import('./pages/delivery/Environment'));
const Needs = lazy(() => import('./pages/delivery/Needs'));
const Releases = lazy(() => import('./pages/release/Releases'));
const OneRelease = lazy(() => import('./pages/release/Release'));
const Trace = lazy(() => import('./pages/trace/Trace'));
const Landing = lazy(() => import('./pages/project/Landing'));
const Kept = lazy(() => import('./pages/project/Kept'));
const Insight = lazy(() => import('./pages/insight/Insight'));
const AllInsight = lazy(() => import('./pages/insight/All'));
const Runners = lazy(() => import('./pages/runners/Runners'));
const Pools = lazy(() => import('./pages/pools/Pools'));
const People = lazy(() => import('./pages/people/People'));
const Notices = lazy(() => import('./pages/people/Notices'));
const Journal = lazy(() => import('./pages/journal/Journal'));
const Add = lazy(() => import('./pages/add/Add'));
const Settings = lazy(() => import('./pages/settings/Settings'));
const Start = lazy(() => import('./pages/start/Start'));
const OneTest = lazy(() => import('./pages/project/OneTest'));
const Draft = lazy(() => import('./pages/draft/Draft'));
const SignIn = lazy(() => import('./pages/sign-in/SignIn'));

function firstTheme(): Theme {
  const kept = localStorage.getItem('theme');
  if (kept === 'light' || kept === 'dark') return kept;
  return window.matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light';
}

function Console() {
  const [theme, setTheme] = useState<Theme>(firstTheme);
  apply(theme);
  useEffect(() => localStorage.setItem('theme', theme), [theme]);
  const framed = (page: React.ReactNode) => <Framed theme={theme} onTheme={setTheme} page={page} />;
  return (
    <ConfigProvider theme={antdTheme(theme)} csp={{ nonce }}>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <Suspense fallback={null}>
            <Routes>
              <Route path="/sign-in" element={<SignIn />} />
              <Route path="/" element={framed(<Board />)} />
              <Route path="/runners" element={framed(<Runners />)} />
              <Route path="/pools" element={framed(<Pools />)} />
              <Route path="/insight" element={framed(<AllInsight />)} />
              <Route path="/projects/:project/insight" element={framed(<Insight />)} />
              <Route path="/people" element={framed(<People />)} />
              <Route path="/notices" element={framed(<Notices />)} />
              <Route path="/needs" element={framed(<Needs />)} />
              <Route path="/journal" element={framed(<Journal />)} />
              <Route path="/projects/:project/journal" element={framed(<Journal />)} />
              <Route path="/projects/:project" element={framed(<Project />)} />
              <Route path="/add" element={framed(<Add />)} />
              <Route path="/projects/:project/settings" element={framed(<Settings />)} />
              <Route path="/projects/:project/start" element={framed(<Start />)} />
              <Route path="/projects/:project/test" element={framed(<OneTest />)} />
              <Route path="/projects/:project/proposals" element={framed(<Proposals />)} />
              <Route path="/projects/:project/proposals/:proposal" element={framed(<OneProposal />)} />
              <Route path="/projects/:project/landing" element={framed(<Landing />)} />
              <Route path="/projects/:project/environments" element={framed(<Environments />)} />
              <Route path="/projects/:project/environments/:environment" element={framed(<OneEnvironment />)} />
              <Route path="/projects/:project/releases" element={framed(<Releases />)} />
              <Route path="/projects/:project/releases/:version" element={framed(<OneRelease />)} />
              <Route path="/trace" element={framed(<Trace />)} />
              <Route path="/projects/:project/deliveries" element={framed(<Deliveries />)} />
              <Route path="/projects/:project/deliveries/:delivery" element={framed(<Deliveries />)} />
              <Route path="/projects/:project/numbers" element={framed(<Kept what="numbers" />)} />
              <Route path="/projects/:project/caches" element={framed(<Kept what="caches" />)} />
              <Route path="/projects/:project/flaky" element={framed(<Kept what="flaky" />)} />
              <Route path="/projects/:project/draft" element={framed(<Draft />)} />
              <Route path="/projects/:project/draft/:pipeline" element={framed(<Draft />)} />
              <Route path="/runs/:project/:number" element={framed(<Run />)} />
              <Route path="/runs/:project/:number/:job" element={framed(<Run />)} />
              <Route
                path="*"
                element={framed(<p className="empty">There is no such page. The board is at the mark above.</p>)}
              />
            </Routes>
          </Suspense>
        </BrowserRouter>
      </QueryClientProvider>
    </ConfigProvider>
  );
}

function Framed({ theme, onTheme, page }: { theme: Theme; onTheme: (theme: Theme) => void; page: React.ReactNode }) {
  const { project, number, job } = useParams();
  const path = [project, number, job].filter((part): part is string => part !== undefined);
  return (
    <Frame path={path} theme={theme} onTheme={onTheme}>
      <Suspense fallback={null}>{page}</Suspense>
    </Frame>
  );
}

const root = document.getElementById('root');
if (root) {
  createRoot(root).render(
    <StrictMode>
      <Console />
    </StrictMode>,
  );
}
