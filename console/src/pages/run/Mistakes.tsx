// What is wrong with a run's pipeline file, shown in the file: the lines around each place, the place underlined, a hint,
// and the way to mend it in Draft with the cursor there.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { answered, api, type RunView, type Schemas } from '../../api/client';
import { around, type Line } from './mistakes';
import './mistakes.css';

type Diagnostic = Schemas['DiagnosticView'];

export function Mistakes({ run }: { run: RunView }) {
  const params = { path: { project: run.project, number: run.number } };
  const { data: file } = useQuery({
    queryKey: ['file', run.run],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => answered(api.GET('/api/v1/runs/{project}/{number}/file', { params })),
  });
  const all = run.diagnostics ?? [];
  return (
    <section className="mistakes" aria-label="What is wrong with the file">
      {all.map((one) => (
        <Mistake
          key={`${one.file}:${one.line}:${one.column}:${one.code}:${one.message}`}
          run={run}
          one={one}
          lines={file && one.file.startsWith(file.path) ? around(file.text, one) : []}
        />
      ))}
    </section>
  );
}

function Mistake({ run, one, lines }: { run: RunView; one: Diagnostic; lines: Line[] }) {
  return (
    <article>
      <header>
        <span className={one.severity === 'error' ? 's-failed' : 'soft'}>{one.severity}</span>
        <b>{one.message}</b>
        <span className="code soft">
          {one.file}:{one.line}:{one.column}
        </span>
        <span className="soft">{one.code}</span>
        <Link className="mend" to={draftAt(run, one)}>
          Mend in Draft
        </Link>
      </header>
      {lines.length > 0 && (
        // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by the keyboard
        <pre className="source-lines" tabIndex={0}>
          {lines.map((line) => (
            <div key={line.number} className={line.within ? 'within' : ''}>
              <span className="n num">{line.number}</span>
              <span>
                {line.before}
                {line.within && <mark>{line.within}</mark>}
                {line.after}
              </span>
            </div>
          ))}
        </pre>
      )}
      {one.hint && <p className="soft">{one.hint}</p>}
      {one.related.length > 0 && (
        <ul className="plain soft">
          {one.related.map((other) => (
            <li key={`${other.line}:${other.column} ${other.message}`}>
              {other.line}:{other.column} {other.message}
            </li>
          ))}
        </ul>
      )}
    </article>
  );
}

/** Draft with the file of the run's branch, and the cursor at the mistake. */
function draftAt(run: RunView, one: Diagnostic): string {
  const at = new URLSearchParams({ at: `${one.line}:${one.column}` });
  at.set('ref', run.branch ?? run.commit);
  return `/projects/${run.project}/draft/${run.pipeline}?${at}`;
}
