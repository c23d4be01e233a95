import { useQuery } from '@tanstack/react-query'
import { notify } from '../ui/notice'
import { answer, api, type Task } from './client'

/** Long work, newest first: of one shot, or of all for an empty id. Live events keep it fresh. */
export function useTasks(shot: string): Task[] {
  const { data } = useQuery({
    queryKey: ['tasks'],
    queryFn: () => answer(api.GET('/api/tasks', { params: { query: {} } })),
  })
  const all = (data ?? []) as Task[]
  return shot ? all.filter((t) => t.shotId === shot) : all
}

export const isOpen = (t: Task) => t.state === 'waiting' || t.state === 'running'

export const stateWords: Record<Task['state'], string> = {
  waiting: 'Waiting',
  running: 'Running',
  paused: 'Paused',
  done: 'Done',
  failed: 'Failed',
  cancelled: 'Cancelled',
}

/** Pauses long work, goes on with it or tries it again, or cancels it. */
export function control(t: Task, what: 'pause' | 'continue' | 'cancel') {
  const at = { params: { path: { id: t.id } } }
  const asked =
    what === 'pause'
      ? api.POST('/api/tasks/{id}/pause', at)
      : what === 'continue'
        ? api.POST('/api/tasks/{id}/continue', at)
        : api.POST('/api/tasks/{id}/cancel', at)
  void answer(asked).catch((e: Error) => notify(e.message))
}

/** How long running work will still take, in words; empty if that is not known. */
export function timeLeft(t: Task) {
  if (t.state !== 'running' || t.rate <= 0 || t.done < 2) return ''
  const s = Math.round((t.total - t.done) / t.rate)
  if (s < 60) return `${s} s left`
  return s < 3600
    ? `${Math.round(s / 60)} min left`
    : `${Math.floor(s / 3600)} h ${Math.round((s % 3600) / 60)} min left`
}
