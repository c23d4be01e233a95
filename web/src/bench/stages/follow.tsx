import { useEffect, useRef } from 'react'
import type { Removal, Schemas } from '../../api/client'
import { answer, api } from '../../api/client'
import { useLive } from '../../api/live'
import { useTasks } from '../../api/tasks'
import { useEdit } from '../../api/treatment'
import { Select } from '../../ui/choice'
import { Button } from '../../ui/controls'
import { Progress } from '../../ui/progress'
import { notify } from '../../ui/notice'
import type { BenchProps } from '../props'
import { on } from '../edits'
import { bench, useBench } from '../state'

type MotionKind = Schemas['Follow']['motion']
type Direction = 'both' | 'forwards' | 'backwards'

/** Follow: the region whose motion carries the patch. */
export function FollowStage({ shot, revision, removal: r, motion }: BenchProps & { removal: Removal }) {
  const { edit } = useEdit(shot.id)
  const tool = useBench((s) => s.tool)
  const frame = useBench((s) => s.frame)
  const task = useTasks(shot.id).find((t) => t.kind === 'track' && t.subject === r.id)
  const running = motion.running !== null
  // The picture goes along with the track until the artist goes elsewhere.
  const latest = useLive((s) => (motion.running ? s.latest[motion.running] : undefined))
  const along = useRef<number | null>(null)
  useEffect(() => {
    if (latest === undefined || along.current !== bench.get().frame) return
    along.current = latest
    bench.set({ frame: latest })
  }, [latest])
  const follow = (direction: Direction) => {
    along.current = r.reference
    bench.set({ frame: r.reference, playing: false })
    void answer(api.POST('/api/shots/{id}/follow', { params: { path: { id: shot.id } }, body: { removal: r.id, direction } })).catch((e: Error) => notify(e.message))
  }
  const here = motion.samples.get(frame)
  const values = [...motion.samples.values()]
  const weakest = values.reduce((a, b) => ((b.match ?? 1) < (a.match ?? 1) ? b : a), values[0])
  const noRegion = r.follow.region.length < 3
  return (
    <>
      <Button
        on={tool === 'region'}
        title="Drag a box around a piece of the surface, on the reference frame (O)"
        onClick={() => bench.set(tool === 'region' ? { tool: 'look' } : { tool: 'region', frame: r.reference, playing: false })}
      >
        {tool === 'region' ? 'Drag a box on the picture' : noRegion ? 'Draw a region' : 'Draw the region anew'}
      </Button>
      {noRegion && <p className="text-[13px] text-quiet">A region is a piece of the one flat surface under the thing, with texture in it. It may hold the thing itself as long as that moves with the surface.</p>}
      <div className="grid grid-cols-[5.5rem_1fr] items-center gap-2">
        <span className="text-quiet">Motion</span>
        <Select<MotionKind>
          label="How much the surface may move"
          value={r.follow.motion}
          onChange={(m) => void edit('Motion', on(r.id, (d) => { d.follow.motion = m }))}
          options={[
            { value: 'position', label: 'Position', hint: 'shift only' },
            { value: 'similarity', label: '+ rotation and scale', hint: 'for a surface that stays square to the camera' },
            { value: 'perspective', label: '+ perspective', hint: 'for a plane seen by a moving camera' },
          ]}
        />
      </div>
      <div className="grid grid-cols-2 gap-1.5">
        <Button disabled={noRegion || running} weight="main" className="col-span-2" title="From the reference frame in both directions" onClick={() => follow('both')}>Follow both ways</Button>
        <Button disabled={noRegion || running} title={`From frame ${r.reference} back to ${r.range.first}`} onClick={() => follow('backwards')}>Backwards</Button>
        <Button disabled={noRegion || running} title={`From frame ${r.reference} on to ${r.range.last}`} onClick={() => follow('forwards')}>Forwards</Button>
      </div>
      {running && task && (
        <div className="flex items-center gap-2" role="status">
          <Progress label="Frames followed" done={task.done} total={task.total} />
          <span className="font-mono text-[13px]">{task.done} of {task.total}</span>
          <Button weight="bare" className="py-0!" onClick={() => void answer(api.POST('/api/tasks/{id}/cancel', { params: { path: { id: task.id } } })).catch((e: Error) => notify(e.message))}>Cancel</Button>
        </div>
      )}
      {!running && task?.problem && <p className="text-[13px] text-clay">{task.problem}</p>}
      {!running && revision.stale.includes(r.id) && <p className="text-[13px] text-clay">Region, motion or reference frame changed after this track was found. Follow again to bring it up to date.</p>}
      {values.length > 1 && (
        <dl className="grid grid-cols-[6.5rem_1fr] gap-x-2 text-[13px]">
          <dt className="text-quiet">Followed</dt>
          <dd className="font-mono">{values.length} of {r.range.last - r.range.first + 1} frames</dd>
          <dt className="text-quiet">Weakest match</dt>
          <dd>
            <button type="button" className="rounded font-mono underline decoration-stone underline-offset-2" title="Go there" onClick={() => bench.set({ frame: weakest.frame, playing: false })}>
              {((weakest.match ?? 1) * 100).toFixed(1)} % on {weakest.frame}
            </button>
          </dd>
          {here && (
            <>
              <dt className="text-quiet">This frame</dt>
              <dd className="font-mono">{((here.match ?? 1) * 100).toFixed(1)} %, {(here.residual ?? 0).toFixed(2)} px</dd>
            </>
          )}
        </dl>
      )}
    </>
  )
}
