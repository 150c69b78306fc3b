// A project as it is set.
import { useQuery } from '@tanstack/react-query';
import { answered, api } from '../../api/client';

export function useProject(project: string) {
  return useQuery({
    queryKey: ['project', project],
    queryFn: () => answered(api.GET('/api/v1/projects/{name}', { params: { path: { name: project } } })),
  });
}
