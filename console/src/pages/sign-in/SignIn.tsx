// Signing in: with a token, at a provider, or by itself: with the one-use code of a sign-in link (after `#`, which no
// server sees), or with what a provider sent this browser back with.
import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { useNavigate } from 'react-router';
import { answered, api, queries, type Schemas } from '../../api/client';
import { Mark } from '../../parts/Mark';
import { forget, want, wanted } from '../../parts/signing';

export default function SignIn() {
  const navigate = useNavigate();
  const [token, setToken] = useState('');
  const [wrong, setWrong] = useState('');
  const [to, setTo] = useState<string>();
  const tried = useRef('');
  const { data: ways } = useQuery({
    queryKey: ['ways'],
    queryFn: () => answered(api.GET('/api/v1/sign-in')),
  });
  const enter = async (ask: Schemas['NewSession']) => {
    try {
      await answered(api.POST('/api/v1/session', { body: ask }));
      queries.clear();
      const to = wanted() ?? '/';
      forget();
      navigate(to, { replace: true });
    } catch (error) {
      setWrong(error instanceof Error ? error.message : 'the service could not be reached');
    }
  };
  // biome-ignore lint/correctness/useExhaustiveDependencies: a code works once, so each is tried once
  useEffect(() => {
    want(window.location);
    setTo(wanted());
    const use = () => {
      const code = window.location.hash.slice(1);
      if (!code || tried.current === code) return;
      tried.current = code;
      window.history.replaceState(null, '', '/sign-in');
      enter({ code });
    };
    const back = new URLSearchParams(window.location.search);
    const [code, state] = [back.get('code'), back.get('state')];
    if (code && state && tried.current !== code) {
      tried.current = code;
      window.history.replaceState(null, '', '/sign-in');
      enter({ provider: { code, state } });
    } else if (back.get('error')) {
      setWrong(`the provider answered: ${back.get('error_description') ?? back.get('error')}`);
    }
    use();
    window.addEventListener('hashchange', use);
    return () => window.removeEventListener('hashchange', use);
  }, []);
  return (
    <main className="sign-in">
      <Mark />
      <h1>Sign in to Ordotaxis</h1>
      {to && (
        <p className="soft">
          Then it goes on to <span className="code">{to}</span>
        </p>
      )}
      <form
        onSubmit={(event) => {
          event.preventDefault();
          enter({ token });
        }}
      >
        <label htmlFor="token">Your token</label>
        <input
          id="token"
          className="field"
          type="password"
          autoComplete="current-password"
          // biome-ignore lint/a11y/noAutofocus: the page is this field
          autoFocus
          value={token}
          onChange={(event) => setToken(event.target.value)}
        />
        {wrong && (
          <div className="notice" role="alert">
            {wrong}
          </div>
        )}
        <button type="submit" className="act main" disabled={!token.trim()}>
          Sign in
        </button>
        {ways?.url && (
          <a className="act" href={ways.url}>
            Sign in with {ways.provider}
          </a>
        )}
        <span className="soft">
          <code>ordotaxis sign-in --link</code> prints a link that signs this browser in.
        </span>
      </form>
    </main>
  );
}
