import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { answer, api, type Revision, type Schemas } from '../api/client'
import type { Stage } from './state'

export type RemovalStanding = Schemas['Standing']
type StageStanding = Schemas['StageStanding']
export type Standing = StageStanding['state']

export const stages: { id: Stage; name: string; asks: string; key: string }[] = [
  { id: 'mark', name: 'Mark', asks: 'What goes?', key: '1' },
  { id: 'follow', name: 'Follow', asks: 'How does the surface move?', key: '2' },
  { id: 'fill', name: 'Fill', asks: 'Where do clean pixels come from?', key: '3' },
  { id: 'settle', name: 'Settle', asks: 'What makes them sit?', key: '4' },
  { id: 'guard', name: 'Guard', asks: 'What stays in front?', key: '5' },
]

export const standingWords: Record<Standing, string> = {
  empty: 'nothing yet',
  begun: 'begun',
  done: 'done',
  look: 'needs a look',
}

/** How far the removals are, by their identifiers; what was known last until it is known anew. */
export function useStandings(shot: string, revision: Revision): Map<string, RemovalStanding> {
  const { data } = useQuery({
    queryKey: ['standings', shot, revision.number],
    queryFn: ({ signal }) =>
      answer(
        api.GET('/api/shots/{id}/standings', {
          signal,
          params: { path: { id: shot }, query: { revision: revision.number } },
        }),
      ),
    select: byRemoval,
    placeholderData: keepPreviousData,
    gcTime: 60_000,
  })
  return data ?? none
}

const none = new Map<string, RemovalStanding>()
const byRemoval = (all: RemovalStanding[]) => new Map(all.map((s) => [s.removal, s]))

/** Names runs of frames: the first three of them. */
export function spansOf(frames: { first: number; last: number }[]): string {
  const named = frames.slice(0, 3).map((f) => (f.first === f.last ? `${f.first}` : `${f.first} to ${f.last}`))
  return named.join(', ') + (frames.length > 3 ? ' and others' : '')
}

/** What keeps a removal's patch from a frame, if something does. */
export function bareOn(s: RemovalStanding | undefined, frame: number) {
  return s?.bare.find((b) => b.frames.some((f) => f.first <= frame && frame <= f.last))
}
