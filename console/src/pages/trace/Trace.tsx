// From a thing to where it comes from and where it is: commit, run, artifact, releases, environments.
import { useQuery } from '@tanstack/react-query';
import { Input } from 'antd';
import { Link, useSearchParams } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { When } from '../../parts/When';

type Chain = Schemas['TraceChain'];

export default function Trace() {
  const [params, setParams] = useSearchParams();
  const thing = params.get('thing') ?? '';
  const { data, error } = useQuery({
    queryKey: ['trace', thing],
    queryFn: () => answered(api.GET('/api/v1/trace', { params: { query: { thing } } })),
    enabled: thing !== '',
    retry: false,
  });
  return (
    <>
      <h1>Trace</h1>
      <Input.Search
        key={thing}
        className="long-field"
        aria-label="What to trace"
        placeholder="a commit, sha256:…, PROJECT/ENVIRONMENT, PROJECT/VERSION, PROJECT/NUMBER"
        defaultValue={thing}
        enterButton="Trace"
        onSearch={(text) => setParams(text.trim() ? { thing: text.trim() } : {})}
      />
      {error && <Trouble error={error} />}
      {!thing && (
        <p className="empty">
          Say what you have, and this says what it is made from and where it is now. A file on your disk is known by
          what <code>sha256sum</code> prints for it.
        </p>
      )}
      {data && (
        <>
          <p>
            <b>{data.sentence}</b>
          </p>
          <table className="sheet trace">
            <thead>
              <tr>
                <th>commit</th>
                <th>run</th>
                <th>artifact</th>
                <th>released in</th>
                <th>put into</th>
              </tr>
            </thead>
            <tbody>
              {data.chains.map((chain) => (
                <Row key={`${chain.run} ${chain.job} ${chain.artifact} ${chain.path}`} chain={chain} />
              ))}
            </tbody>
          </table>
          {data.more && <p className="soft">There are more than are listed.</p>}
        </>
      )}
    </>
  );
}

function Row({ chain }: { chain: Chain }) {
  return (
    <tr>
      <td>
        <Link className="code" to={`/trace?thing=${chain.commit}`}>
          {chain.commit.slice(0, 8)}
        </Link>{' '}
        {chain.reference.replace('tag:', 'tag ').replace('proposal:', 'proposal ')}
        <div>{chain.title}</div>
        <div className="soft">by {chain.author}</div>
      </td>
      <td>
        <Link to={`/runs/${chain.run}${chain.job ? `/${chain.job}` : ''}`}>{chain.run}</Link>
        <div className={`s-${chain.state}`}>{chain.state}</div>
        <div className="soft">
          <When at={chain.at} />
        </div>
      </td>
      <td>
        {chain.artifact && (
          <>
            {chain.job}/{chain.artifact}
            {chain.path && <div className="code">{chain.path}</div>}
            <div className="code soft">{chain.digest?.slice(0, 23)}</div>
            <div className="soft">
              {chain.signed ? 'signed' : 'nothing is signed yet'}
              {!chain.kept && ', swept away'}
            </div>
            {chain.published.map((address) => (
              <div key={address} className="soft">
                published to {address}
              </div>
            ))}
          </>
        )}
      </td>
      <td>
        {chain.releases.map((one) => (
          <div key={one.version}>
            <Link to={`/projects/${chain.project}/releases/${one.version}`}>{one.version}</Link>{' '}
            <span className="soft">{one.state}</span>
          </div>
        ))}
      </td>
      <td>
        {chain.stays.map((stay) => (
          <div key={`${stay.environment} ${stay.number}`} className={stay.until ? 'soft' : undefined}>
            <Link to={`/projects/${stay.project}/environments/${stay.environment}`}>{stay.environment}</Link>{' '}
            {stay.until ? `${exact(stay.since)} to ${exact(stay.until)}` : `since ${exact(stay.since)}`}
            <div className="soft">by {stay.run}</div>
          </div>
        ))}
      </td>
    </tr>
  );
}
