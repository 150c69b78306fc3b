// All that can be set of a project, one place for each: its repository, how its pushes are told, what its jobs get, who
// sees it, its badge, its rules, what the service keeps for it; and its end.
import { lazy, Suspense } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import { useMay } from '../../api/client';
import { ProjectWords } from '../../parts/ProjectWords';
import './settings.css';

const Repository = lazy(() => import('./Repository'));
const Hooks = lazy(() => import('./Hooks'));
const Secrets = lazy(() => import('./Secrets'));
const Connections = lazy(() => import('./Connections'));
const People = lazy(() => import('./People'));
const Notices = lazy(() => import('./Notices'));
const Badge = lazy(() => import('./Badge'));
const Files = lazy(() => import('./Files'));
const End = lazy(() => import('./End'));

const views = [
  ['repository', 'Repository', Repository],
  ['hooks', 'Pushes', Hooks],
  ['secrets', 'Secrets', Secrets],
  ['connections', 'Connections', Connections],
  ['people', 'People', People],
  ['notices', 'Notices', Notices],
  ['badge', 'Badge', Badge],
  ['files', 'Rules and kept files', Files],
  ['end', 'Remove', End],
] as const;

export default function Settings() {
  const { project = '' } = useParams();
  const [search] = useSearchParams();
  const may = useMay('editor', project);
  const [at, , View] = views.find(([key]) => key === search.get('view')) ?? views[0];
  return (
    <>
      <ProjectWords project={project} at="settings" />
      <nav className="bar words settings-words" aria-label="Settings">
        {views.map(([key, word]) => (
          <Link
            key={key}
            to={`/projects/${project}/settings?view=${key}`}
            aria-current={key === at ? 'page' : undefined}
          >
            {word}
          </Link>
        ))}
      </nav>
      {!may && <p className="soft">An editor of this project may change what stands here; you may look.</p>}
      <Suspense fallback={null}>
        <View project={project} may={may} />
      </Suspense>
    </>
  );
}
