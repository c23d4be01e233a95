import { useState } from 'react'
import { answer, api, type Removal, type Shape, type Shot } from '../../api/client'
import { isOpen, useTasks } from '../../api/tasks'
import { Button, NumberField, NumberInput } from '../../ui/controls'
import { notify } from '../../ui/notice'
import { Running } from '../running'
import { useBench } from '../state'

/** Lets an outline follow an edge by itself, from the frame that is shown. */
export function EdgeFields({ shot, removal: r, shape: s }: { shot: Shot; removal: Removal; shape: Shape }) {
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
