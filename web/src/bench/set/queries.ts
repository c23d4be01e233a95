import { useQuery } from '@tanstack/react-query'
import { answer, api, Refusal, type Document, type Schemas } from '../../api/client'
import { confirmedOf, type Present } from '../../api/treatment'
import { ofMesh, type Mapping } from '../mapping'

export type Space = Schemas['Space']
export type OnFrame = Schemas['OnFrame']

/** What of a document the set hangs on. */
function essence(revision: Present) {
  const d = confirmedOf(revision)
  return JSON.stringify([d.camera?.data, d.camera?.world, d.lens?.k, d.lens?.centre, d.lens?.squeeze, cardsOf(d)])
}

const cardsOf = (d: Present['document']) => d.tracks.filter((t) => t.card).map((t) => [t.id, t.name, t.card])

const none = <T>(error: unknown): T | null => {
  if (error instanceof Refusal && error.status === 404) return null
  throw error
}

/** Where the camera was and what it saw; null as long as that is not known. */
export function useSpace(shot: string, revision: Present): Space | null {
  const known = !!confirmedOf(revision).camera?.data
  const { data } = useQuery({
    queryKey: ['space', shot, essence(revision)],
    queryFn: () =>
      answer(
        api.GET('/api/shots/{id}/camera', { params: { path: { id: shot }, query: { revision: revision.number } } }),
      ).catch(none<Space>),
    enabled: known,
    placeholderData: (old) => old,
  })
  return known ? (data ?? null) : null
}

/** Points and cards as they are seen on a frame, and what of the cards another frame, that is painted on, does not show well. */
export function useOnFrame(shot: string, revision: Present, frame: number, from: number): OnFrame | null {
  const known = !!confirmedOf(revision).camera?.data
  const { data } = useQuery({
    queryKey: ['on-frame', shot, frame, from, essence(revision)],
    queryFn: () =>
      answer(
        api.GET('/api/shots/{id}/camera/frames/{frame}', {
          params: { path: { id: shot, frame }, query: { revision: revision.number, from } },
        }),
      ).catch(none<OnFrame>),
    enabled: known,
    gcTime: 30_000,
    // Until it is worked out anew, what was there stays: handles do not go from under the hand.
    placeholderData: (old, before) => (before?.queryKey[1] === shot && before.queryKey[2] === frame ? old : undefined),
  })
  return known ? (data ?? null) : null
}

/** The shot's lens bends what is straight. */
export const bows = (d: Pick<Document, 'lens'>) => !!d.lens?.k.some((k) => k !== 0)

/** From the straight picture to the plate; null where the lens does nothing. */
export function useLens(shot: string, revision: Present): Mapping | null {
  const there = confirmedOf(revision)
  const { lens } = there
  const { data } = useQuery({
    queryKey: ['lens', shot, JSON.stringify([lens?.k, lens?.centre, lens?.squeeze])],
    queryFn: () =>
      answer(api.GET('/api/shots/{id}/lens', { params: { path: { id: shot }, query: { revision: revision.number } } })),
    enabled: bows(there),
  })
  return bows(there) && data?.mesh ? ofMesh(data.mesh) : null
}
