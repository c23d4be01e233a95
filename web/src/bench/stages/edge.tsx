import { useState } from 'react'
import { answer, api, type Removal, type Shape, type Shot } from '../../api/client'
import { isOpen, useTasks } from '../../api/tasks'
import { Button, NumberField, NumberInput } from '../../ui/controls'
import { notify } from '../../ui/notice'
import { Running } from '../running'
import { bench, useBench } from '../state'
import { useEdit } from '../../api/treatment'
import { doubtsOf, onShape, type Owner } from '../edits'

/** Lets an outline follow an edge by itself, from the frame that is shown. */
export function EdgeFields({
  shot,
  removal: r,
  owner,
  shape: s,
}: {
  shot: Shot
  removal: Removal
  owner: Owner
  shape: Shape
}) {
  const frame = useBench((x) => x.frame)
  const [steady, setSteady] = useState(1)
  const task = useTasks(shot.id).find((t) => t.kind === 'edge' && t.subject === s.id)
  const running = task && isOpen(task)
  const range = s.range ?? r.range
  const [good, setGood] = useState<number | null>(null)
  const back = Math.min(frame - 1, Math.max(range.first, good ?? frame - 8))
  const begin = (first: number, last: number, mend?: boolean) =>
    void answer(
      api.POST('/api/shots/{id}/edges', {
        params: { path: { id: shot.id } },
        body: {
          removal: r.id,
          shape: s.id,
          from: mend ? first : frame,
          first,
          last,
          steady,
          ...(mend ? { mend } : {}),
        },
      }),
    ).catch((e: Error) => notify(e.message))
  return (
    <div className="flex flex-col gap-2 border-t border-rule pt-2">
      {!running && <Doubts shot={shot} owner={owner} shape={s} />}
      <div className="flex flex-wrap gap-1.5">
        <Button
          className="flex-1"
          disabled={!!running || frame <= range.first}
          title="Back from this frame: the outline is carried to the best edge near it, frame by frame, and keyed"
          onClick={() => begin(range.first, frame)}
        >
          Follow edge back
        </Button>
        <Button
          className="flex-1"
          disabled={!!running || frame >= range.last}
          title="On from this frame: the outline is carried to the best edge near it, frame by frame, and keyed"
          onClick={() => begin(frame, range.last)}
        >
          Follow edge on
        </Button>
      </div>
      {!!s.keys?.length && frame - 2 >= range.first && (
        <div
          className="flex items-center gap-2 text-[13px]"
          title="The outline was set right on this frame: what lies between it and an earlier frame that is right is followed from both ends"
        >
          <Button
            className="flex-1 py-0.5!"
            disabled={!!running || frame - back < 2}
            onClick={() => begin(back, frame, true)}
          >
            Mend from here back to
          </Button>
          <NumberInput
            label="Frame that is right"
            className="w-16"
            value={back}
            min={range.first}
            max={frame - 2}
            onDone={(v) => setGood(Math.round(v))}
          />
        </div>
      )}
      <NumberField
        label="Steady"
        unit="fr"
        hint="Takes the chatter out of what is found: over how many frames it is averaged"
        value={steady}
        min={0}
        max={8}
        step={0.5}
        onDone={setSteady}
      />
      {running && <Running task={task} label="Frames followed" />}
      {!running && task?.problem && <p className="text-[13px] text-clay">{task.problem}</p>}
    </div>
  )
}

/** The frames on which what was found should be looked at, and why. */
function Doubts({ shot, owner, shape: s }: { shot: Shot; owner: Owner; shape: Shape }) {
  const { edit } = useEdit(shot.id)
  const frame = useBench((x) => x.frame)
  const all = doubtsOf(s.keys ?? [])
  if (!all.size) return null
  const here = all.get(frame)
  const next = [...all.keys()].find((n) => n > frame) ?? [...all.keys()][0]
  return (
    <div className="flex flex-col gap-1.5 text-[13px]" role="status">
      <p className="text-clay">
        {here
          ? `Look here: ${here}.`
          : `Look at ${all.size === 1 ? `frame ${next}` : `${all.size} frames, marked on the ribbon`}.`}
      </p>
      <div className="flex gap-1.5">
        <Button
          className="flex-1 py-0.5!"
          disabled={all.size === 1 && !!here}
          title="To the next frame that should be looked at"
          onClick={() => bench.set({ frame: next, playing: false })}
        >
          Next to look at
        </Button>
        <Button
          className="flex-1 py-0.5!"
          disabled={!here}
          title="The outline is right on this frame as it is; setting a point by hand says so as well"
          onClick={() =>
            void edit(
              'The outline lies right',
              onShape(owner, s.id, (x) => x.keys?.forEach((k) => k.frame === frame && delete k.doubt)),
            )
          }
        >
          It lies right
        </Button>
      </div>
    </div>
  )
}
