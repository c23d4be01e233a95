import { useQuery } from '@tanstack/react-query'
import { useMemo } from 'react'
import { answer, api, type Removal, type Sample } from '../api/client'
import { useLive } from '../api/live'
import { isOpen, useTasks } from '../api/tasks'

export interface Motion {
  samples: Map<number, Sample>
  /** From the reference frame to a frame, by rows; null where the surface was not followed. */
  at: (frame: number) => number[] | null
  /** The task that follows the surface now. */
  running: string | null
  /** What it has found so far that is not saved yet. */
  found: Map<number, number[]> | null
}

const none: Record<number, Sample> = {}

/** The track of a removal: what is saved, and what a running track has found so far. */
export function useMotion(shot: string, removal: Removal | null): Motion {
  const artifact = removal?.follow.track?.artifact ?? ''
  const { data, isPlaceholderData } = useQuery({
    queryKey: ['track', shot, removal?.id, artifact],
    queryFn: () => answer(api.GET('/api/shots/{id}/tracks/{removal}', { params: { path: { id: shot, removal: removal!.id } } })),
    enabled: !!removal && artifact !== '',
    // Until a newer track is here the older one stays.
    placeholderData: (old, query) => (query?.queryKey[2] === removal?.id ? old : undefined),
  })
  const last = useTasks(shot).find((t) => t.kind === 'track' && t.subject === removal?.id)
  const task = last && isOpen(last) ? last : undefined
  const live = useLive((s) => (last && (task || isPlaceholderData || !data) ? (s.samples[last.id] ?? none) : none))
  return useMemo(() => {
    const samples = new Map<number, Sample>()
    const known = artifact !== '' || task !== undefined
    if (artifact) for (const s of (data ?? []) as Sample[]) samples.set(s.frame, s)
    if (known) for (const s of Object.values(live)) samples.set(s.frame, s)
    return {
      samples,
      running: task?.id ?? null,
      found: task ? new Map(Object.values(live).map((s) => [s.frame, s.matrix])) : null,
      at: (frame) => samples.get(frame)?.matrix ?? (frame === removal?.reference ? [1, 0, 0, 0, 1, 0, 0, 0, 1] : null),
    }
  }, [data, live, artifact, task?.id, removal?.reference])
}
