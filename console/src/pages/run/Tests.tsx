// A run's tests: new failures first, apart from known ones, then what was fixed, what turned by itself, what was slow;
// and one test over the project's runs.
import { useQuery } from '@tanstack/react-query';
import { Input } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router';
import { answered, api, type RunView, type Schemas } from '../../api/client';
import { Shape, type State } from '../../look/states';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import { duration, many } from '../../parts/words';
import { Difference } from './Difference';
import './tests.css';

type Case = Schemas['CaseView'];

const stateOf: Record<Case['end'], State> = { passed: 'passed', failed: 'failed', skipped: 'skipped' };

export default function Tests({ run }: { run: RunView }) {
  const [filter, setFilter] = useState('');
  const [chosen, setChosen] = useState<Case>();
  const params = { path: { project: run.project, number: run.number } };
  const { data, error } = useQuery({
    queryKey: ['run', run.run, 'results', 'tests'],
    queryFn: () => answered(api.GET('/api/v1/runs/{project}/{number}/tests', { params })),
  });
  const findings = useQuery({
    queryKey: ['run', run.run, 'results', 'findings'],
    queryFn: () => answered(api.GET('/api/v1/runs/{project}/{number}/findings', { params })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  if (data.total === 0 && (findings.data?.length ?? 0) === 0)
    return (
      <p className="empty">
        No job of this run has reported tests. A job names its reports with{' '}
        <code>{'reports = { junit = ["out/*.xml"] }'}</code>
      </p>
    );
  const open = chosen ?? data.new[0] ?? data.known[0];
  const fits = (one: Case) => `${one.suite} ${one.name} ${one.job}`.toLowerCase().includes(filter.toLowerCase());
  const groups: [string, Case[]][] = [
    ['New failures', data.new],
    ['Failed before, too', data.known],
    ['Fixed', data.fixed],
    ['Failed at first, passed when tried again', data.wavered],
    ['Slowest', data.slowest],
    ['Others', data.others],
  ];
  return (
    <div className="tests">
      <section aria-label="Test cases">
        <div className="bar">
          <span className="num grow">
            {many(data.total, 'test')}: {data.passed} passed
            {data.failed > 0 && (
              <>
                , <b className="s-failed">{data.failed} failed</b>
              </>
            )}
            {data.skipped > 0 && `, ${data.skipped} skipped`}
            {data.ms > 0 && `, ${duration(data.ms)}`}
            {data.compared_with && (
              <span className="soft">
                {' '}
                compared with <Link to={`/runs/${data.compared_with}?view=tests`}>{data.compared_with}</Link>
                {data.gone > 0 && `, of which ${data.gone} are gone`}
              </span>
            )}
          </span>
          <Input
            className="w-220"
            placeholder="filter tests"
            aria-label="Filter tests"
            value={filter}
            onChange={(event) => setFilter(event.target.value)}
          />
        </div>
        <div className="scroll">
          {groups.map(([title, cases]) => {
            const shown = cases.filter(fits);
            return shown.length === 0 ? null : (
              <div key={title}>
                <h3>
                  {title} <span className="soft num">{shown.length}</span>
                </h3>
                <ul>
                  {shown.slice(0, 300).map((one) => (
                    <li key={`${one.job} ${one.suite} ${one.name}`}>
                      <button
                        type="button"
                        className="plain"
                        aria-pressed={open === one}
                        onClick={() => setChosen(one)}
                      >
                        <Shape state={stateOf[one.end]} label />
                        <span className="cut">
                          {one.suite && <span className="soft">{one.suite} › </span>}
                          {one.name}
                        </span>
                        <span className="soft cut">{one.job}</span>
                        <span className="num soft">{one.ms == null ? '' : duration(one.ms)}</span>
                      </button>
                    </li>
                  ))}
                </ul>
              </div>
            );
          })}
          {(findings.data?.length ?? 0) > 0 && <Findings findings={findings.data ?? []} />}
        </div>
      </section>
      <section aria-label="Chosen test">
        {open ? (
          <Chosen run={run} one={open} />
        ) : (
          <p className="panel-body soft">Choose a test: what it said, and how it ended in other runs.</p>
        )}
      </section>
    </div>
  );
}

function Findings({ findings }: { findings: Schemas['FindingView'][] }) {
  return (
    <>
      <h3>
        Findings <span className="soft num">{findings.length}</span>
      </h3>
      <table className="sheet">
        <tbody>
          {findings.map((one) => (
            <tr key={`${one.job}${one.rule}${one.file}${one.line}${one.message}`}>
              <td>{one.new && <b>new</b>}</td>
              <td className={one.level === 'error' ? 's-failed' : 'soft'}>{one.level}</td>
              <td className="code">{one.rule}</td>
              <td className="code">
                {one.file}
                {one.line != null && `:${one.line}`}
              </td>
              <td>{one.message}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Chosen({ run, one }: { run: RunView; one: Case }) {
  const query = { suite: one.suite, name: one.name };
  const { data } = useQuery({
    queryKey: ['test', run.project, one.suite, one.name],
    queryFn: () =>
      answered(
        api.GET('/api/v1/projects/{project}/test-history', { params: { path: { project: run.project }, query } }),
      ),
  });
  const history = data?.filter((row) => row.job === one.job) ?? [];
  return (
    <>
      <div className="panel-head">
        <h2>{one.name}</h2>
        <div className="soft">
          {one.suite && `${one.suite} · `}
          <Link to={`/runs/${run.run}/${one.job}`}>{one.job}</Link> ·{' '}
          <Link to={`/runs/${run.run}/${one.job}?find=${encodeURIComponent(one.name)}`}>in its log</Link>
          {one.file && (
            <span className="code">
              {' '}
              {one.file}
              {one.line != null && `:${one.line}`}
            </span>
          )}
        </div>
        {one.since && one.before === 'failed' && (
          <div>
            fails since <Link to={`/runs/${one.since}?view=tests`}>{one.since}</Link>
          </div>
        )}
      </div>
      {one.difference && <Difference difference={one.difference} />}
      {one.message && <pre className="source">{one.message}</pre>}
      <div className="panel-body">
        <h3>In other runs</h3>
        <table className="sheet">
          <tbody>
            {history.map((row) => (
              <tr key={row.run}>
                <td className="w-20">
                  <Shape state={stateOf[row.end]} label />
                </td>
                <td>
                  <Link to={`/runs/${row.run}?view=tests`}>{row.run}</Link>
                </td>
                <td className="num">{row.ms == null ? '' : duration(row.ms)}</td>
                <td className="code soft">{row.commit.slice(0, 8)}</td>
                <td className="soft">
                  <When at={row.at} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
