// Doing something and saying how it went: every list of this page asks again for what it shows afterwards.
import { useState } from 'react';
import { done, queries } from '../../api/client';

type Call<T> = Promise<{ data?: T; error?: unknown; response: Response }>;

/** What was said last, and a function that does a call, says how it went, and asks again for lists under these keys. */
export function useAct(keys: string[]) {
  const [told, setTold] = useState<{ words: string; wrong: boolean }>();
  const act = async <T>(call: Call<T>, words: string): Promise<T | undefined> => {
    try {
      const answer = await done(call);
      setTold({ words, wrong: false });
      for (const key of keys) queries.invalidateQueries({ queryKey: [key] });
      return answer;
    } catch (error) {
      setTold({ words: error instanceof Error ? error.message : 'the service could not be reached', wrong: true });
      return undefined;
    }
  };
  return { told, act };
}
