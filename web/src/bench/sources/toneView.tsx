import { useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { FillSource } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { Pick } from '../../ui/choice'
import { Button } from '../../ui/controls'
import { cssOf, onSource } from '../fill'
import { boundsOf, point, vec } from '../handles/curve'
import { PickColour } from '../handles/pick'
import { drag, Grip, Line } from '../handles/lines'
import { pointerAt, within } from '../props'
import { bench, useBench, type Tool } from '../state'
import { newTone, setTone } from './tone'
import type { FieldProps, HandleProps, View } from './views'

export const toneView: View = {
  add: [
    {
      words: 'Tone',
      hint: 'A flat tone or a gradient, from the rim or picked beside the thing',
      label: 'New tone',
      make: newTone,
      then: { tool: 'look', view: 'result' },
    },
  ],
  Fields,
  Handle,
  Draw,
}

function Fields({ removal: r, source: s, change }: FieldProps) {
  const { frame, tool } = useBench()
  const t = s.tone
  if (!t) return null
  const keys = t.keys ?? []
  const here = keys.findLast((k) => k.frame <= frame) ?? keys[0]
  return (
    <>
      <Pick<'rim' | 'hand'>
        label="Where the tone comes from"
        value={t.rim ? 'rim' : 'hand'}
        onChange={(v) =>
          v === 'rim'
            ? change('Tone from the rim', (x) => {
                if (x.tone) x.tone = { ...x.tone, rim: true, keys: undefined }
              })
            : bench.set({ tool: 'pick' })
        }
        options={[
          { value: 'rim', label: 'From the rim', hint: 'Of what is marked, on every frame by itself' },
          { value: 'hand', label: 'Picked', hint: 'With a click on the picture' },
        ]}
      />
      <Pick<'flat' | 'gradient'>
        label="One tone or two"
        value={t.ends ? 'gradient' : 'flat'}
        onChange={(v) =>
          change(v === 'flat' ? 'One tone' : 'A gradient', (x) => {
            if (!x.tone) return
            const b = r.mark.outlines.length ? boundsOf(r.mark.outlines[0].points) : null
            const mid = b ? (b.left + b.right) / 2 : 0
            x.tone.ends =
              v === 'flat'
                ? undefined
                : b
                  ? [vec({ x: mid, y: b.top }), vec({ x: mid, y: b.bottom })]
                  : [vec({ x: 0, y: 0 }), vec({ x: 0, y: 100 })]
          })
        }
        options={[
          { value: 'flat', label: 'One tone' },
          { value: 'gradient', label: 'A gradient', hint: 'Drag its ends on the picture' },
        ]}
      />
      <div className="flex items-center gap-1.5">
        <Button
          on={tool === 'pick'}
          title="Click on the picture; on another frame than the last it is keyed there if there are two keys"
          onClick={() => bench.set({ tool: tool === 'pick' ? 'look' : 'pick' })}
        >
          Pick {t.ends ? 'the first tone' : 'the tone'}
        </Button>
        {here && <Swatch light={here.one} />}
      </div>
      {t.ends && (
        <div className="flex items-center gap-1.5">
          <Button
            on={tool === 'from'}
            title="Click on the picture where the gradient ends"
            onClick={() => bench.set({ tool: tool === 'from' ? 'look' : 'from' })}
          >
            Pick the other tone
          </Button>
          {here?.other && <Swatch light={here.other} />}
        </div>
      )}
      {here && (
        <Button
          title="The tone may change over time: keep it on this frame"
          disabled={keys.some((k) => k.frame === frame)}
          onClick={() =>
            change('Key the tone', (x) => {
              const all = x.tone?.keys ?? []
              const i = all.findIndex((k) => k.frame > frame)
              all.splice(i < 0 ? all.length : i, 0, { ...here, frame })
            })
          }
        >
          Key the tone here
        </Button>
      )}
    </>
  )
}

const Swatch = ({ light }: { light: number[] }) => (
  <span className="h-4 w-6 rounded-sm border border-rule" style={{ background: cssOf(light) }} />
)

/** The ends of a gradient. */
function Handle({ shot, removal: r, motions, source, placement, seen }: HandleProps & { source: FillSource }) {
  const { edit } = useEdit(shot.id)
  const [draft, setDraft] = useState<number[][] | null>(null)
  const here = within(placement, motions.between(r.follow.track, source.tone?.frame ?? seen, seen))
  const ends = draft ?? source.tone?.ends ?? []
  if (ends.length !== 2 || !here.placed) return null
  const [a, b] = ends.map((p) => here.toRoom(point(p)))
  const begin = (e: ReactPointerEvent, i: number) => {
    if (e.button !== 0) return
    const root = (e.target as Element).closest('svg')!
    let next = ends
    drag(
      e,
      (m) => setDraft((next = ends.map((p, k) => (k === i ? vec(pointerAt(m, root, here)) : p)))),
      (did) => {
        if (!did) return setDraft(null)
        void edit(
          'End of a gradient',
          onSource(r.id, source.id, (s) => {
            if (s.tone) s.tone.ends = next as never
          }),
        ).finally(() => setDraft(null))
      },
    )
  }
  return (
    <g>
      <Line dashed d={`M${a.x} ${a.y}L${b.x} ${b.y}`} />
      <Grip p={a} on label="First end of the gradient" onPointerDown={(e) => begin(e, 0)} />
      <Grip p={b} on label="Other end of the gradient" onPointerDown={(e) => begin(e, 1)} />
    </g>
  )
}

function Draw({ tool, source, ...props }: HandleProps & { source: FillSource; tool: Tool }) {
  const { edit } = useEdit(props.shot.id)
  if (tool !== 'pick' && tool !== 'from') return null
  return (
    <PickColour
      {...props}
      onPick={({ light }) =>
        void edit(
          'Pick a tone',
          onSource(props.removal.id, source.id, (s) =>
            setTone(s, props.seen, tool === 'pick' ? 'one' : 'other', light),
          ),
        )
      }
    />
  )
}
