// A project's releases: what was made known, where each is now, and what could not be released.

import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { ProjectWords } from '../../parts/ProjectWords';
import { Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';

export type Release = Schemas['ReleaseView'];

export default function Releases() {
  const { project = '' } = useParams();
  const { data, error } = useQuery({
    queryKey: ['releases', project],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/releases', { params: { path: { project } } })),
    refetchInterval: 5_000,
  });
  return (
    <>
      <ProjectWords project={project} at="releases" />
      {error && <Trouble error={error} />}
      {data?.unmade.map((one) => (
        <p key={`${one.run} ${one.job}`} className="s-failed">
          <Link to={`/runs/${one.run}/${one.job}`}>
            {one.run} {one.job}
          </Link>{' '}
          passed and made no release: {one.why}
        </p>
      ))}
      {data?.releases.length === 0 && (
        <p className="empty">
          Nothing is released yet. A job makes a release once it has passed:{' '}
          <code>{'releases = { version = "{tag}", assets = ["pack.bundle/bundle"] }'}</code>
        </p>
      )}
      {data && data.releases.length > 0 && (
        <Sheet heads={['version', 'title', 'state', 'made', 'commit', 'by', 'in']}>
          {data.releases.map((one) => (
            <Row key={one.version} one={one} />
          ))}
        </Sheet>
      )}
    </>
  );
}

function Row({ one }: { one: Release }) {
  return (
    <tr>
      <td>
        <Link to={`/projects/${one.project}/releases/${one.version}`}>
          <b>{one.version}</b>
        </Link>
      </td>
      <td>{one.title !== one.version && one.title}</td>
      <td>
        <State one={one} />
      </td>
      <td className="num">
        <When at={one.made_at} />
      </td>
      <td>
        <span className="code">{one.commit.slice(0, 8)}</span>
        {one.tag_names && <div className="s-failed">tag {one.tag} names another commit now</div>}
      </td>
      <td>
        <Link to={`/runs/${one.run}/${one.job}`}>{one.run}</Link>
      </td>
      <td>{one.environments.join(', ') || <span className="soft">–</span>}</td>
    </tr>
  );
}

/** How far it is. */
export function State({ one }: { one: Release }) {
  if (one.state === 'draft') return <span className="s-gated">draft</span>;
  if (one.state === 'withdrawn')
    return (
      <span className="s-failed">
        withdrawn by {one.withdrawn_by}: {one.reason}
      </span>
    );
  return <span className="s-passed">published</span>;
}
