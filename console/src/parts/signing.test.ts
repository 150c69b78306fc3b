import { expect, test } from 'vitest';
import { pageOf, signInFor } from './signing';

const HERE = 'https://farm.example';

test('the sign-in page leads back to any page of the console', () => {
  for (const page of ['/runs/tidegauge/4', '/runs/a/1/test.unit%5BO2%5D?view=graph&find=a%26b', '/people?view=yours']) {
    const address = new URL(signInFor(page), HERE);
    expect(pageOf(address.searchParams.get('to'), HERE)).toBe(page);
  }
  expect(signInFor('/')).toBe('/sign-in');
});

test('it leads to no other place, whatever its address says', () => {
  const others = [
    null,
    '',
    'runs',
    'https://evil.example/',
    '//evil.example/runs',
    '///evil.example',
    '/\\evil.example',
    '/\t/evil.example',
    '/.//evil.example',
    'javascript:alert(1)',
    '/sign-in',
    '/sign-in?to=/sign-in',
  ];
  for (const to of others) expect(pageOf(to, HERE), String(to)).toBeUndefined();
});
