// Everybody; owners add and remove persons, and make links that sign them in.

import { useQuery } from '@tanstack/react-query';
import { Button, Input, Popconfirm } from 'antd';
import { useState } from 'react';
import { answered, api, type Schemas } from '../../api/client';
import { ACTS, Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { useSearchWords } from '../../parts/useSearchWords';
import { useAct } from './act';
import { Told } from './Told';

/** Whether all the words stand in what the list says of a person. */
function fits(one: Schemas['PersonView'], words: string): boolean {
  const said = [one.name, one.mail, one.role, ...one.groups.map((group) => `@${group}`)].join(' ').toLowerCase();
  return words
    .toLowerCase()
    .split(/\s+/)
    .every((word) => said.includes(word));
}

export function Persons({ owner }: { owner: boolean }) {
  const { data, error } = useQuery({ queryKey: ['persons'], queryFn: () => answered(api.GET('/api/v1/persons')) });
  const { told, act } = useAct(['persons', 'groups', 'grants']);
  const [find, setFind] = useSearchWords('find');
  const [link, setLink] = useState<{ name: string; url: string }>();
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const shown = data.filter((one) => fits(one, find));
  const path = (name: string) => ({ params: { path: { name } } });
  const linkFor = async (name: string) => {
    const made = await act(api.POST('/api/v1/persons/{name}/sign-in-links', path(name)), `a link for ${name}`);
    if (made) setLink({ name, url: made.url });
  };
  return (
    <>
      {owner && (
        <Add add={(name, mail) => act(api.POST('/api/v1/persons', { body: { name, mail } }), `${name} is added`)} />
      )}
      <Told told={told} />
      <input
        className="field w-240"
        type="search"
        aria-label="Filter persons"
        placeholder="filter: a name, @group, mail"
        value={find}
        onChange={(event) => setFind(event.target.value)}
      />
      {link && (
        <p className="shown-once">
          Give this to {link.name} alone; it is good once, for ten minutes: <code>{link.url}</code>
        </p>
      )}
      <Sheet heads={['person', 'role on the service', 'groups', 'mail', 'known as', ACTS]}>
        {shown.map((one) => (
          <tr key={one.name}>
            <td>{one.name}</td>
            <td>{one.role ?? <span className="soft">none</span>}</td>
            <td>{one.groups.map((group) => `@${group}`).join(' ')}</td>
            <td>{one.mail}</td>
            <td className="soft">{one.identities?.map((known) => `${known.subject} of ${known.issuer}`).join(', ')}</td>
            <td className="acts">
              {owner && (
                <>
                  <Button size="small" type="text" onClick={() => linkFor(one.name)}>
                    Sign-in link
                  </Button>
                  <Popconfirm
                    title={`Remove ${one.name}? Tokens and sessions end at once.`}
                    okText="Remove"
                    onConfirm={() =>
                      act(api.DELETE('/api/v1/persons/{name}', path(one.name)), `${one.name} is removed`)
                    }
                  >
                    <Button size="small" type="text" aria-label={`Remove ${one.name}`}>
                      Remove
                    </Button>
                  </Popconfirm>
                </>
              )}
            </td>
          </tr>
        ))}
      </Sheet>
      {shown.length === 0 && <p className="empty">Nobody has “{find}” in their line.</p>}
    </>
  );
}

function Add({ add }: { add: (name: string, mail?: string) => Promise<unknown> }) {
  const [name, setName] = useState('');
  const [mail, setMail] = useState('');
  return (
    <form
      className="people-line"
      onSubmit={async (event) => {
        event.preventDefault();
        if (await add(name.trim(), mail.trim() || undefined)) {
          setName('');
          setMail('');
        }
      }}
    >
      <Input
        aria-label="Name"
        placeholder="name: maren"
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <Input
        aria-label="Mail"
        placeholder="mail, where there is one"
        value={mail}
        onChange={(event) => setMail(event.target.value)}
      />
      <Button htmlType="submit" disabled={!name.trim()}>
        Add a person
      </Button>
    </form>
  );
}
