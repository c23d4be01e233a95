import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, api, type Schemas, type Shot, type Task } from '../api/client'
import { control, isOpen, stateWords, timeLeft, useTasks } from '../api/tasks'
import { Button } from '../ui/controls'
import { notify } from '../ui/notice'
import { Progress } from '../ui/progress'
import { Sheet } from '../ui/sheet'

/** Bytes for people. */
export function bytes(n: number) {
  for (const [unit, of] of [
    ['GB', 1e9],
    ['MB', 1e6],
    ['kB', 1e3],
  ] as const)
    if (n >= of) return `${(n / of).toFixed(n >= 100 * of ? 0 : 1)} ${unit}`
  return `${n} B`
}

/** All long work, and what fills memory and disk: from every screen. */
export function WorkRoom() {
  const [open, setOpen] = useState(false)
  const tasks = useTasks('')
  const busy = tasks.filter(isOpen)
  const now = busy.find((t) => t.state === 'running')
  return (
    <>
      <Button weight="bare" title="All long work, and what fills memory and disk" onClick={() => setOpen(true)}>
        {now
          ? `Work: ${Math.floor((100 * now.done) / Math.max(1, now.total))} %${busy.length > 1 ? `, ${busy.length - 1} more` : ''}`
          : busy.length
            ? `Work: ${busy.length} waiting`
            : 'Work'}
      </Button>
      <Sheet title="Work" open={open} onClose={() => setOpen(false)} wide>
        {open && <All tasks={tasks} />}
      </Sheet>
    </>
  )
}

function All({ tasks }: { tasks: Task[] }) {
  const shots = useQuery({ queryKey: ['shots'], queryFn: () => answer(api.GET('/api/shots')) })
  const named = new Map(((shots.data ?? []) as Shot[]).map((s) => [s.id, s.name]))
  const shown = [
    ...tasks.filter((t) => isOpen(t) || t.state === 'paused'),
    ...tasks.filter((t) => !isOpen(t) && t.state !== 'paused').slice(0, 12),
  ]
  return (
    <>
      <ul className="mb-5 flex max-h-80 flex-col gap-1.5 overflow-y-auto" aria-label="Long work">
        {shown.length === 0 && <li className="text-quiet">Nothing has been done yet.</li>}
        {shown.map((t) => (
          <Row key={t.id} task={t} shot={named.get(t.shotId) ?? ''} />
        ))}
      </ul>
      <Rooms />
    </>
  )
}

function Row({ task: t, shot }: { task: Task; shot: string }) {
  return (
    <li className="rounded border border-rule bg-soil px-3 py-1.5">
      <div className="flex items-center gap-2">
        <span className="min-w-0 flex-1 truncate">
          {t.title}
          {shot && !t.title.includes(shot) ? <span className="text-quiet"> · {shot}</span> : null}
        </span>
        <span className={`text-[13px] ${t.state === 'failed' ? 'text-clay' : 'text-quiet'}`}>
          {stateWords[t.state]}
        </span>
        {isOpen(t) && (
          <Button weight="bare" className="py-0!" onClick={() => control(t, 'pause')}>
            Pause
          </Button>
        )}
        {t.state === 'paused' && (
          <Button weight="bare" className="py-0!" onClick={() => control(t, 'continue')}>
            Go on
          </Button>
        )}
        {(t.state === 'failed' || t.state === 'cancelled') && (
          <Button weight="bare" className="py-0!" onClick={() => control(t, 'continue')}>
            Try again
          </Button>
        )}
        {(isOpen(t) || t.state === 'paused') && (
          <Button weight="bare" className="py-0!" onClick={() => control(t, 'cancel')}>
            Cancel
          </Button>
        )}
      </div>
      {(isOpen(t) || t.state === 'paused') && (
        <div className="mt-0.5 flex items-center gap-3">
          <Progress label={t.title} done={t.done} total={t.total} />
          <span className="font-mono text-[13px] text-quiet">
            {t.done} of {t.total}
            {t.rate > 0 ? `, ${t.rate.toFixed(1)} frames/s` : ''}
            {timeLeft(t) && `, ${timeLeft(t)}`}
          </span>
        </div>
      )}
      {t.found && <p className="text-[13px] break-words text-quiet">{t.found}</p>}
      {t.problem && (
        <p className={`text-[13px] break-words ${t.state === 'failed' ? 'text-clay' : 'text-quiet'}`}>{t.problem}</p>
      )}
    </li>
  )
}

type Filling = Schemas['Filling']

/** What fills memory and disk. */
function Rooms() {
  const queries = useQueryClient()
  const { data: u } = useQuery({
    queryKey: ['usage'],
    queryFn: () => answer(api.GET('/api/usage')),
    refetchInterval: 3000,
    staleTime: 0,
  })
  if (!u) return null
  const clear = (what: 'memory' | 'paint' | 'uploads' | 'render', id?: string) =>
    void answer(api.DELETE('/api/usage/{what}', { params: { path: { what }, query: id ? { id } : {} } }))
      .catch((e: Error) => notify(e.message))
      .finally(() => queries.invalidateQueries({ queryKey: ['usage'] }))
  const used = u.memory.reduce((n, f) => n + f.bytes, 0)
  const line = (f: Filling) => (
    <li key={f.what + (f.id ?? f.name)} className="flex h-6 items-center gap-2">
      <span className="min-w-0 flex-1 truncate" title={f.name}>
        {f.name}
      </span>
      <span className="font-mono text-[13px] text-quiet">
        {bytes(f.bytes)}
        {f.what === 'paint' ? ` of ${bytes(u.paintBudget)}` : ''}
      </span>
      <span className="w-14 text-right">
        {f.clear && f.bytes > 0 && (
          <Button
            weight="bare"
            className="py-0!"
            title={`Clear: ${f.name}`}
            onClick={() => clear(f.what as 'paint', f.id)}
          >
            Clear
          </Button>
        )}
      </span>
    </li>
  )
  return (
    <div className="grid grid-cols-2 gap-6">
      <section aria-label="Memory">
        <div className="mb-1 flex items-center gap-2 border-b border-rule pb-1">
          <h3 className="flex-1">Memory</h3>
          <span className="font-mono text-[13px] text-quiet">
            {bytes(used)} of {bytes(u.memoryBudget)}
          </span>
          <Button
            weight="bare"
            className="py-0!"
            title="Forget all that can be worked out again"
            onClick={() => clear('memory')}
          >
            Clear
          </Button>
        </div>
        <ul>{u.memory.map(line)}</ul>
        <p className="mt-1 text-[13px] text-quiet">What was used longest ago leaves when it is full.</p>
      </section>
      <section aria-label="Disk">
        <div className="mb-1 flex items-center gap-2 border-b border-rule pb-1">
          <h3 className="flex-1">Disk</h3>
          <span className="font-mono text-[13px] text-quiet">{bytes(u.diskFree)} free</span>
        </div>
        <ul className="max-h-56 overflow-y-auto">{u.disk.map(line)}</ul>
      </section>
    </div>
  )
}
