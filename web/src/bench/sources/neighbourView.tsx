import { useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { FillSource, Knot } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { Pick } from '../../ui/choice'
import { Button, Check, NumberInput } from '../../ui/controls'
import { onSource } from '../fill'
import { boundsOf, minus, pathOf, plus, point } from '../handles/curve'
import { placed, usePoses } from '../handles/poses'
import { drag, Grip, Line } from '../handles/lines'
import type { Point } from '../matrix'
import { carried, pointerAt } from '../props'
import { Propose } from '../stages/brush'
import { useBench } from '../state'
import { newNeighbour, offsetAt, setOffset } from './neighbour'
import type { FieldProps, HandleProps, View } from './views'

export const neighbourView: View = {
  add: [
    {
      words: 'Live neighbour',
      hint: 'The frame’s own pixels, a little to the side',
      label: 'New live neighbour',
      make: newNeighbour,
      then: { tool: 'look', view: 'result' },
    },
  ],
  Fields,
  Handle: NeighbourHandle,
}

function Fields({ shot, removal: r, source: s, change }: FieldProps) {
  const frame = useBench((b) => b.frame)
  const o = offsetAt(s, frame)
  const offsets = s.neighbour?.offsets ?? []
  return (
    <>
      <div
        className="flex items-center gap-2"
        title="From each pixel to the one that is taken; drag the dashed outline on the picture, or Shift and the arrow keys"
      >
        <span className="flex-1 text-quiet">Takes from</span>
        <NumberInput
          label="Neighbour, x"
          className="w-16"
          value={o.x}
          min={-4000}
          max={4000}
          onDone={(v) => change('Offset of a neighbour', (x) => setOffset(x, frame, (p) => ({ x: v, y: p.y })))}
        />
        <NumberInput
          label="Neighbour, y"
          className="w-16"
          value={o.y}
          min={-4000}
          max={4000}
          onDone={(v) => change('Offset of a neighbour', (x) => setOffset(x, frame, (p) => ({ x: p.x, y: v })))}
        />
        <span className="text-quiet">px</span>
      </div>
      <Pick<'surface' | 'screen'>
        label="How the offset is meant"
        value={s.neighbour?.screen ? 'screen' : 'surface'}
        onChange={(v) =>
          change('How the offset is meant', (x) => {
            if (x.neighbour) x.neighbour.screen = v === 'screen' || undefined
          })
        }
        options={[
          { value: 'surface', label: 'Along the surface', hint: 'It turns and grows with it' },
          { value: 'screen', label: 'On the screen' },
        ]}
      />
      <Check
        label="Whole pixels, crisp grain"
        hint="The offset is rounded on each frame: no pixel is mixed with its neighbours"
        value={!!s.neighbour?.crisp}
        onChange={(v) =>
          change('Whole pixels', (x) => {
            if (x.neighbour) x.neighbour.crisp = v || undefined
          })
        }
      />
      <Propose
        shot={shot.id}
        removal={r.id}
        frame={frame}
        onFound={(p) => change('Offset of a neighbour', (x) => setOffset(x, frame, () => p))}
      />
      <Button
        title="The offset may change over time: keep it on this frame"
        disabled={offsets.some((k) => k.frame === frame) && (offsets.length > 1 || offsets[0].frame === frame)}
        onClick={() =>
          change('Key the offset', (x) => {
            const all = x.neighbour?.offsets ?? []
            const i = all.findIndex((k) => k.frame > frame)
            all.splice(i < 0 ? all.length : i, 0, { frame, ease: 'eased', offset: [o.x, o.y] })
          })
        }
      >
        Key the offset here
      </Button>
    </>
  )
}

/** Where a neighbour takes its pixels: the outlines, dashed, at their source. A drag sets the offset. */
function NeighbourHandle({
  shot,
  revision,
  removal: r,
  motions,
  source,
  placement,
  seen,
}: HandleProps & { source: FillSource }) {
  const { edit } = useEdit(shot.id)
  const [by, setBy] = useState<Point>({ x: 0, y: 0 })
  const { pose } = usePoses(shot.id, revision, { removal: r.id }, r.mark.outlines, seen)
  const toHere = source.neighbour?.screen
    ? null
    : motions.between(r.follow.track, source.neighbour?.frame ?? seen, seen)
  const back = toHere && toHere.inverse()
  const o = plus(offsetAt(source, seen), by)
  const aside = (p: Point): Point => (toHere && back ? toHere.apply(plus(back.apply(p), o)) : plus(p, o))
  const root = (e: ReactPointerEvent) => (e.target as Element).closest('svg')!
  const inOffset = (p: Point) => (back ? back.apply(p) : p)
  const down = (e: ReactPointerEvent) => {
    if (e.button !== 0) return
    const start = inOffset(pointerAt(e, root(e), placement))
    let d: Point = { x: 0, y: 0 }
    drag(
      e,
      (m) => setBy((d = minus(inOffset(pointerAt(m, root(e), placement)), start))),
      (did) => {
        if (did)
          void edit(
            'Offset of a neighbour',
            onSource(r.id, source.id, (s) =>
              setOffset(s, seen, (p) => ({ x: Math.round(p.x + d.x), y: Math.round(p.y + d.y) })),
            ),
          )
        setBy({ x: 0, y: 0 })
      },
    )
  }
  return (
    <>
      {r.mark.outlines.map((s) => {
        const l = pose(s)
        if (!l || s.off || s.kind !== 'outline') return null
        const ride = motions.between(s.ride || r.follow.track, s.home, seen)
        if (!ride) return null
        const knots = placed(l).map((k) => carried(k, ride))
        const taken = knots.map((k) => {
          const at = aside(point(k.at))
          return { ...k, at: [at.x, at.y] }
        })
        const [a, b] = [middle(knots), middle(taken)].map(placement.toRoom)
        return (
          <g key={s.id}>
            <Line d={pathOf(knots, placement)} colour={s.colour} />
            <Line dashed d={`M${a.x} ${a.y}L${b.x} ${b.y}`} />
            <path
              d={pathOf(taken, placement)}
              fill="transparent"
              className="pointer-events-auto cursor-move"
              aria-label={`Source of ${s.name}`}
              onPointerDown={down}
            />
            <Line on dashed d={pathOf(taken, placement)} />
            <Grip p={b} on label={`Source of ${s.name}, middle`} onPointerDown={down} />
          </g>
        )
      })}
    </>
  )
}

const middle = (knots: Knot[]): Point => {
  const b = boundsOf(knots)
  return { x: (b.left + b.right) / 2, y: (b.top + b.bottom) / 2 }
}
