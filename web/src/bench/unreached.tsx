import { useState } from 'react'
import type { Removal } from '../api/client'
import { isOpen, useTasks } from '../api/tasks'
import { Button } from '../ui/controls'
import type { BenchProps } from './props'
import { bareOn, stages } from './stages'
import { StandsStill } from './stages/follow'
import { bench, useBench } from './state'

const box =
  '[&_button]:pointer-events-auto mx-auto flex w-fit max-w-[90%] items-center gap-2 rounded border bg-bed/95 px-3 py-1 text-[13px]'

/** Why the open removal's track ended where it did, or was not made: until it is followed anew, or that is put away. */
export function Stopped({ shot, motion }: BenchProps) {
  const { tool, stage } = useBench()
  const [away, setAway] = useState('')
  const task = useTasks(shot.id).find((t) => t.kind === 'track' && t.subject === motion?.track.id)
  const why =
    task && !isOpen(task) && task.id !== away && stage === 'follow' && tool !== 'region'
      ? task.problem || task.found
      : ''
  if (!motion || !task || !why) return null
  const at = /frame (\d+)/.exec(why)?.[1]
  return (
    <p role="status" className={`${box} border-clay`}>
      <span className="min-w-0">
        {motion.track.name}: {why}
      </span>
      {at && (
        <Button
          weight="bare"
          className="py-0! whitespace-nowrap"
          onClick={() => bench.set({ frame: Number(at), playing: false })}
        >
          Go to {at}
        </Button>
      )}
      <Button weight="bare" className="py-0!" aria-label="Put this away" onClick={() => setAway(task.id)}>
        Seen
      </Button>
    </p>
  )
}

/**
 * On a frame that a removal should change and no patch of it reaches: which, why, and where to mend it. As long as
 * nothing is said of how the surface moves, that is asked.
 */
export function Unreached(props: BenchProps) {
  const { revision, standings } = props
  const { frame, removal: open, view, playing, stage } = useBench()
  if (playing || view === 'plate') return null
  for (const r of revision.document.removals) {
    if ((open && r.id !== open) || !r.fill.sources.length) continue // before anything is painted that is no news
    if (r.id === open && stage === 'fill' && !r.follow.track) return <CameraMoves key={r.id} {...props} removal={r} />
    const bare = bareOn(standings.get(r.id), frame)
    if (!bare) continue
    return (
      <p role="status" className={`${box} border-stone`}>
        <span className="min-w-0">
          No patch of {r.name} here: {bare.why}.
        </span>
        <Button weight="bare" className="py-0! whitespace-nowrap" onClick={() => bench.open(r.id, bare.stage)}>
          Go to {stages.find((s) => s.id === bare.stage)?.name}
        </Button>
      </p>
    )
  }
  return null
}

function CameraMoves(props: BenchProps & { removal: Removal }) {
  return (
    <div role="group" aria-label="Does the camera move?" className={`${box} flex-wrap border-clay`}>
      <span className="min-w-0">Does the camera move? Until that is said, paint shows only on its own frame.</span>
      <StandsStill {...props} />
      <Button title="Follow the surface under the thing (2)" onClick={() => bench.open(props.removal.id, 'follow')}>
        It moves
      </Button>
    </div>
  )
}
