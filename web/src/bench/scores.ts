import { useQuery } from '@tanstack/react-query'
import { answer, api } from '../api/client'

/** How fit each frame is to be a removal's reference frame, if that was asked for. */
export function useScores(shot: string, removal: string | null) {
  return useQuery({
    queryKey: ['scores', shot, removal],
    queryFn: () =>
      answer(api.GET('/api/shots/{id}/scores/{removal}', { params: { path: { id: shot, removal: removal! } } })),
    enabled: !!removal,
  })
}
