// Runners: who is there, what each does this second, how full it was, what queues and why.

import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { answered, api, done, type Schemas, useMay } from '../../api/client';
import { Shape } from '../../look/states';
import { Act } from '../../parts/Act';
import { useNow } from '../../parts/now';
import { Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { When } from '../../parts/When';
import { age, bytes, duration, many, time } from '../../parts/words';
import './runners.css';

type Runner = Schemas['RunnerView'];

export default function Runners() {
  const now = useNow(true);
  // Phases of jobs are no events of their own: asked for as often as one would look.
  const every = { refetchInterval: 2000 };
  const runners = useQuery({ queryKey: ['runners'], ...every, queryFn: () => answered(api.GET('/api/v1/runners')) });
  const queue = useQuery({ queryKey: ['queue'], ...every, queryFn: () => answered(api.GET('/api/v1/queue')) });
  if (runners.error) return <Trouble error={runners.error} />;
  if (!runners.data) return null;
  const there = runners.data.filter((runner) => runner.connected);
  const gone = runners.data.filter((runner) => !runner.connected);
  const slots = there.reduce((sum, runner) => sum + runner.slots, 0);
  const busy = there.reduce((sum, runner) => sum + runner.busy, 0);
  return (
    <>
      <h1>{sentence(there.length, busy, slots, queue.data?.length ?? 0)}</h1>
      {runners.data.length === 0 && (
        <p className="empty">
          Runners do the jobs. <span className="code">ordotaxis runner invite</span> makes a token that enrols one;{' '}
          <Link to="/pools">pools</Link> make them when jobs queue.
        </p>
      )}
      {[...there, ...gone].map((runner) => (
        <Machine key={runner.name} runner={runner} now={now} />
      ))}
      <h2 className="pad">Queued</h2>
      <Queue queue={queue.data} />
    </>
  );
}

function sentence(runners: number, busy: number, slots: number, queued: number): string {
  if (runners === 0) return 'No runner is connected';
  const what = queued === 0 ? 'nothing queues' : `${many(queued, 'job')} ${queued === 1 ? 'queues' : 'queue'}`;
  return `${many(runners, 'runner')}: ${busy} of ${many(slots, 'slot')} busy, ${what}`;
}

function Machine({ runner, now }: { runner: Runner; now: number }) {
  const draining = runner.draining_by != null;
  const shape = !runner.connected ? 'lost' : runner.busy > 0 ? 'running' : 'passed';
  const state = !runner.connected ? 'gone' : draining ? 'draining' : runner.busy > 0 ? 'working' : 'free';
  return (
    <section className="machine" aria-label={`Runner ${runner.name}`}>
      <div className="machine-head">
        <h2>{runner.name}</h2>
        <span className={`state s-${shape}`}>
          <Shape state={shape} /> {state}
          {!runner.connected && runner.seen_at && ` since ${age(now - time(runner.seen_at))}`}
        </span>
        <span className="num">
          {runner.busy} of {many(runner.slots, 'slot')}
        </span>
        <span className="soft">{runner.isolation}</span>
        {runner.cores > 0 && (
          <span className="soft num">
            {many(runner.cores, 'core')}, {bytes(runner.memory_bytes)}
          </span>
        )}
        <span className="soft cut">{runner.labels.join(', ')}</span>
        <span className="grow" />
        <Fullness runner={runner} />
        <Drain runner={runner} />
      </div>
      <div className="soft">
        {outside(runner)}
        {runner.grant.projects && `; projects ${runner.grant.projects.join(', ')}`}
        {runner.fence && `; fence: ${runner.fence}`}
      </div>
      {runner.tools.length > 0 && (
        <div className="soft num tools">{runner.tools.map((tool) => `${tool.name} ${tool.version}`).join(' · ')}</div>
      )}
      {runner.now.length > 0 && (
        <table className="sheet">
          <tbody>
            {runner.now.map((doing) => (
              <tr key={`${doing.run} ${doing.job}`}>
                <td className="w-260">
                  <Shape state="running" /> <Link to={`/runs/${doing.run}/${doing.job}`}>{doing.job}</Link>{' '}
                  <span className="soft">of {doing.run}</span>
                </td>
                <td className="code cut">{doing.phase ?? 'beginning'}</td>
                <td className="num w-120 right" title={exact(doing.since)}>
                  {duration(now - time(doing.since))}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

/** Whether a runner takes further jobs; both ways are taken back by the other one. */
function Drain({ runner }: { runner: Runner }) {
  const { name } = runner;
  if (!useMay('owner')) return null;
  const put = (draining: boolean) =>
    done(api.PUT('/api/v1/runners/{name}/drain', { params: { path: { name } }, body: { draining } }));
  if (runner.draining_by != null)
    return (
      <Act
        name="Take jobs again"
        label={`Take jobs again: ${name}`}
        says={`${runner.draining_by} drained it; it takes jobs again at once.`}
        atOnce
        act={async () => {
          await put(false);
          return { words: `${name} takes jobs again.`, undo: () => put(true) };
        }}
      />
    );
  return (
    <Act
      name="Drain"
      label={`Drain ${name}`}
      says="What it does goes on to its end; it takes no further job until someone lets it."
      atOnce
      act={async () => {
        await put(true);
        return { words: `${name} takes no further jobs.`, undo: () => put(false) };
      }}
    />
  );
}

/** The last six hours in quarters: how much of its slots' time was taken. */
function outside(runner: Runner): string {
  switch (runner.grant.outside) {
    case 'only':
      return 'takes only proposals from outside';
    case 'yes':
      return 'takes proposals from outside, too';
    default:
      return 'takes nothing from outside';
  }
}

function Fullness({ runner }: { runner: Runner }) {
  const most = Math.max(...runner.full);
  const words = `the last six hours: ${Math.round(runner.full.reduce((sum, one) => sum + one, 0) / 10 / Math.max(1, runner.full.length))} % of its slots taken, at most ${Math.round(most / 10)} %`;
  return (
    <svg className="fullness" width={24 * 5} height="20" role="img" aria-label={words}>
      <title>{words}</title>
      <line x1="0" x2={24 * 5} y1="19.5" y2="19.5" />
      {runner.full.map((one, at) => {
        const height = one === 0 ? 0 : Math.max(1.5, (18 * one) / 1000);
        // biome-ignore lint/suspicious/noArrayIndexKey: a quarter is its place
        return <rect key={at} x={at * 5 + 0.5} width="4" y={19 - height} height={height} />;
      })}
    </svg>
  );
}

function Queue({ queue }: { queue: Schemas['QueuedView'][] | undefined }) {
  if (!queue) return null;
  if (queue.length === 0) return <p className="empty">Every job that may run has a runner.</p>;
  return (
    <Sheet heads={['job', 'since', 'why']}>
      {queue.map((one) => (
        <tr key={`${one.run} ${one.job}`}>
          <td className="one-line">
            <Shape state="queued" label /> <Link to={`/runs/${one.run}/${one.job}`}>{one.job}</Link>{' '}
            <span className="soft">of {one.run}</span>
          </td>
          <td className="num">
            <When at={one.since} />
          </td>
          <td>{one.why}</td>
        </tr>
      ))}
    </Sheet>
  );
}
