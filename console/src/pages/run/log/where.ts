// Goes to lines by their address: what `:120` and a click on a number do.
import { useLocation, useNavigate } from 'react-router';
import { hashOf } from './chosen';

export function useGoToLines() {
  const navigate = useNavigate();
  const { pathname, search } = useLocation();
  return (first: number, last: number) =>
    navigate({ pathname, search, hash: hashOf(Math.min(first, last), Math.max(first, last)) }, { replace: true });
}
