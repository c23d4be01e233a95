import { useState } from 'react'
import { answer, api, type Revision, type Shot, type Task } from '../api/client'
import { isOpen, useTasks } from '../api/tasks'
import { Button } from '../ui/controls'
import { Progress } from '../ui/progress'
import { notify } from '../ui/notice'
import { Sheet } from '../ui/sheet'

const words: Record<Task['state'], string> = { waiting: 'Waiting', running: 'Running', done: 'Done', failed: 'Failed', cancelled: 'Cancelled' }

/** Rendering the clean frames, and what was rendered before. */
export function RenderRoom({ shot, revision }: { shot: Shot; revision: Revision }) {
  const [open, setOpen] = useState(false)
  const renders = useTasks(shot.id).filter((t) => t.kind === 'render')
  const busy = renders.find(isOpen)
  const begin = () => void answer(api.POST('/api/shots/{id}/render', { params: { path: { id: shot.id } } })).catch((e: Error) => notify(e.message))
  return (
    <>
      <Button title="Render the clean frames" onClick={() => setOpen(true)}>{busy ? `Rendering, ${busy.done} of ${busy.total}` : 'Render…'}</Button>
      <Sheet title={`Render ${shot.name}`} open={open} onClose={() => setOpen(false)}>
        <p className="mb-3">
          {shot.last - shot.first + 1} frames as {shot.depth} bit PNG, numbered {shot.first} to {shot.last}, and an H.264 review movie. Pixels that no patch touches keep the plate’s own code values.
        </p>
        <div className="mb-4 flex items-center gap-3">
          <Button weight="main" onClick={begin}>Render revision {revision.number}</Button>
          <a className="rounded text-fern underline underline-offset-2" href={`/api/shots/${shot.id}/treatment/export`} download>Save the treatment as a file</a>
        </div>
        <ul className="flex flex-col gap-2">
          {renders.map((t) => (
            <li key={t.id} className="rounded border border-rule bg-soil px-3 py-2">
              <div className="flex items-baseline justify-between">
                <span>{t.title}</span>
                <span className="text-[13px] text-quiet">{words[t.state]}</span>
              </div>
              {isOpen(t) && (
                <div className="mt-1 flex items-center gap-3">
                  <Progress label="Frames rendered" done={t.done} total={t.total} />
                  <span className="font-mono text-[13px]">{t.done} of {t.total}, {t.rate.toFixed(1)} frames/s</span>
                  <Button weight="bare" className="py-0!" onClick={() => void answer(api.POST('/api/tasks/{id}/cancel', { params: { path: { id: t.id } } })).catch((e: Error) => notify(e.message))}>Cancel</Button>
                </div>
              )}
              {t.problem && <p className="text-[13px] text-clay">{t.problem}</p>}
              {t.state === 'done' && (
                <p className="mt-1 flex gap-4">
                  <a className="rounded text-fern underline underline-offset-2" href={`/api/renders/${t.id}/frames`} download>Frames (zip)</a>
                  <a className="rounded text-fern underline underline-offset-2" href={`/api/renders/${t.id}/movie`} download>Review movie</a>
                  <span className="text-[13px] text-quiet">{t.rate.toFixed(1)} frames/s</span>
                </p>
              )}
            </li>
          ))}
        </ul>
      </Sheet>
    </>
  )
}
