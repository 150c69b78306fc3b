// Everybody; owners add and remove persons, say how they are reached and known, and make links that sign them in.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { answered, api, done, type Schemas } from '../../api/client';
import { Act } from '../../parts/Act';
import { ACTS, Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { useSearchWords } from '../../parts/useSearchWords';

type Person = Schemas['PersonView'];

/** Whether all the words stand in what the list says of a person. */
function fits(one: Person, words: string): boolean {
  const said = [one.name, one.mail, one.role, ...one.groups.map((group) => `@${group}`)].join(' ').toLowerCase();
  return words
    .toLowerCase()
    .split(/\s+/)
    .every((word) => said.includes(word));
}

const of = (name: string) => ({ params: { path: { name } } });
const remove = (name: string) => done(api.DELETE('/api/v1/persons/{name}', of(name)));
const setMail = (name: string, mail: string | null | undefined) =>
  done(api.PUT('/api/v1/persons/{name}', { ...of(name), body: { mail: mail || undefined } }));
const know = (name: string, body: Schemas['Identity']) =>
  done(api.PUT('/api/v1/persons/{name}/identities', { ...of(name), body }));
const forget = (name: string, body: Schemas['Identity']) =>
  done(api.DELETE('/api/v1/persons/{name}/identities', { ...of(name), body }));

export function Persons({ owner }: { owner: boolean }) {
  const { data, error } = useQuery({ queryKey: ['persons'], queryFn: () => answered(api.GET('/api/v1/persons')) });
  const [find, setFind] = useSearchWords('find');
  const [link, setLink] = useState<{ name: string; url: string }>();
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const shown = data.filter((one) => fits(one, find));
  return (
    <>
      <div className="people-line">
        <input
          className="field w-240"
          type="search"
          aria-label="Filter persons"
          placeholder="filter: a name, @group, mail"
          value={find}
          onChange={(event) => setFind(event.target.value)}
        />
        {owner && <Add />}
      </div>
      {link && (
        <p className="shown-once">
          Give this to {link.name} alone; it is good once, for ten minutes: <code>{link.url}</code>
        </p>
      )}
      <Sheet heads={['person', 'role on the service', 'groups', 'mail', 'known as', ...(owner ? [ACTS] : [])]}>
        {shown.map((one) => (
          <tr key={one.name}>
            <td>{one.name}</td>
            <td>{one.role ?? <span className="soft">none</span>}</td>
            <td>{one.groups.map((group) => `@${group}`).join(' ')}</td>
            <td>{one.mail}</td>
            <td>
              <Known one={one} owner={owner} />
            </td>
            {owner && (
              <td className="acts">
                <Change one={one} onLink={(url) => setLink({ name: one.name, url })} />
              </td>
            )}
          </tr>
        ))}
      </Sheet>
      {shown.length === 0 && <p className="empty">Nobody has “{find}” in their line.</p>}
    </>
  );
}

function Add() {
  return (
    <Act
      name="Add a person"
      says="They can be given roles at once, and sign in with a link that you make for them or by a provider that knows them."
      fields={[
        { key: 'name', label: 'Name', needed: true, placeholder: 'maren' },
        { key: 'mail', label: 'Mail, where there is one', placeholder: 'maren@saltmarsh.example' },
      ]}
      act={async ({ name = '', mail }) => {
        const plain = name.trim();
        await done(api.POST('/api/v1/persons', { body: { name: plain, mail: mail?.trim() || undefined } }));
        return { words: `${plain} is added.`, undo: () => remove(plain) };
      }}
    />
  );
}

/** How a person is known to providers and forges. */
function Known({ one, owner }: { one: Person; owner: boolean }) {
  return one.identities?.map((known) => (
    <div key={`${known.issuer} ${known.subject}`}>
      <span className="soft">
        {known.subject} of {known.issuer}
      </span>
      {owner && (
        <Act
          name="Take away"
          label={`Take away ${known.subject} of ${known.issuer}`}
          plain
          atOnce
          says={`${one.name} cannot sign in as ${known.subject} of ${known.issuer} any more; sessions that there are go on.`}
          act={async () => {
            await forget(one.name, known);
            const words = `${one.name} is not known as ${known.subject} of ${known.issuer} any more.`;
            return { words, undo: () => know(one.name, known) };
          }}
        />
      )}
    </div>
  ));
}

function Change({ one, onLink }: { one: Person; onLink: (url: string) => void }) {
  return (
    <>
      <Act
        name="Mail"
        label={`Mail of ${one.name}`}
        plain
        says={`What ${one.name} is told goes there; without one they are told nothing by mail.`}
        fields={[{ key: 'mail', label: 'Mail', is: one.mail ?? '' }]}
        act={async ({ mail }) => {
          await setMail(one.name, mail?.trim());
          return { words: `The mail of ${one.name} is changed.`, undo: () => setMail(one.name, one.mail) };
        }}
      />
      <Act
        name="Known elsewhere"
        label={`Known elsewhere: ${one.name}`}
        plain
        says={`Who is this subject there is ${one.name} here: they sign in by it, and what they do there counts as theirs.`}
        fields={[
          { key: 'issuer', label: 'Where', needed: true, placeholder: 'the issuer of a provider, or a forge' },
          { key: 'subject', label: 'As whom', needed: true, placeholder: 'the subject, or the login' },
        ]}
        act={async ({ issuer = '', subject = '' }) => {
          const known = { issuer: issuer.trim(), subject: subject.trim() };
          await know(one.name, known);
          const words = `${one.name} is known as ${known.subject} of ${known.issuer}.`;
          return { words, undo: () => forget(one.name, known) };
        }}
      />
      <Act
        name="Sign-in link"
        label={`Sign-in link for ${one.name}`}
        plain
        says={`Whoever opens it within ten minutes, once, is signed in as ${one.name}.`}
        act={async () => {
          onLink((await answered(api.POST('/api/v1/persons/{name}/sign-in-links', of(one.name)))).url);
          return { words: `A link for ${one.name} stands above the list.` };
        }}
      />
      <Act
        name="Remove"
        label={`Remove ${one.name}`}
        plain
        says={`Tokens and sessions of ${one.name} end at once, roles and places in groups go; the journal keeps what they did. It cannot be taken back.`}
        act={async () => {
          await remove(one.name);
          return { words: `${one.name} is removed.` };
        }}
      />
    </>
  );
}
