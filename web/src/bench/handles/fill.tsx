import { useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { Knot, Removal, Stroke } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { allStrokes, copies, fromOf, matrixOf, moveStroke, newStroke, onStrokes, paintedOn, these } from '../fill'
import { paintable, paintedAt, strokeList, travels } from '../sources/kinds'
import { newPlate } from '../sources/plate'
import { views, type HandleProps } from '../sources/views'
import { on } from '../edits'
import { ofMatrix } from '../mapping'
import { apply, type Point } from '../matrix'
import { carried, pointerAt, within, type Placement } from '../props'
import { bench, useBench } from '../state'
import { usePaths } from '../stages/strokes'
import { notify } from '../../ui/notice'
import { boundsOf, minus, pathOf, plus, point, vec } from './curve'
import { DrawPath, DrawShape } from './draw'
import { drag, Grip, Line } from './lines'
import { Shapes } from './shapes'

type Props = HandleProps

/** What can be taken hold of in Fill while no brush is in hand: strokes, areas, a neighbour's source, a piece's corners. */
export function FillHandles(props: Props) {
  const { removal: r, motions, placement, seen } = props
  const { sourceId, tool, strokes, faint } = useBench()
  const source = r.fill.sources.find((s) => s.id === sourceId)
  const Handle = source && views[source.kind].Handle
  const Draw = source && views[source.kind].Draw
  const few = allStrokes(r).length <= 300
  const paths = usePaths(props.shot.id, r, strokes.length > 0 || faint || (tool === 'look' && few))
  /** By how much what is selected is dragged now: the strokes themselves, their sources. */
  const [by, setBy] = useState<Dragged>(nowhere)
  /** Of the coordinates that a stroke was made in. */
  const at = (s: Stroke) => within(placement, motions.between(s.ride || r.follow.track, s.home, seen))
  const there = (s: Stroke) => !s.off && (!s.range || (seen >= s.range.first && seen <= s.range.last))
  const before = faint && (!source || paintable(source)) ? lastPainted(r, seen) : []
  return (
    <>
      <svg className="pointer-events-none absolute inset-0 h-full w-full" data-testid="fill-handles">
        {before.map((s) => (
          <path
            key={s.id}
            d={outlineOf(s, paths?.[s.id], at(s))}
            fill="none"
            stroke="#fff"
            strokeOpacity="0.35"
            strokeLinecap="round"
            strokeLinejoin="round"
            strokeWidth={Math.max(2, s.size * placement.scale({ x: 0, y: 0 }) * 0.5)}
          />
        ))}
        {tool === 'look' &&
          allStrokes(r).map((s) =>
            strokes.includes(s.id) || (few && there(s)) ? (
              <StrokeHandle
                key={s.id}
                {...props}
                stroke={s}
                path={paths?.[s.id]}
                here={at(s)}
                on={strokes.includes(s.id)}
                by={by}
                tell={setBy}
              />
            ) : null,
          )}
        {tool === 'look' && source && Handle && <Handle {...props} source={source} />}
        {tool === 'look' && source?.where?.length ? (
          <Shapes
            {...props}
            owner={{ removal: r.id, source: source.id }}
            shapes={source.where}
            own={r.follow.track}
            editable
          />
        ) : null}
      </svg>
      {tool === 'area' && <DrawArea {...props} />}
      {source && Draw && <Draw {...props} source={source} tool={tool} />}
      {tool === 'where' && source && <DrawShape {...props} owner={{ removal: r.id, source: source.id }} />}
    </>
  )
}

/** By how much the selected strokes and their sources are dragged. */
interface Dragged {
  strokes: Point
  sources: Point
}
const nowhere: Dragged = { strokes: { x: 0, y: 0 }, sources: { x: 0, y: 0 } }

/** The travelling strokes of the last frame before this one that has its own. */
function lastPainted(r: Removal, seen: number): Stroke[] {
  const own = allStrokes(r).filter((s) => s.range && s.range.first === s.range.last && s.range.first < seen && !s.off)
  const last = Math.max(...own.map((s) => s.range!.first))
  return own.filter((s) => s.range!.first === last)
}

function outlineOf(s: Stroke, path: number[][] | undefined, here: Placement): string {
  if (s.area) return pathOf(s.area.points, here)
  const [dx, dy] = s.path?.shift ?? [0, 0]
  const d = (path ?? [])
    .map((v, i) => {
      const p = here.toRoom({ x: v[0] + dx, y: v[1] + dy })
      return `${i ? 'L' : 'M'}${p.x.toFixed(1)} ${p.y.toFixed(1)}`
    })
    .join('')
  return path?.length === 1 ? `${d}h0.01` : d
}

const beginOf = (s: Stroke, path: number[][] | undefined): Point | null => {
  if (s.area) {
    const b = boundsOf(s.area.points)
    return { x: (b.left + b.right) / 2, y: (b.top + b.bottom) / 2 }
  }
  const [dx, dy] = s.path?.shift ?? [0, 0]
  return path?.length ? { x: path[0][0] + dx, y: path[0][1] + dy } : null
}

/**
 * A stroke: a click selects it, with Shift beside others; a drag moves all that are selected, a drag of its source the
 * sources of all.
 */
function StrokeHandle({
  shot,
  removal: r,
  stroke: s,
  path,
  here,
  on: chosen,
  by: dragged,
  tell,
}: Props & {
  stroke: Stroke
  path?: number[][]
  here: Placement
  on: boolean
  by: Dragged
  tell: (by: Dragged) => void
}) {
  const { edit } = useEdit(shot.id)
  const { strokes: moved, sources: from } = chosen ? dragged : nowhere
  const begin = beginOf(s, path)
  if (!begin) return null
  const root = (e: ReactPointerEvent) => (e.target as Element).closest('svg')!
  const shifted: Placement = { ...here, toRoom: (p) => here.toRoom(plus(p, moved)) }
  const d = outlineOf(s, path, shifted)
  const dragBy = (e: ReactPointerEvent, what: keyof Dragged, done: (d: Point) => void) => {
    if (e.button !== 0) return
    const start = pointerAt(e, root(e), here)
    let by: Point = { x: 0, y: 0 }
    const before = bench.get().strokes
    if (e.shiftKey) {
      e.stopPropagation()
      bench.set({ strokes: chosen ? before.filter((x) => x !== s.id) : [...before, s.id] })
      return
    }
    if (!chosen) bench.set({ strokes: [s.id] })
    drag(
      e,
      (m) => tell({ ...nowhere, [what]: (by = minus(pointerAt(m, root(e), here), start)) }),
      (did) => {
        if (did) done(by)
        else bench.set({ strokes: [s.id] })
        tell(nowhere)
      },
    )
  }
  const take =
    chosen && s.from && copies(s.mode)
      ? matrixOf({ ...s.from, offset: vec(plus(point(s.from.offset), from)) }, begin)
      : null
  const source = take && apply(take, begin)
  const setSource = (by: Point) =>
    void edit(
      `Source of ${these(bench.get().strokes.length)}`,
      onStrokes(r.id, bench.get().strokes, (x) => {
        if (x.from)
          x.from.offset = x.from.crisp
            ? [Math.round(x.from.offset[0] + by.x), Math.round(x.from.offset[1] + by.y)]
            : vec(plus(point(x.from.offset), by))
      }),
    )
  return (
    <g>
      <path
        d={d}
        fill={s.area ? 'transparent' : 'none'}
        stroke="transparent"
        strokeWidth={Math.max(10, s.area ? 10 : s.size * here.scale(begin))}
        strokeLinecap="round"
        strokeLinejoin="round"
        className="pointer-events-auto cursor-move"
        aria-label={`Stroke made on ${s.home}`}
        onPointerDown={(e) =>
          dragBy(
            e,
            'strokes',
            (by) =>
              void edit(
                `Move ${these(bench.get().strokes.length)}`,
                onStrokes(r.id, bench.get().strokes, (x) =>
                  moveStroke(x, { x: Math.round(by.x), y: Math.round(by.y) }),
                ),
              ),
          )
        }
      />
      {(chosen || s.area) && <Line on={chosen} d={d} dashed={!here.placed} />}
      {source && (
        <>
          <Line
            dashed
            d={`M${shifted.toRoom(begin).x} ${shifted.toRoom(begin).y}L${here.toRoom(source).x} ${here.toRoom(source).y}`}
          />
          {s.area && take ? (
            <Line
              dashed
              on
              d={pathOf(
                s.area.points.map((k) => carried(k, ofMatrix(take))),
                here,
              )}
              className="pointer-events-auto cursor-move"
              aria-label="Source of the area"
              onPointerDown={(e) => dragBy(e, 'sources', setSource)}
            />
          ) : null}
          <Grip
            p={here.toRoom(source)}
            on
            label="Source of the stroke"
            onPointerDown={(e) => dragBy(e, 'sources', setSource)}
          />
        </>
      )}
    </g>
  )
}

/** Drawing the outline of an area that is copied as one. */
function DrawArea({ shot, removal: r, placement, seen }: Props) {
  const { edit } = useEdit(shot.id)
  const { sourceId, brush, origin } = useBench()
  const finish = (points: Knot[]) => {
    const source = paintedOn(r, sourceId)
    if (source && !paintable(source)) return notify(`${source.name} cannot be painted on.`)
    const at = source && paintedAt(source)
    if (at !== null && at !== undefined && at !== seen)
      return notify(`${source!.name} is of frame ${at}. Press J to go there.`)
    const b = boundsOf(points)
    const target = source ?? newPlate(r, seen)
    const offset = origin.offset ?? { x: Math.round(1.2 * (b.right - b.left)), y: 0 }
    const mode = copies(brush.mode) ? brush.mode : 'clone'
    const stroke: Stroke = {
      ...newStroke(
        { ...brush, mode, opacity: 1, flow: 1, jitter: 0, roundness: 1 },
        seen,
        travels(target),
        fromOf(origin, offset),
      ),
      area: { points, feather: 4 },
    }
    void edit(
      'Copy an area',
      on(r.id, (d) => {
        let into = d.fill.sources.find((s) => s.id === target.id)
        if (!into) d.fill.sources.push((into = structuredClone(target)))
        strokeList(into)?.push(structuredClone(stroke))
      }),
    )
    bench.set({ tool: 'look', strokes: [stroke.id] })
  }
  return <DrawPath placement={placement} onDone={finish} />
}
