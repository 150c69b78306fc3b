// Persons, groups, roles; and one's own tokens and sessions, or for owners everybody's.
import { Link, useSearchParams } from 'react-router';
import { useMe } from '../../api/client';
import { Groups } from './Groups';
import { Persons } from './Persons';
import { Roles } from './Roles';
import { Sessions } from './Sessions';
import { Tokens } from './Tokens';
import './people.css';

const views = [
  ['persons', 'Persons'],
  ['groups', 'Groups'],
  ['roles', 'Roles'],
  ['yours', 'Your tokens and sessions'],
  ['everybody', 'All tokens and sessions'],
] as const;

export default function People() {
  const [search] = useSearchParams();
  const { data: me } = useMe();
  const owner = me?.role === 'owner';
  const at = views.find(([key]) => key === search.get('view'))?.[0] ?? 'persons';
  return (
    <>
      <div className="bar title">
        <h1>People</h1>
        <nav className="words" aria-label="Views">
          {views
            .filter(([key]) => owner || key !== 'everybody')
            .map(([key, word]) => (
              <Link key={key} to={`/people?view=${key}`} aria-current={key === at ? 'page' : undefined}>
                {word}
              </Link>
            ))}
          <Link to="/notices">Your notices</Link>
        </nav>
      </div>
      {at === 'persons' && <Persons owner={owner} />}
      {at === 'groups' && <Groups owner={owner} />}
      {at === 'roles' && <Roles owner={owner} />}
      {at === 'yours' && (
        <>
          <Tokens all={false} />
          <Sessions all={false} />
        </>
      )}
      {at === 'everybody' && (
        <>
          <Tokens all={true} />
          <Sessions all={true} />
        </>
      )}
    </>
  );
}
