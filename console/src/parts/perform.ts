// Does something and tells how it went: with the way back where there is one, and every page that is open asks again for
// what it shows.
import { queries } from '../api/client';
import { type Said, say, wordsOf } from './said';

/** Does it and says what was done; else in words why it was not, which nobody was told yet. */
export async function perform(act: () => Promise<Said>): Promise<string | undefined> {
  try {
    const said = await act();
    const { undo } = said;
    const back = async () => {
      await undo?.();
      void queries.invalidateQueries();
    };
    void queries.invalidateQueries();
    say({ ...said, undo: undo && back });
    return undefined;
  } catch (error) {
    return wordsOf(error);
  }
}

/** The same where nothing is open that could tell why it was not done: that is said below the page, too. */
export async function performOrTell(act: () => Promise<Said>): Promise<void> {
  const wrong = await perform(act);
  if (wrong) say({ words: wrong, wrong: true });
}
