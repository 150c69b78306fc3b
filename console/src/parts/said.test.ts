import { expect, test } from 'vitest';
import * as said from './said';
import { undo, wordsOf } from './said';

test('what was done is taken back once, and a refusal is told', async () => {
  const back: string[] = [];
  said.say({ words: 'Frozen.', undo: async () => back.push('thawed') });
  await undo();
  await undo();
  expect(back).toEqual(['thawed']);
  said.say({
    words: 'Frozen.',
    undo: async () => {
      throw new Error('it is not yours');
    },
  });
  await undo();
  await undo();
  expect(wordsOf(new Error('it is not yours'))).toBe('it is not yours');
  expect(wordsOf('?')).toBe('the service could not be reached');
});
