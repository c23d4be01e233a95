import { useQuery } from '@tanstack/react-query';
import { answer, api } from './client';
/** Long work, newest first: of one shot, or of all for an empty id. Live events keep it fresh. */
export function useTasks(shot) {
    const { data } = useQuery({
        queryKey: ['tasks'],
        queryFn: () => answer(api.GET('/api/tasks', { params: { query: {} } })),
    });
    const all = (data ?? []);
    return shot ? all.filter((t) => t.shotId === shot) : all;
}
export const isOpen = (t) => t.state === 'waiting' || t.state === 'running';
