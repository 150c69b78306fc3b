// Repositories that a forge has: chosen from, in place of typing an address.
import { useQuery } from '@tanstack/react-query';
import { Button } from 'antd';
import { useState } from 'react';
import { answered, api, type Schemas } from '../../api/client';
import { wordsOf } from '../../parts/said';
import { forges, type Prepared } from './prepared';

export function Find({ said, put }: { said: Prepared; put: (change: Partial<Prepared>) => void }) {
  const [open, setOpen] = useState(false);
  const { data: profiles } = useQuery({
    queryKey: ['profiles'],
    enabled: open,
    queryFn: () => answered(api.GET('/api/v1/profiles')),
  });
  const [found, setFound] = useState<Schemas['FoundRepository'][]>();
  const [wrong, setWrong] = useState<string>();
  const look = async () => {
    setWrong(undefined);
    try {
      const body = { profile: said.profile, url: said.forgeUrl.trim(), token: said.token || undefined };
      setFound(await answered(api.POST('/api/v1/repositories', { body })));
    } catch (error) {
      setWrong(wordsOf(error));
    }
  };
  return (
    <details onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary>Or find it at a forge</summary>
      <div className="add-find">
        <select
          className="field"
          aria-label="The forge's kind"
          value={said.profile}
          onChange={(event) => put({ profile: event.target.value })}
        >
          {forges(profiles).map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
        <input
          className="field"
          aria-label="The forge's address"
          placeholder="https://git.example"
          value={said.forgeUrl}
          onChange={(event) => put({ forgeUrl: event.target.value })}
        />
        <input
          className="field"
          type="password"
          autoComplete="new-password"
          aria-label="A token for it"
          placeholder="token"
          value={said.token}
          onChange={(event) => put({ token: event.target.value })}
        />
        <Button onClick={() => void look()} disabled={!said.forgeUrl}>
          List
        </Button>
      </div>
      {wrong && (
        <p className="s-failed" role="alert">
          {wrong}
        </p>
      )}
      {found?.length === 0 && <p className="soft">It has no repository that this token opens.</p>}
      <ul className="plain add-found">
        {found?.map((one) => (
          <li key={one.repository}>
            {one.project ? (
              <span className="soft">
                {one.repository}: the project {one.project} already
              </span>
            ) : (
              <button
                type="button"
                className="link"
                aria-pressed={said.git === one.git_url}
                onClick={() => put({ git: one.git_url, repository: one.repository, name: '' })}
              >
                {one.repository}
              </button>
            )}
          </li>
        ))}
      </ul>
    </details>
  );
}
