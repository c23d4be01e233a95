import { useEffect, useRef, useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { FillSource, Removal } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { Button, Check, NumberField } from '../../ui/controls'
import { onSource } from '../fill'
import type { FrameStore } from '../frames'
import { boundsOf, boxKnots, point, vec } from '../handles/curve'
import { DragBox } from '../handles/draw'
import { drag, Line } from '../handles/lines'
import type { Mapping } from '../mapping'
import type { Point } from '../matrix'
import { carried, pointerAt, within, type Placement } from '../props'
import { bench, useBench, type Tool } from '../state'
import { newGrown } from './grown'
import type { FieldProps, HandleProps, View } from './views'

export const grownView: View = {
  add: [
    {
      words: 'Grown',
      hint: 'Made of what lies around, where no frame shows what is behind',
      label: 'New grown pixels',
      make: newGrown,
      then: { tool: 'look', view: 'result' },
    },
  ],
  Fields,
  Handle,
  Draw,
}

function Fields(props: FieldProps) {
  const { removal: r, source: s, change, revision } = props
  const { tool, frame } = useBench()
  const g = s.grown
  if (!g) return null
  const track = revision.document.tracks.find((t) => t.id === r.follow.track)
  const toggle = (t: Tool) => () => bench.set({ tool: tool === t ? 'look' : t, frame: tool === t ? frame : g.frame })
  const count = (n: number, one: string, many: string) => (n ? `${n} ${n === 1 ? one : many}` : '')
  return (
    <>
      <Variations {...props} />
      <div className="flex flex-wrap items-center gap-1.5">
        <Button
          on={tool === 'guide'}
          title="Drag a line across what is marked: what comes to it on one side goes on to the other"
          onClick={toggle('guide')}
        >
          What goes on…
        </Button>
        <Button on={tool === 'from'} title="Drag a box: pixels are taken only from there" onClick={toggle('from')}>
          Take from…
        </Button>
      </div>
      {(g.guides?.length || g.from?.length) && (
        <div className="flex items-center gap-2 text-[13px] text-quiet">
          <span className="flex-1">
            {[count(g.guides?.length ?? 0, 'line', 'lines'), count(g.from?.length ?? 0, 'area', 'areas')]
              .filter(Boolean)
              .join(', ')}
          </span>
          <Button
            weight="bare"
            className="py-0!"
            title="Takes lines and areas away"
            onClick={() =>
              change('Without lines and areas', (x) => {
                if (x.grown) x.grown = { ...x.grown, guides: undefined, from: undefined }
              })
            }
          >
            Clear
          </Button>
        </div>
      )}
      <NumberField
        label="Features"
        unit="px"
        hint="How large the texture’s features are; 0 for as it seems best"
        value={g.feature ?? 0}
        min={0}
        max={100}
        onDone={(v) =>
          change('Size of features', (x) => {
            if (x.grown) x.grown.feature = v || undefined
          })
        }
      />
      <NumberField
        label="Longest"
        unit="px"
        hint="No longer stretch is copied from one place, lest it be seen twice; 0 for any"
        value={g.longest ?? 0}
        min={0}
        max={400}
        onDone={(v) =>
          change('Longest copy', (x) => {
            if (x.grown) x.grown.longest = Math.round(v) || undefined
          })
        }
      />
      {track?.region?.length === 4 && (
        <Check
          label="In the surface’s own plane"
          hint="As the four corners of the track’s region lie: for floors and walls that are seen at a slant"
          value={!!g.flat}
          onChange={(v) =>
            change(v ? 'In the surface’s plane' : 'On the frame', (x) => {
              if (x.grown) x.grown.flat = v || undefined
            })
          }
        />
      )}
      <NumberField
        label="On frame"
        unit=""
        hint="The frame on which it is made"
        value={g.frame}
        min={r.range.first}
        max={r.range.last}
        onDone={(v) =>
          change('Frame of what is grown', (x) => {
            if (x.grown) x.grown.frame = Math.round(v)
          })
        }
      />
    </>
  )
}

/** Four results to choose from: each is a seed, so the chosen one stays what it is. */
function Variations({ shot, revision, removal: r, source: s, change, frames, motions }: FieldProps) {
  const own = s.grown?.seed ?? 0
  const [page, setPage] = useState(Math.floor(own / 4))
  const list = revision.document.removals.findIndex((x) => x.id === r.id)
  const at = r.fill.sources.findIndex((x) => x.id === s.id)
  const box = boxAround(r, (home) => motions.between(r.follow.track, home, s.grown!.frame))
  return (
    <>
      <div className="grid grid-cols-2 gap-1" role="group" aria-label="Variations">
        {[0, 1, 2, 3].map((k) => {
          const seed = 4 * page + k
          return (
            <button
              key={seed}
              type="button"
              aria-pressed={seed === own}
              aria-label={`Variation ${seed + 1}`}
              className={`overflow-hidden rounded border ${seed === own ? 'border-fern' : 'border-stone hover:border-quiet'}`}
              onClick={() =>
                change('Another variation', (x) => {
                  if (x.grown) x.grown.seed = seed || undefined
                })
              }
            >
              <Variation
                address={`/api/shots/${shot.id}/frames/${s.grown!.frame}/overlay?revision=${revision.number}&view=result`}
                patch={`[{"op":"add","path":"/removals/${list}/fill/sources/${at}/grown/seed","value":${seed}}]`}
                frames={frames}
                frame={s.grown!.frame}
                box={box}
              />
            </button>
          )
        })}
      </div>
      <Button title="Four other variations" onClick={() => setPage(page + 1)}>
        Another four
      </Button>
    </>
  )
}

type Box = ReturnType<typeof boundsOf>

/** Around what is marked on a frame, with as much of what lies beside it as there is of it. */
function boxAround(r: Removal, toFrame: (home: number) => Mapping | null): Box {
  const knots = r.mark.outlines.flatMap((o) => {
    const m = toFrame(o.home)
    return m ? o.points.map((k) => carried(k, m)) : o.points
  })
  const b = boundsOf(knots)
  const rim = Math.max(16, 0.5 * Math.max(b.right - b.left, b.bottom - b.top))
  const [left, top, right, bottom] = [b.left - rim, b.top - rim, b.right + rim, b.bottom + rim].map(Math.round)
  return { ...b, left, top, right, bottom }
}

/** A variation as it looks in its place: asked for as a change that is not saved. */
function Variation(props: { address: string; patch: string; frames: FrameStore; frame: number; box: Box }) {
  const { address, patch, frames, frame } = props
  const { left, top, right, bottom } = props.box
  const canvas = useRef<HTMLCanvasElement>(null)
  const [problem, setProblem] = useState('')
  const [drawn, setDrawn] = useState(false)
  useEffect(() => {
    const stop = new AbortController()
    // What is changed again in a moment is not worked out.
    const timer = setTimeout(async () => {
      try {
        const answer = await fetch(address, {
          method: 'POST',
          body: patch,
          headers: { 'Content-Type': 'application/json-patch+json' },
          signal: stop.signal,
        })
        if (!answer.ok) throw new Error(((await answer.json()) as { detail?: string }).detail ?? answer.statusText)
        const [x, y] = (answer.headers.get('Jardin-Place') ?? '0 0').split(' ').map(Number)
        const over = await createImageBitmap(await answer.blob())
        const under = frames.plate(frame)
        const c = canvas.current
        if (!c || stop.signal.aborted) return
        c.width = right - left
        c.height = bottom - top
        const g = c.getContext('2d')!
        if (under) g.drawImage(under, -left, -top)
        g.drawImage(over, x - left, y - top)
        setProblem('')
        setDrawn(true)
      } catch (e) {
        if (!stop.signal.aborted) setProblem(String(e instanceof Error ? e.message : e))
      }
    }, 150)
    return () => {
      clearTimeout(timer)
      stop.abort()
    }
  }, [address, patch, frames, frame, left, top, right, bottom])
  if (problem) return <span className="block p-1 text-left text-[13px] text-clay">{problem}</span>
  return (
    <span className="relative block h-20 bg-soil">
      {!drawn && <span className="absolute inset-0 grid place-items-center text-[13px] text-quiet">Growing…</span>}
      <canvas ref={canvas} data-drawn={drawn} className="h-full w-full object-cover" />
    </span>
  )
}

/** The lines that go on and the areas that are taken from, on their frame. */
function Handle({ removal: r, motions, source, placement, seen }: HandleProps & { source: FillSource }) {
  const here = placedOn(source, placement, (frame) => motions.between(r.follow.track, frame, seen))
  if (!here.placed) return null
  const d = (l: number[][]) =>
    l
      .map((p, i) => {
        const q = here.toRoom(point(p))
        return `${i ? 'L' : 'M'}${q.x} ${q.y}`
      })
      .join('')
  return (
    <g>
      {source.grown?.from?.map((l, i) => (
        <Line key={`f${i}`} dashed d={`${d(l)}Z`} />
      ))}
      {source.grown?.guides?.map((l, i) => (
        <Line key={`g${i}`} on d={d(l)} />
      ))}
    </g>
  )
}

const placedOn = (
  s: FillSource,
  placement: Placement,
  between: (frame: number) => Parameters<typeof within>[1],
): Placement => within(placement, between(s.grown?.frame ?? 0))

function Draw({ tool, source, ...props }: HandleProps & { source: FillSource; tool: Tool }) {
  const { edit } = useEdit(props.shot.id)
  const { removal: r, motions, placement, seen } = props
  const here = placedOn(source, placement, (frame) => motions.between(r.follow.track, frame, seen))
  const add = (to: 'guides' | 'from', label: string, line: number[][]) =>
    void edit(
      label,
      onSource(r.id, source.id, (s) => {
        if (s.grown) s.grown = { ...s.grown, [to]: [...(s.grown[to] ?? []), line] }
      }),
    )
  if (!here.placed) return null
  if (tool === 'from')
    return (
      <DragBox
        placement={here}
        knots={boxKnots}
        onDone={(knots) =>
          add(
            'from',
            'Take from an area',
            knots.map((k) => k.at),
          )
        }
      />
    )
  if (tool === 'guide')
    return <DragLine placement={here} onDone={(a, b) => add('guides', 'What goes on', [vec(a), vec(b)])} />
  return null
}

/** Drawing a straight line. */
function DragLine({ placement, onDone }: { placement: Placement; onDone: (a: Point, b: Point) => void }) {
  const [line, setLine] = useState<[Point, Point] | null>(null)
  const down = (e: ReactPointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return
    const root = e.currentTarget
    const a = pointerAt(e, root, placement)
    let b = a
    drag(
      e,
      (m) => setLine([a, (b = pointerAt(m, root, placement))]),
      (did) => {
        setLine(null)
        if (did && Math.hypot(a.x - b.x, a.y - b.y) > 4) onDone(a, b)
      },
    )
  }
  const [p, q] = line?.map(placement.toRoom) ?? []
  return (
    <svg className="absolute inset-0 h-full w-full cursor-crosshair" data-testid="draw-line" onPointerDown={down}>
      {p && q && <Line on d={`M${p.x} ${p.y}L${q.x} ${q.y}`} />}
    </svg>
  )
}
