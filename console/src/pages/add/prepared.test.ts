import { expect, test } from 'vitest';
import { asked, forges, type Look, nameOf, nothing, pollOf, project, review, wayOf } from './prepared';

test('an address says how it is reached and what the project is called', () => {
  const all = [
    ['https://git.example/tide/Gauge.git', 'http', 'gauge'],
    ['git@git.example:tide/gauge.git', 'ssh', 'gauge'],
    ['ssh://git@git.example:2222/tide/north pier/', 'ssh', 'north-pier'],
    ['/srv/git/almanac.git', 'disk', 'almanac'],
    ['git.example:almanac', 'ssh', 'almanac'],
    ['almanac', undefined, 'almanac'],
    ['https://', undefined, ''],
  ] as const;
  for (const [git, way, name] of all) expect([wayOf(git), nameOf(git)]).toEqual([way, name]);
  expect(forges([{ name: 'beacon' }, { name: 'plain' }])).toEqual(['plain', 'beacon']);
  expect(nameOf(`/srv/${'x'.repeat(100)}`)).toHaveLength(64);
});

test('what is asked and what is made say no more than was said', () => {
  const said = { ...nothing, git: ' https://git.example/tide/gauge.git', user: 'reader' };
  expect(asked(said, undefined)).toEqual({
    look: undefined,
    name: 'gauge',
    git_url: 'https://git.example/tide/gauge.git',
    login: undefined,
    profile: 'plain',
  });
  const all = {
    ...said,
    name: 'tidegauge',
    password: 'high water',
    profile: 'beacon',
    forgeUrl: 'https://git.example',
  };
  const look = { look: 'l1', found: { main_branch: 'main', pipelines: [] } } as unknown as Look;
  expect(project(all, look)).toEqual({
    name: 'tidegauge',
    git_url: 'https://git.example/tide/gauge.git',
    login: { user: 'reader', password: 'high water' },
    forge: { profile: 'beacon', url: 'https://git.example', repository: 'tidegauge', token: undefined },
    look: 'l1',
  });
  expect(project(said, undefined).forge).toBeUndefined();
  expect([pollOf('usual'), pollOf('minute'), pollOf('never')]).toEqual([null, 60_000, 0]);
  const lines = Object.fromEntries(review(all, look));
  expect(lines.Read).toBe('as reader, with the password that was given');
  expect(Object.values(lines).join()).not.toContain('high water');
  expect(lines.Pipelines).toContain('none yet');
});
