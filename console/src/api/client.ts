// The typed client, made from the service's own description.
import { QueryClient, useQuery } from '@tanstack/react-query';
import createClient from 'openapi-fetch';
import type { components, paths } from './schema';

export type Schemas = components['schemas'];
export type RunView = Schemas['RunView'];
export type JobView = Schemas['JobView'];
export type PhaseView = Schemas['PhaseView'];
export type PlanView = Schemas['PlanView'];
export type BoardLine = Schemas['BoardLine'];

export const api = createClient<paths>({ baseUrl: '' });

/** What the service said is wrong, in its own words. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

/** Unwraps an answer; a refusal becomes an error that pages can show. */
export async function answered<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await call;
  if (data !== undefined) return data;
  const detail = (error as { detail?: string } | undefined)?.detail;
  throw new Refused(response.status, detail ?? `the service answered ${response.status}`);
}

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 10_000,
      retry: (count, error) => count < 3 && !(error instanceof Refused && error.status < 500),
    },
  },
});

/** Who is signed in, and what they may. */
export function useMe() {
  return useQuery({ queryKey: ['me'], queryFn: () => answered(api.GET('/api/v1/me')) });
}

/** Waits for something to be done, whether it answers anything or not; a refusal becomes an error. */
export async function done<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T | undefined> {
  const { response, data } = await call;
  return response.ok ? data : answered(call);
}

type Role = Schemas['Role'];
const roles: Role[] = ['reader', 'operator', 'editor', 'owner'];

/** Whether whoever is signed in holds at least this role, on the service or on the project. The service decides in any case. */
export function useMay(least: Role, project?: string): boolean {
  const { data } = useMe();
  const held = [data?.role, project ? data?.projects[project] : undefined];
  return held.some((role) => role != null && roles.indexOf(role) >= roles.indexOf(least));
}
