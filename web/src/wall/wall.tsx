import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'wouter'
import { answer, api, type Shot, type Task } from '../api/client'
import { useTasks } from '../api/tasks'
import { Button } from '../ui/controls'
import { Progress } from '../ui/progress'
import { notify } from '../ui/notice'
import { BringIn } from './bringin'
import { Leaf } from '../ui/leaf'

/** The shot wall: every show with its shots. */
export function Wall() {
  const shots = useQuery({ queryKey: ['shots'], queryFn: () => answer(api.GET('/api/shots')) })
  const tasks = useTasks('')
  const [open, setOpen] = useState(false)
  const shows = Map.groupBy((shots.data ?? []) as Shot[], (s) => s.show)
  return (
    <main className="mx-auto h-full max-w-6xl overflow-y-auto px-8 py-8">
      <header className="mb-8 flex items-center gap-3">
        <Leaf className="h-8 w-8" />
        <h1 className="text-2xl font-semibold">Jardin</h1>
        <span className="flex-1" />
        <Button weight="main" onClick={() => setOpen(true)}>Bring in a shot…</Button>
      </header>
      {shots.isError && <p className="text-clay">{shots.error.message}</p>}
      {shots.data?.length === 0 && (
        <p className="max-w-md text-quiet">There are no shots yet. Bring in a folder of numbered stills, or a movie, to begin.</p>
      )}
      {[...shows].map(([show, list]) => (
        <section key={show} className="mb-10">
          <h2 className="mb-3 border-b border-rule pb-1 text-quiet">{show}</h2>
          <ul className="grid grid-cols-[repeat(auto-fill,minmax(17rem,1fr))] gap-5">
            {list.map((s) => (
              <ShotCard key={s.id} shot={s} task={tasks.find((t) => t.shotId === s.id && t.kind === 'import' && t.state === 'running')} />
            ))}
          </ul>
        </section>
      ))}
      <BringIn open={open} onClose={() => setOpen(false)} shows={[...shows.keys()]} />
    </main>
  )
}

function ShotCard({ shot, task }: { shot: Shot; task?: Task }) {
  const remove = () => answer(api.DELETE('/api/shots/{id}', { params: { path: { id: shot.id } } })).catch((e: Error) => notify(e.message))
  const middle = Math.floor((shot.first + shot.last) / 2)
  const facts = (
    <>
      <span className="flex items-baseline justify-between">
        <span className="text-lg">{shot.name}</span>
        <span className="font-mono text-[13px] text-quiet">{shot.first} to {shot.last}</span>
      </span>
      <span className="block text-[13px] text-quiet">
        {shot.width} × {shot.height}, {shot.depth} bit, {Math.round((shot.rateNum / shot.rateDen) * 1000) / 1000} frames/s
      </span>
    </>
  )
  if (shot.state === 'ready') {
    return (
      <li>
        <Link href={`/shots/${shot.id}`} className="block overflow-hidden rounded-lg border border-rule bg-bed hover:border-fern">
          <img src={`/api/shots/${shot.id}/frames/${middle}/screen`} alt="" className="aspect-video w-full object-cover" />
          <span className="block px-3 py-2">{facts}</span>
        </Link>
      </li>
    )
  }
  return (
    <li className="rounded-lg border border-rule bg-bed px-3 py-2">
      {facts}
      {shot.state === 'failed' ? (
        <>
          <p className="my-2 text-clay">{shot.problem}</p>
          <Button onClick={() => void remove()}>Take off the wall</Button>
        </>
      ) : (
        <div className="my-2 flex items-center gap-3">
          <Progress label="Frames brought in" done={task?.done ?? 0} total={task?.total ?? 1} />
          <span className="font-mono text-[13px] text-quiet">{task ? `${task.done} of ${task.total}` : 'waiting'}</span>
          {task && (
            <Button weight="bare" onClick={() => void answer(api.POST('/api/tasks/{id}/cancel', { params: { path: { id: task.id } } })).catch((e: Error) => notify(e.message))}>
              Cancel
            </Button>
          )}
        </div>
      )}
    </li>
  )
}
