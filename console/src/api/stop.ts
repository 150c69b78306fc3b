// Stopping a run: what takes back that one was begun.
import { api, done } from './client';

/** `tidegauge/12` */
export function stopRun(run: string) {
  const [project = '', number] = run.split('/');
  const params = { path: { project, number: Number(number) } };
  return done(api.POST('/api/v1/runs/{project}/{number}/stop', { params, body: {} }));
}
