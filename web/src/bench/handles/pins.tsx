import { useEffect, useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { Correction } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { minus, plus, point, polygonOf } from './curve'
import { onTrack, putKey } from '../edits'
import { drag, Grip } from './lines'
import { ofMesh } from '../mapping'
import type { Point } from '../matrix'
import { surfaceOf, type Motion } from '../motion'
import { pointerAt, within, type BenchProps, type Placement } from '../props'

type Props = Pick<BenchProps, 'shot'> & { motion: Motion; placement: Placement; seen: number; correction: Correction }

const round = (p: Point) => [Math.round(p.x * 1000) / 1000, Math.round(p.y * 1000) / 1000]

/** Pins on the surface: a click sets one, each is dragged to where its place is on this frame, a double click takes one out. */
export function Pins({ shot, motion, placement, seen, correction }: Props) {
  const { edit } = useEdit(shot.id)
  const [draft, setDraft] = useState<Point[] | null>(null)
  const m = motion.at(seen)
  const sample = motion.samples.get(seen)
  const told = JSON.stringify([m?.key, sample?.crossings, correction])
  useEffect(() => setDraft(null), [told, seen])
  const corners = surfaceOf(motion.track)
  if (!m || corners.length < 4) return null
  // A pin is moved at home, before all that carries the surface from there.
  const before = sample?.before ? ofMesh(sample.before) : m
  const here = within(placement, before)
  const pins = correction.pins ?? []
  const now = sample?.crossings?.length === pins.length ? sample.crossings : pins.map(() => [0, 0])
  const at = draft ?? pins.map((p, i) => plus(point(p), point(now[i])))
  const change = (label: string, f: (c: Correction) => void) =>
    void edit(
      label,
      onTrack(motion.track.id, (t) => {
        const c = t.corrections?.find((x) => x.id === correction.id)
        if (c) f(c)
      }),
    )
  const key = (c: Correction, moves: number[][]) =>
    putKey(c.keys, {
      frame: seen,
      ease: c.keys.find((k) => k.frame === seen)?.ease ?? 'eased',
      offset: [0, 0],
      crossings: moves,
    })
  const add = (e: ReactPointerEvent) => {
    if (e.button !== 0) return
    e.stopPropagation()
    const root = (e.target as Element).closest('svg')!
    const moved = pointerAt(e, root, here)
    // The place that shows under the pointer, with what moves it already.
    const rest = m.inverse().apply(before.apply(moved))
    change('Set a pin', (c) => {
      c.pins = [...(c.pins ?? []), round(rest)]
      c.keys.forEach((k) => (k.crossings = [...(k.crossings ?? []), [0, 0]]))
      key(c, [...now, round(minus(moved, rest))])
    })
  }
  const move = (e: ReactPointerEvent, i: number) => {
    if (e.button !== 0) return
    const root = (e.target as Element).closest('svg')!
    const from = pointerAt(e, root, here)
    let last = at
    drag(
      e,
      (g) => setDraft((last = at.map((q, k) => (k === i ? plus(q, minus(pointerAt(g, root, here), from)) : q)))),
      (did) =>
        did &&
        change('Move a pin', (c) =>
          key(
            c,
            last.map((q, k) => round(minus(q, point(pins[k])))),
          ),
        ),
    )
  }
  return (
    <g data-testid="pins">
      <path
        d={polygonOf(corners, within(placement, m))}
        fill="transparent"
        stroke="var(--color-fern)"
        strokeDasharray="3 5"
        className="pointer-events-auto cursor-crosshair"
        onPointerDown={add}
      >
        <title>Click to set a pin</title>
      </path>
      {at.map((p, i) => (
        <Grip
          key={i}
          on
          p={here.toRoom(p)}
          label={`Pin ${i + 1}`}
          onPointerDown={(e) => move(e, i)}
          onDoubleClick={(e) => {
            e.stopPropagation()
            change('Take out a pin', (c) => {
              // The server keeps no empty lists.
              const without = <T,>(list?: T[]) => (list && list.length > 1 ? list.toSpliced(i, 1) : undefined)
              c.pins = without(c.pins)
              c.keys.forEach((k) => (k.crossings = without(k.crossings)))
            })
          }}
        />
      ))}
    </g>
  )
}
