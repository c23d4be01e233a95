import { useEffect, useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { Knot, Removal, Shape } from '../../api/client'
import { newId, useEdit } from '../../api/treatment'
import { boxKnots, distance, ellipseKnots, minus, pathOf, point, vec } from './curve'
import { addShape, free, shapesOf, type Owner } from '../edits'
import { drag, Grip, Line } from './lines'
import type { Mapping } from '../mapping'
import type { Point } from '../matrix'
import { still } from '../motion'
import { drawnIn, pointerAt, type BenchProps, type Placement } from '../props'
import { Shapes } from './shapes'
import { bows, useLens } from '../set/queries'
import { bench, useBench } from '../state'

type Props = BenchProps & { removal: Removal; placement: Placement; seen: number }

const words = { curve: 'Outline', box: 'Outline', ellipse: 'Outline', strand: 'Strand' }

/** Drawing a shape: an outline or strand of what goes, of where something counts, of a front, or of what is left out of the region. */
export function DrawShape(props: Props & { owner: Owner }) {
  const { shot, revision, removal, placement, seen, owner } = props
  const { edit } = useEdit(shot.id)
  const drawn = useBench((s) => s.drawn)
  const lens = useLens(shot.id, revision)
  const finish = (knots: Knot[]) => {
    const id = newId()
    const kind = drawn === 'strand' ? ('strand' as const) : ('outline' as const)
    const taken = shapesOf(revision.document, owner)
    const front = owner.front && removal.guard?.fronts?.find((f) => f.id === owner.front)
    const word = owner.track ? 'Exclusion' : owner.source || owner.tone || owner.within ? 'Inside' : words[drawn]
    const shape: Shape = {
      id,
      name: `${word} ${free(
        word,
        taken.map((o) => o.name),
      )}`,
      kind,
      home: seen,
      points: knots,
      feather: owner.track ? 0 : front ? 1 : 2,
    }
    if (kind === 'strand' && bows(revision.document)) shape.straight = true // a wire is
    if (owner.track || front) shape.ride = still // what is in front moves by itself
    const label = owner.track
      ? 'Draw an exclusion'
      : front
        ? `Draw ${front.name}`
        : word === 'Inside'
          ? 'Draw where it counts'
          : kind === 'strand'
            ? 'Draw a strand'
            : 'Draw an outline'
    void edit(label, (d) => {
      addShape(d, owner, structuredClone(shape))
    })
    bench.set({ tool: 'look', outline: id, knots: [] })
  }
  return (
    <>
      <svg className="pointer-events-none absolute inset-0 h-full w-full">
        <Shapes
          {...props}
          owner={owner}
          shapes={shapesOf(revision.document, owner)}
          own={owner.track ? still : removal.follow.track}
          editable={false}
        />
      </svg>
      {drawn === 'box' || drawn === 'ellipse' ? (
        <DragBox
          placement={placement}
          knots={(a, b) => (drawn === 'box' ? boxKnots(a, b) : ellipseKnots(a, b))}
          onDone={finish}
        />
      ) : (
        <ClickPath
          placement={placement}
          closed={drawn === 'curve'}
          lens={drawn === 'strand' ? lens : null}
          onDone={finish}
          key={`${drawn} ${revision.document.removals.length}`}
        />
      )}
    </>
  )
}

/** Drawing a closed curve, a box or an ellipse for anything. */
export function DrawPath({ placement, onDone }: { placement: Placement; onDone: (knots: Knot[]) => void }) {
  const drawn = useBench((s) => s.drawn)
  if (drawn === 'box' || drawn === 'ellipse')
    return <DragBox placement={placement} knots={drawn === 'box' ? boxKnots : ellipseKnots} onDone={onDone} />
  return <ClickPath placement={placement} closed lens={null} onDone={onDone} />
}

/** Clicks set corners, drags curves. The first point or Enter closes; a strand ends with Enter or a double click. */
function ClickPath({
  placement,
  closed,
  lens,
  onDone,
}: {
  placement: Placement
  closed: boolean
  /** Without which its sides are straight. */
  lens: Mapping | null
  onDone: (knots: Knot[]) => void
}) {
  const [knots, setKnots] = useState<Knot[]>([])
  const [cursor, setCursor] = useState<Point | null>(null)
  const least = closed ? 3 : 2
  const close = () => {
    if (knots.length >= least) onDone(closed ? knots : knots.map((k) => ({ ...k, width: 4 })))
  }
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if ((e.target as HTMLElement).closest('input, [role=dialog]')) return
      if (e.key === 'Enter') close()
      if (e.key === 'Backspace' || e.key === 'Delete') setKnots((k) => k.slice(0, -1))
    }
    addEventListener('keydown', key)
    return () => removeEventListener('keydown', key)
  })
  const down = (e: ReactPointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return
    const root = e.currentTarget
    const p = pointerAt(e, root, placement)
    const near = (k: Knot) => distance(placement.toRoom(point(k.at)), placement.toRoom(p)) < 10
    if (knots.length >= least && near(closed ? knots[0] : knots[knots.length - 1])) {
      e.stopPropagation()
      close()
      return
    }
    const index = knots.length
    setKnots([...knots, { at: vec(p) }])
    drag(
      e,
      (m) => {
        const arm = minus(pointerAt(m, root, placement), p)
        setKnots((k) =>
          k.map((x, i) => (i === index ? { at: x.at, out: vec(arm), in: vec({ x: -arm.x, y: -arm.y }) } : x)),
        )
      },
      () => undefined,
    )
  }
  const line = cursor && knots.length ? [...knots, { at: vec(cursor) }] : knots
  return (
    <svg
      className="absolute inset-0 h-full w-full cursor-crosshair"
      data-testid="draw"
      onPointerDown={down}
      onPointerMove={(e) => setCursor(pointerAt(e, e.currentTarget, placement))}
    >
      <Line d={pathOf(...drawnIn(line, placement, lens), false)} on />
      {knots.map((k, i) => (
        <g key={i} className="pointer-events-none">
          <Grip p={placement.toRoom(point(k.at))} on={i === 0} label={`Point ${i + 1}`} />
        </g>
      ))}
    </svg>
  )
}

/** A box dragged over the picture. */
export function DragBox({
  placement,
  knots,
  onDone,
}: {
  placement: Placement
  knots: (a: Point, b: Point) => Knot[]
  onDone: (knots: Knot[]) => void
}) {
  const [box, setBox] = useState<[Point, Point] | null>(null)
  const sorted = ([a, b]: [Point, Point]): [Point, Point] => [
    { x: Math.min(a.x, b.x), y: Math.min(a.y, b.y) },
    { x: Math.max(a.x, b.x), y: Math.max(a.y, b.y) },
  ]
  const down = (e: ReactPointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return
    const root = e.currentTarget
    const p = pointerAt(e, root, placement)
    let last: [Point, Point] | null = null
    drag(
      e,
      (m) => setBox((last = [p, pointerAt(m, root, placement)])),
      () => {
        setBox(null)
        if (!last || Math.abs(last[0].x - last[1].x) < 4 || Math.abs(last[0].y - last[1].y) < 4) return
        onDone(knots(...sorted(last)))
      },
    )
  }
  return (
    <svg className="absolute inset-0 h-full w-full cursor-crosshair" data-testid="draw" onPointerDown={down}>
      {box && <Line d={pathOf(knots(...sorted(box)), placement)} on />}
    </svg>
  )
}
