// Why a job failed, on one page: the step and its command, since which commit and whose, what its tests said and compared,
// and the log around the first error.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { answered, api, type JobView, type RunView, type Schemas } from '../../api/client';
import { Shape } from '../../look/states';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import { duration, many } from '../../parts/words';
import { Difference } from './Difference';
import { parts } from './log/text';
import './failure.css';

type View = Schemas['WhyFailedView'];

export function Failure({ run, job, attempt }: { run: RunView; job: JobView; attempt: number }) {
  const path = { project: run.project, number: run.number, job: job.id };
  const { data, error } = useQuery({
    queryKey: ['failure', run.run, job.id, attempt, job.state],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () =>
      answered(api.GET('/api/v1/runs/{project}/{number}/jobs/{job}/failure', { params: { path, query: { attempt } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return <p className="panel-body soft">Reading why it failed.</p>;
  return (
    <div className="failure scroll">
      <What view={data} why={data.why ?? job.why ?? undefined} />
      {data.since && <Since view={data} since={data.since} />}
      <Tests run={run} view={data} />
      {data.excerpt && <Excerpt run={run} job={job} excerpt={data.excerpt} />}
    </div>
  );
}

function What({ view, why }: { view: View; why: string | undefined }) {
  const { step } = view;
  return (
    <section aria-label="What failed">
      <p className="failure-why">
        <Shape state={view.state} label /> <b>{step ? step.name : (why ?? 'It did not pass.')}</b>
        {step && (
          <span className="soft">
            {' '}
            {step.exit_code != null ? `exited with ${step.exit_code}` : 'failed'}
            {step.duration_ms != null && ` after ${duration(step.duration_ms)}`}
            {step.dir && `, in ${step.dir}`}
          </span>
        )}
      </p>
      {step?.command && <pre className="command">{step.command}</pre>}
    </section>
  );
}

function Since({ view, since }: { view: View; since: Schemas['SinceView'] }) {
  const own = since.run === view.run;
  return (
    <section aria-label="Since when">
      <p>
        {own ? 'New since ' : 'Fails since '}
        <span className="code">{since.commit.slice(0, 8)}</span> “{since.commit_title}” by <b>{since.commit_author}</b>,{' '}
        <When at={since.at} sentence />
        {!own && (
          <>
            , in <Link to={`/runs/${since.run}/${view.job}`}>{since.run}</Link>
          </>
        )}
        {since.passed_in ? (
          <>
            ; it passed in <Link to={`/runs/${since.passed_in}/${view.job}`}>{since.passed_in}</Link>
          </>
        ) : (
          '; no run before it passed'
        )}
        .
      </p>
      {since.commits.length > 1 && (
        <details>
          <summary>
            {since.more ? 'more than ' : ''}
            {many(since.commits.length, 'commit')} came with it
          </summary>
          <ul className="plain">
            {since.commits.map((one) => (
              <li key={one.commit}>
                <Link className="code" to={`/trace?thing=${one.commit}`}>
                  {one.commit.slice(0, 8)}
                </Link>{' '}
                {one.title} <span className="soft">{one.author}</span>
              </li>
            ))}
          </ul>
        </details>
      )}
    </section>
  );
}

function Tests({ run, view }: { run: RunView; view: View }) {
  const [all, setAll] = useState(false);
  if (view.failed_tests === 0) return null;
  const shown = all ? view.tests : view.tests.slice(0, 5);
  const fresh = view.tests.filter((one) => one.before !== 'failed').length;
  return (
    <section aria-label="Failed tests">
      <h3>
        <span>
          {many(view.failed_tests, 'test')} failed
          <span className="soft">
            {fresh > 0 && fresh < view.failed_tests ? `, ${fresh} of them new` : fresh > 0 ? ', new' : ', as before'}
          </span>
        </span>
      </h3>
      {shown.map((one) => (
        <article key={`${one.suite} ${one.name}`} className="failed-test">
          <header>
            <Shape state="failed" />
            <Link to={testAt(run.project, one)}>{one.name}</Link>
            {one.suite && <span className="soft">{one.suite}</span>}
            {one.before !== 'failed' ? (
              <b className="s-failed">new</b>
            ) : (
              <span className="soft">since {one.since}</span>
            )}
            {one.file && (
              <span className="soft code">
                {one.file}
                {one.line != null && `:${one.line}`}
              </span>
            )}
          </header>
          {one.difference ? <Difference difference={one.difference} /> : null}
          {one.message && <Message text={one.message} folded={one.difference != null} />}
        </article>
      ))}
      {view.tests.length > shown.length && (
        <button type="button" className="link" onClick={() => setAll(true)}>
          {many(view.tests.length - shown.length, 'more failed test')}
        </button>
      )}
      {view.failed_tests > view.tests.length && (
        <p className="soft">
          The first {view.tests.length} are told here;{' '}
          <Link to={`/runs/${run.run}?view=tests`}>all tests of the run</Link>.
        </p>
      )}
    </section>
  );
}

/** A test's message; folded where the values that it compared are told already. */
function Message({ text, folded }: { text: string; folded: boolean }) {
  if (!folded) return <pre className="source">{text}</pre>;
  return (
    <details>
      <summary>whole message</summary>
      <pre className="source">{text}</pre>
    </details>
  );
}

export const testAt = (project: string, one: { suite: string; name: string }) =>
  `/projects/${project}/test?${new URLSearchParams({ suite: one.suite, name: one.name })}`;

function Excerpt({ run, job, excerpt }: { run: RunView; job: JobView; excerpt: Schemas['ExcerptView'] }) {
  const at = (line: number) => `/runs/${run.run}/${encodeURIComponent(job.id)}#L${line + 1}`;
  const told = excerpt.error ?? excerpt.first;
  return (
    <section aria-label="Log around the first error">
      <h3>
        {excerpt.error == null ? 'The last lines of its log' : 'Its log around the first error'}{' '}
        <Link className="soft" to={at(told ?? 0)}>
          open it there
        </Link>
      </h3>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by the keyboard */}
      <section className="excerpt" tabIndex={0} aria-label="Lines of the log">
        {excerpt.lines.map((line, index) => {
          const number = excerpt.first + index;
          return (
            <div key={number} className={`line ${number === excerpt.error ? 'marked' : ''}`}>
              <Link className="n num" to={at(number)} tabIndex={-1}>
                {number === excerpt.error && <Shape state="failed" label />}
                {number + 1}
              </Link>
              <span className="x">
                {parts(line).map((part, place) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: the parts of a line never change their order
                  <span key={place} className={part.look || undefined}>
                    {part.text}
                  </span>
                ))}
              </span>
            </div>
          );
        })}
      </section>
    </section>
  );
}
