// The badge of a project, and what shows it in a README.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { answered, api } from '../../api/client';
import { Copy } from '../../parts/Copy';
import { Trouble } from '../../parts/Trouble';
import type { Of } from './of';

export default function Badge({ project }: Of) {
  const [branch, setBranch] = useState('');
  const [pipeline, setPipeline] = useState('');
  const { data, error } = useQuery({
    queryKey: ['badge', project, branch, pipeline],
    placeholderData: (last) => last,
    queryFn: () =>
      answered(
        api.GET('/api/v1/projects/{name}/badge', {
          params: {
            path: { name: project },
            query: { branch: branch.trim() || undefined, pipeline: pipeline.trim() || undefined },
          },
        }),
      ),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <dl className="told">
      <dt>It looks like this</dt>
      <dd>
        <img src={new URL(data.address).pathname + new URL(data.address).search} alt={`The badge of ${project}`} />
      </dd>
      <dt>
        <label htmlFor="badge-branch">Branch</label>
      </dt>
      <dd>
        <input
          id="badge-branch"
          className="field"
          placeholder="the main one"
          value={branch}
          onChange={(event) => setBranch(event.target.value)}
        />
      </dd>
      <dt>
        <label htmlFor="badge-pipeline">Pipeline</label>
      </dt>
      <dd>
        <input
          id="badge-pipeline"
          className="field"
          placeholder="all together"
          value={pipeline}
          onChange={(event) => setPipeline(event.target.value)}
        />
      </dd>
      {(
        [
          ['Address', data.address],
          ['Markdown', data.markdown],
          ['reStructuredText', data.restructured_text.replaceAll('\n', '\\n')],
          ['AsciiDoc', data.asciidoc],
          ['HTML', data.html],
        ] as const
      ).map(([word, is]) => (
        <div key={word}>
          <dt>{word}</dt>
          <dd>
            <Copy label={word} is={is} />
          </dd>
        </div>
      ))}
    </dl>
  );
}
