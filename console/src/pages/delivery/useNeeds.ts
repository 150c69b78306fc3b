// What waits for whoever looks: asked once for all places of a page that show it.
import { useQuery } from '@tanstack/react-query';
import { answered, api } from '../../api/client';

export function useNeeds() {
  return useQuery({ queryKey: ['needs'], queryFn: () => answered(api.GET('/api/v1/needs')), refetchInterval: 5_000 });
}
