// Pools: runners that are made when jobs queue. Each pool with what it does and why; its machines with what they do and cost, the
// last lines of their consoles, and what can be done with one.
import { useQuery } from '@tanstack/react-query';
import { Button } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { Shape } from '../../look/states';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { When } from '../../parts/When';
import { duration, many } from '../../parts/words';
import { Acts } from './Acts';
import { Console } from './Console';
import './pools.css';

type Pool = Schemas['PoolView'];
type Machine = Schemas['MachineView'];

/** So many machines that are gone are shown with those that are there. */
const GONE = 3;

export default function Pools() {
  // Machines are no events of their own: asked for as often as one would look.
  const every = { refetchInterval: 2000 };
  const pools = useQuery({ queryKey: ['pools'], ...every, queryFn: () => answered(api.GET('/api/v1/pools')) });
  const machines = useQuery({ queryKey: ['machines'], ...every, queryFn: () => answered(api.GET('/api/v1/machines')) });
  if (pools.error) return <Trouble error={pools.error} />;
  if (!pools.data || !machines.data) return null;
  const there = machines.data.filter((machine) => machine.stage !== 'gone');
  return (
    <>
      <h1>{sentence(pools.data, there)}</h1>
      {pools.data.length === 0 && (
        <p className="empty">
          A pool makes runners when jobs queue, and removes them when there is nothing to do.{' '}
          <span className="code">ordotaxis pool set NAME --provider process --most 2</span> sets one up on the service's
          own machine.
        </p>
      )}
      {pools.data.map((pool) => (
        <One key={pool.name} pool={pool} machines={machines.data.filter((one) => one.pool === pool.name)} />
      ))}
    </>
  );
}

function sentence(pools: Pool[], there: Machine[]): string {
  if (pools.length === 0) return 'No pool is set';
  const troubled = pools.filter((pool) => pool.troubled).map((pool) => pool.name);
  if (troubled.length > 0) return `Something is wrong with ${troubled.join(', ')}`;
  const count = many(pools.length, 'pool');
  if (there.length === 0) return `${count}: no machine is there, nothing needs one`;
  const busy = there.filter((machine) => machine.stage === 'busy').length;
  return `${count}: ${many(there.length, 'machine')}, ${busy} at work`;
}

function One({ pool, machines }: { pool: Pool; machines: Machine[] }) {
  const settings = pool.settings;
  const shape = pool.troubled ? 'failed' : pool.busy > 0 ? 'running' : 'passed';
  const facts = [
    `at most ${settings.most}`,
    settings.least ? `${settings.least} kept ready` : '',
    settings.jobs ? `${many(settings.jobs, 'job')} each` : '',
    settings.labels?.length ? settings.labels.join(', ') : '',
    pool.usual_start_ms != null ? `usually there in ${duration(pool.usual_start_ms)}` : '',
    pool.from_file ? 'set in the configuration' : `set by ${pool.set_by}`,
  ];
  return (
    <section className="pool" aria-label={`Pool ${pool.name}`}>
      <div className="pool-head">
        <h2>{pool.name}</h2>
        <span className={`state s-${shape}`}>
          <Shape state={shape} /> {pool.why}
        </span>
        <span className="grow" />
        <Strip pool={pool} />
        <span className="num soft">
          {pool.made_day} made and {many(pool.jobs_day, 'job')} in a day
          {pool.cost_day != null && `, cost ${money(pool.cost_day)}`}
        </span>
      </div>
      <div className="soft">
        {settings.provider}; {facts.filter(Boolean).join('; ')}
      </div>
      <Machines machines={machines} />
    </section>
  );
}

/** Whatever money it is: small sums to the last digit that says something. */
const money = (sum: number) => sum.toFixed(sum < 1 ? 4 : 2);

/** A square a machine that may be: what is there, by what it does. */
function Strip({ pool }: { pool: Pool }) {
  const most = Math.min(pool.settings.most, 60);
  const kinds: [string, number][] = [
    ['busy', pool.busy],
    ['waiting', pool.waiting],
    ['coming', pool.coming],
    ['leaving', pool.leaving],
  ];
  const said = kinds.filter(([, count]) => count > 0).map(([kind, count]) => `${count} ${kind}`);
  const words = `${said.join(', ') || 'none'} of at most ${pool.settings.most}`;
  const all = kinds.flatMap(([kind, count]) => Array<string>(count).fill(kind)).slice(0, most);
  const squares = [...all, ...Array<string>(Math.max(0, most - all.length)).fill('free')];
  return (
    <svg className="strip" width={most * 7} height="12" role="img" aria-label={words}>
      <title>{words}</title>
      {squares.map((kind, at) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a square is its place
        <rect key={at} className={kind} x={at * 7 + 0.5} y="1.5" width="5" height="9" />
      ))}
    </svg>
  );
}

const SHAPES: Record<string, 'waiting' | 'queued' | 'passed' | 'running' | 'stopped' | 'skipped'> = {
  wanted: 'waiting',
  made: 'queued',
  registered: 'passed',
  busy: 'running',
  leaving: 'stopped',
  gone: 'skipped',
};

function Machines({ machines }: { machines: Machine[] }) {
  const [open, setOpen] = useState<string>();
  const [all, setAll] = useState(false);
  if (machines.length === 0) return <p className="empty">No machine is there, and none was within a day.</p>;
  const gone = machines.filter((machine) => machine.stage === 'gone');
  const shown = all ? machines : machines.filter((machine) => machine.stage !== 'gone' || gone.indexOf(machine) < GONE);
  const more = machines.length - shown.length;
  return (
    <>
      <table className="sheet machines">
        <thead>
          <tr>
            <th>machine</th>
            <th>since</th>
            <th>does</th>
            <th className="num">jobs</th>
            <th className="num">cost</th>
            <th>why</th>
            <th aria-label="What can be done" />
          </tr>
        </thead>
        <tbody>
          {shown.map((machine) => (
            <Row
              key={machine.id}
              machine={machine}
              open={open === machine.id}
              onOpen={() => setOpen(open === machine.id ? undefined : machine.id)}
            />
          ))}
        </tbody>
      </table>
      {more > 0 && (
        <Button type="link" size="small" onClick={() => setAll(true)}>
          {more.toLocaleString('en')} more that went within a day
        </Button>
      )}
    </>
  );
}

function Row(props: { machine: Machine; open: boolean; onOpen: () => void }) {
  const { machine, open, onOpen } = props;
  const gone = machine.stage === 'gone';
  return (
    <>
      <tr className={gone ? 'soft' : ''}>
        <td className="one-line">
          <Shape state={SHAPES[machine.stage] ?? 'waiting'} /> <span className="code">{machine.id}</span>{' '}
          <span className="soft">{machine.stage}</span>
        </td>
        <td className="num">
          <When at={machine.since} />
        </td>
        <td>
          {machine.now.map((doing) => (
            <div key={`${doing.run} ${doing.job}`}>
              <Link to={`/runs/${doing.run}/${doing.job}`}>{doing.job}</Link>{' '}
              <span className="soft">of {doing.run}</span> <span className="code">{doing.phase ?? ''}</span>
            </div>
          ))}
        </td>
        <td className="num">{machine.jobs}</td>
        <td className="num">{machine.cost == null ? '' : money(machine.cost)}</td>
        <td>
          {machine.why}
          {machine.kept_until && `, until ${exact(machine.kept_until)}`}
          {machine.words && !gone && <span className="soft"> ({machine.words})</span>}
        </td>
        <td className="acts">{!gone && <Acts machine={machine} open={open} onConsole={onOpen} />}</td>
      </tr>
      {open && !gone && (
        <tr>
          <td colSpan={7}>
            <Console id={machine.id} />
          </td>
        </tr>
      )}
    </>
  );
}
