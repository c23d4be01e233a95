import { useRef, useState } from 'react'
import { answer, api, type Schemas, type Track } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { notify } from '../../ui/notice'
import { onTrack } from '../edits'
import { drag, Grip, Line, Words } from '../handles/lines'
import type { Point } from '../matrix'
import { pointerAt, type BenchProps, type Placement } from '../props'
import { bench, useBench } from '../state'
import { useOnFrame } from './queries'

type Move = Omit<Schemas['Move-cardRequest'], 'card' | 'track'>

/** One pull at a card: where it is to go next, where it went, and, once it is let go, what that is called. */
interface Pull {
  frame: number
  wanted: Move | null
  moved: Schemas['Card'] | null
  kept: string | null
}

/** What of the set lies on the picture: its points, the cards, lines that are straight. */
export function SetHandles(props: BenchProps & { placement: Placement; seen: number }) {
  const { shot, revision, placement, seen } = props
  const { tool, chosen, card, moving, playing, removal } = useBench()
  const open = revision.document.removals.find((r) => r.id === removal)
  const there = useOnFrame(shot.id, revision, seen, open?.reference ?? 0)
  const { edit } = useEdit(shot.id)
  const [line, setLine] = useState<Point[]>([])
  const latest = useRef(line)
  latest.current = line
  const cards = there?.cards ?? []
  const pickable = tool === 'setpoints'
  const lines = (revision.document.lens?.lines ?? []).filter((l) => l.frame === seen)
  const path = (points: Point[]) =>
    points.map((p, i) => `${i ? 'L' : 'M'}${placement.toRoom(p).x} ${placement.toRoom(p).y}`).join('')
  const keepLine = () => {
    const points = latest.current.map((p) => [round(p.x), round(p.y)])
    setLine([])
    if (points.length < 3) {
      if (points.length) notify('Three places are needed on a line, to tell whether it bows')
      return
    }
    void edit('A straight line', (d) => {
      d.lens ??= { size: [shot.width, shot.height], k: [0, 0, 0] }
      d.lens.lines = [...(d.lens.lines ?? []), { frame: seen, points }]
    })
  }
  const choose = (i: number, more: boolean) =>
    bench.set({ chosen: more ? (chosen.includes(i) ? chosen.filter((x) => x !== i) : [...chosen, i]) : [i] })
  /** The point that is seen nearest to a place in the room, if one is near. */
  const nearest = (at: Point) => {
    let [best, least] = [-1, 9]
    for (const p of there?.points ?? []) {
      const q = placement.toRoom({ x: p.at[0], y: p.at[1] })
      const d = Math.hypot(q.x - at.x, q.y - at.y)
      if (d < least) [best, least] = [p.point, d]
    }
    return best
  }
  const box = (e: React.PointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return
    e.stopPropagation()
    const edge = e.currentTarget.getBoundingClientRect()
    const at = (m: { clientX: number; clientY: number }): Point => ({
      x: m.clientX - edge.left,
      y: m.clientY - edge.top,
    })
    const [from, more] = [at(e), e.shiftKey]
    let to = from
    drag(
      e,
      (m) => bench.set({ box: [from, (to = at(m))] }),
      (did) => {
        bench.set({ box: null })
        if (!did) {
          const near = nearest(from)
          if (near >= 0) choose(near, more)
          else if (!more) bench.set({ chosen: [] })
          return
        }
        const within = (there?.points ?? []).filter((p) => {
          const q = placement.toRoom({ x: p.at[0], y: p.at[1] })
          return (
            !p.off &&
            q.x >= Math.min(from.x, to.x) &&
            q.x <= Math.max(from.x, to.x) &&
            q.y >= Math.min(from.y, to.y) &&
            q.y <= Math.max(from.y, to.y)
          )
        })
        const now = within.map((p) => p.point)
        bench.set({ chosen: more ? [...new Set([...chosen, ...now])] : now })
      },
    )
  }
  return (
    <>
      <svg
        className={`absolute inset-0 h-full w-full ${pickable ? 'cursor-crosshair' : 'pointer-events-none'}`}
        data-testid="set"
        onPointerDown={pickable ? box : undefined}
      >
        <defs>
          <pattern id="stretched" width="8" height="8" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="2.5" height="8" fill="var(--color-clay)" opacity="0.8" />
          </pattern>
        </defs>
        {!playing &&
          (there?.points ?? []).map((p) => {
            const q = placement.toRoom({ x: p.at[0], y: p.at[1] })
            const on = chosen.includes(p.point)
            return (
              <g key={p.point} transform={`translate(${q.x} ${q.y})`}>
                <title>
                  {p.off
                    ? `It does not fit: ${(p.error ?? 0).toFixed(1)} px off. It moves by itself, or was followed wrongly`
                    : `Point ${p.point}, ${(p.error ?? 0).toFixed(2)} px`}
                </title>
                {pickable && <circle r="7" fill="transparent" className="pointer-events-auto" />}
                <rect
                  x={on ? -3.5 : -2}
                  y={on ? -3.5 : -2}
                  width={on ? 7 : 4}
                  height={on ? 7 : 4}
                  transform="rotate(45)"
                  fill={on ? 'var(--color-fern)' : p.off ? 'var(--color-clay)' : '#fff'}
                  stroke="#000"
                  strokeWidth={on ? 1.6 : 1}
                  opacity={p.off && !on ? 0.8 : 1}
                />
              </g>
            )
          })}
        {cards.map((c) => {
          const track = revision.document.tracks.find((t) => t.id === c.track)
          if (!track?.card) return null
          const corners = (moving?.track === c.track && moving.frame === seen ? moving.corners : c.corners).map(
            ([x, y]) => ({ x, y }),
          )
          if (corners.length < 4) return null
          const poor = card === c.track && moving?.track !== c.track ? (c.stretched ?? []) : []
          return (
            <g key={c.track}>
              {poor.length > 0 && (
                <path
                  data-testid="stretched"
                  d={poor.map((q) => path(q.map(([x, y]) => ({ x, y }))) + 'Z').join('')}
                  fill="url(#stretched)"
                >
                  <title>
                    Paint from the reference frame is stretched more than twofold here, or comes from beyond its
                    picture: choose a nearer reference frame
                  </title>
                </path>
              )}
              <CardOutline
                {...props}
                track={track}
                corners={corners}
                on={card === c.track}
                quiet={pickable || tool === 'straightline'}
              />
            </g>
          )
        })}
        {lines.map((l, i) => (
          <Line key={i} d={path(l.points.map(([x, y]) => ({ x, y })))} dashed />
        ))}
      </svg>
      {tool === 'straightline' && (
        <svg
          className="absolute inset-0 h-full w-full cursor-crosshair"
          data-testid="straight-line"
          tabIndex={0}
          ref={(el) => el?.focus({ preventScroll: true })}
          onPointerDown={(e) => {
            if (e.button !== 0) return
            e.stopPropagation()
            const p = pointerAt(e, e.currentTarget, placement)
            if (e.detail > 1 && latest.current.length >= 3) keepLine()
            else setLine([...latest.current, p])
          }}
          onKeyDown={(e) => {
            if (e.key === 'Enter') {
              e.stopPropagation()
              keepLine()
            }
            if (e.key === 'Escape') {
              e.stopPropagation()
              if (line.length) setLine([])
              else bench.set({ tool: 'look' })
            }
          }}
        >
          {line.length > 0 && <Line d={path(line)} on />}
          {line.map((p, i) => {
            const q = placement.toRoom(p)
            return <circle key={i} cx={q.x} cy={q.y} r="3.5" fill="#fff" stroke="#000" strokeWidth="1.5" />
          })}
        </svg>
      )}
      {tool === 'straightline' && (
        <p className="pointer-events-none absolute top-2 left-1/2 -translate-x-1/2 rounded bg-black/70 px-2 text-[13px]">
          Click along something straight, from end to end; Enter keeps the line
        </p>
      )}
      {pickable && (
        <p className="pointer-events-none absolute top-2 left-1/2 -translate-x-1/2 rounded bg-black/70 px-2 text-[13px]">
          Drag a box around points, or click them; Shift for more
        </p>
      )}
    </>
  )
}

const round = (v: number) => Math.round(v * 100) / 100

/** A card as it is seen, with its corners and its middle to be dragged. */
function CardOutline({
  shot,
  revision,
  placement,
  seen,
  track,
  corners,
  on,
  quiet,
}: BenchProps & {
  placement: Placement
  seen: number
  track: Track
  corners: Point[]
  on: boolean
  quiet: boolean
}) {
  const { move, keep } = useCardMoves(shot.id, revision.number, track, seen)
  const room = corners.map((p) => placement.toRoom(p))
  const d = room.map((p, i) => `${i ? 'L' : 'M'}${p.x} ${p.y}`).join('') + 'Z'
  const middle = crossing(corners)
  const root = (e: React.PointerEvent) => (e.target as Element).closest('svg')!
  const take = (handle: Move['handle'], label: string) => (e: React.PointerEvent) => {
    if (e.button !== 0) return
    const svg = root(e)
    bench.set({ card: track.id })
    const held = handle === 'middle' ? middle : corners[Number(handle.slice(6))]
    const from = pointerAt(e, svg, placement)
    drag(
      e,
      (m) => {
        const p = pointerAt(m, svg, placement)
        move({ handle, to: [held.x + p.x - from.x, held.y + p.y - from.y] })
      },
      (did) => did && keep(label),
    )
  }
  const centre = placement.toRoom(middle)
  /** A place in the room beside another, away from the card's middle. */
  const beside = (p: Point) => {
    const far = Math.max(1e-3, Math.hypot(p.x - centre.x, p.y - centre.y))
    return { x: p.x + (26 * (p.x - centre.x)) / far, y: p.y + (26 * (p.y - centre.y)) / far }
  }
  const between = (p: Point, q: Point) => ({ x: (p.x + q.x) / 2, y: (p.y + q.y) / 2 })
  /** Turns by as many degrees as a pull from a grip says. */
  const turn = (handle: Move['handle'], label: string, degrees: (pull: Point) => number) => (e: React.PointerEvent) => {
    if (e.button !== 0) return
    const from = { x: e.clientX, y: e.clientY }
    drag(
      e,
      (m) => move({ handle, to: [0, 0], by: degrees({ x: m.clientX - from.x, y: m.clientY - from.y }) }),
      (did) => did && keep(label),
    )
  }
  /** A side that is pulled to the middle goes away until it is seen edge on. */
  const away = (grip: Point) => (pull: Point) => {
    const [x, y] = [centre.x - grip.x, centre.y - grip.y]
    return Math.max(-85, Math.min(85, (90 * (pull.x * x + pull.y * y)) / Math.max(1, x * x + y * y)))
  }
  const around = (grip: Point) => (pull: Point) => {
    const angle = (p: Point) => Math.atan2(p.y - centre.y, p.x - centre.x)
    const by = angle(grip) - angle({ x: grip.x + pull.x, y: grip.y + pull.y })
    return (Math.atan2(Math.sin(by), Math.cos(by)) * 180) / Math.PI
  }
  return (
    <g opacity={on ? 1 : 0.75}>
      <Line
        d={d}
        on={on}
        className={quiet ? '' : 'pointer-events-auto cursor-pointer'}
        onPointerDown={
          quiet
            ? undefined
            : (e) => {
                e.stopPropagation()
                bench.set({ card: track.id })
              }
        }
      />
      <Words p={room[0]}>{track.name}</Words>
      {on && !quiet && (
        <>
          {room.map((p, i) => (
            <Grip
              key={i}
              square
              p={p}
              label={`${track.name}, corner ${i + 1}`}
              onPointerDown={take(`corner${i}` as Move['handle'], `Size of ${track.name}`)}
            />
          ))}
          <Grip
            p={placement.toRoom(middle)}
            on
            label={`${track.name}, middle`}
            onPointerDown={take('middle', `Move ${track.name}`)}
          />
          {(
            [
              ['turned', between(room[1], room[2]), 'turnY', away],
              ['tipped', between(room[2], room[3]), 'turnX', away],
              ['rolled', room[0], 'turnZ', around],
            ] as const
          ).map(([how, at, handle, by]) => {
            const grip = beside(at)
            return (
              <g key={how}>
                <Line d={`M${at.x} ${at.y}L${grip.x} ${grip.y}`} />
                <Grip
                  small
                  p={grip}
                  label={`${track.name}, ${how}`}
                  onPointerDown={turn(handle, `${track.name} is ${how}`, by(grip))}
                />
              </g>
            )
          })}
        </>
      )}
    </g>
  )
}

/** Where the diagonals of a quadrilateral cross: its middle in space. */
function crossing([a, b, c, d]: Point[]): Point {
  const [rx, ry, sx, sy] = [c.x - a.x, c.y - a.y, d.x - b.x, d.y - b.y]
  const det = rx * sy - ry * sx
  if (Math.abs(det) < 1e-9) return { x: (a.x + c.x) / 2, y: (a.y + c.y) / 2 }
  const t = ((b.x - a.x) * sy - (b.y - a.y) * sx) / det
  return { x: a.x + t * rx, y: a.y + t * ry }
}

/** Moves a card by hand: one request at a time while it moves, and the last one is kept. Each pull goes on from the one before. */
export function useCardMoves(shot: string, revision: number, track: Track, frame: number) {
  const { edit } = useEdit(shot)
  const latest = useRef({ revision, card: track.card! })
  latest.current = { revision, card: track.card! }
  const pulls = useRef<Pull[]>([])
  const busy = useRef(false)
  const from = useRef(latest.current.card)
  const run = async () => {
    busy.current = true
    for (let p = pulls.current[0]; p && (p.wanted || p.kept !== null); p = pulls.current[0]) {
      try {
        if (p.wanted) {
          const wanted = p.wanted
          p.wanted = null
          const out = await answer(
            api.POST('/api/shots/{id}/camera/frames/{frame}/card', {
              params: { path: { id: shot, frame: p.frame }, query: { revision: latest.current.revision } },
              body: { track: track.id, card: from.current, ...wanted },
            }),
          )
          p.moved = out.card
          bench.set({ moving: { track: track.id, frame: p.frame, corners: out.corners, mesh: out.mesh } })
          continue
        }
        const card = p.moved
        if (card) {
          await edit(
            p.kept!,
            onTrack(track.id, (t) => {
              t.card = card
            }),
          )
          from.current = card
        }
      } catch (e) {
        notify((e as Error).message)
        if (p.kept === null) continue
      }
      pulls.current.shift()
      if (!pulls.current.length) bench.set({ moving: null })
    }
    busy.current = false
  }
  const go = () => {
    if (!busy.current) void run()
  }
  return {
    move: (m: Move) => {
      const last = pulls.current[pulls.current.length - 1]
      if (!busy.current) from.current = latest.current.card
      if (last?.kept === null) last.wanted = m
      else pulls.current.push({ frame, wanted: m, moved: null, kept: null })
      go()
    },
    keep: (label: string) => {
      const last = pulls.current[pulls.current.length - 1]
      if (last?.kept === null) last.kept = label
      go()
    },
  }
}
