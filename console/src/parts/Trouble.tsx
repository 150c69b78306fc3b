// What a page shows when its question could not be answered. Who has to sign in first is led there, and back again.
import { Navigate, useLocation } from 'react-router';
import { Refused } from '../api/client';
import { signInFor } from './signing';

export function Trouble({ error }: { error: Error }) {
  const { pathname, search } = useLocation();
  if (error instanceof Refused && error.status === 401) return <Navigate to={signInFor(pathname + search)} replace />;
  return (
    <div className="notice" role="alert">
      {error.message}
    </div>
  );
}
