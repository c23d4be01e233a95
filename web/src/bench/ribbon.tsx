import {
  useEffect,
  useLayoutEffect,
  useRef,
  useState,
  useSyncExternalStore,
  type PointerEvent as ReactPointerEvent,
} from 'react'
import { computed } from '../api/session'
import type { Measure, Moment, Removal, Schemas, Shot } from '../api/client'
import { confirmedOf, useEdit, type Change } from '../api/treatment'
import { Button } from '../ui/controls'
import { easeKey, lanesOf, moveKey } from './edits'
import { paintedAt } from './sources/kinds'
import { paintedFrames } from './fill'
import { drag } from './handles/lines'
import type { BenchProps } from './props'
import { useMeasures, useShares } from './runs'
import { useScores } from './scores'
import { bench, useBench } from './state'

const thumbs = 46
const keyHeight = 15
/** Beside the lanes, where their names stand. */
const gutter = 76

/** One lane of measures by frame. */
interface Lane {
  name: string
  /** What its marks mean. */
  hint: string
  height: number
  draw: (g: CanvasRenderingContext2D, top: number) => void
  /** What it says of a frame, with units. */
  tell: (frame: number) => string
}

const known = new Map<string, string>()

/** A colour of the style sheet, for a canvas. */
function colour(name: string): string {
  let c = known.get(name)
  if (!c) {
    c = getComputedStyle(document.documentElement).getPropertyValue(`--color-${name}`)
    known.set(name, c)
  }
  return c
}

const heightName = 'jardin-ribbon-height'
const [leastRoom, mostRoom, usualRoom] = [24, 320, 82]

/** How high the lanes' room is: it stays, whatever lanes there are, so that the picture does not jump. */
function useRoom() {
  const [room, setRoom] = useState(() => {
    const v = Number(localStorage.getItem(heightName))
    return v >= leastRoom && v <= mostRoom ? v : usualRoom
  })
  return {
    room,
    set: (v: number) => {
      const kept = Math.round(Math.min(mostRoom, Math.max(leastRoom, v)))
      setRoom(kept)
      localStorage.setItem(heightName, String(kept))
    },
  }
}

/** The frame ribbon: thumbnails, the removal's range and reference frame, keys, the track's quality, what is in memory. */
export function Ribbon({ shot, revision, frames, overlays, motion }: BenchProps) {
  const { frame, playing, removal, outline, key, pace } = useBench()
  const { edit } = useEdit(shot.id)
  const { room, set: setRoom } = useRoom()
  const open = revision.document.removals.find((r) => r.id === removal) ?? null
  const scores = useScores(shot.id, removal).data?.frames ?? noScores
  const keyLanes = lanesOf(revision.document, removal, outline)
  const strip = useRef<HTMLDivElement>(null)
  const canvas = useRef<HTMLCanvasElement>(null)
  const [width, setWidth] = useState(0)
  const loaded = useSyncExternalStore(frames.subscribe, frames.snapshot)
  const count = shot.last - shot.first + 1
  const each = width / count
  const x = (n: number) => (n - shot.first) * each
  const measures = useMeasures(shot, revision.number, open && settled(open) ? open.id : null)
  const asked = confirmedOf(revision).removals.find((r) => r.id === removal)
  const gathered = asked?.fill.sources.findLast((s) => s.gathered && !s.off)?.id ?? null
  const shares = useShares(shot, revision.number, open?.id ?? null, gathered)
  const lit = !!open && settled(open)

  const bar = Math.max(1, each - 1)
  const lanes: Lane[] = []
  if (open) {
    lanes.push({
      name: 'Frames',
      hint: 'The frames on which the patch is laid; the dot is the reference frame',
      height: 14,
      draw: (g, top) => {
        g.fillStyle = colour('stone')
        g.fillRect(x(open.range.first), top + 4, x(open.range.last + 1) - x(open.range.first), 6)
        g.fillStyle = colour('text')
        g.beginPath()
        g.ellipse(x(open.reference) + each / 2, top + 7, 4, 4, 0, 0, 7)
        g.fill()
      },
      tell: (n) =>
        n === open.reference
          ? 'the reference frame'
          : n < open.range.first || n > open.range.last
            ? 'outside the frames of the removal'
            : 'the patch is laid here',
    })
    const painted = paintedFrames(open, shot.first, shot.last)
    const held = open.fill.sources.flatMap((s) => (s.off ? [] : (paintedAt(s) ?? [])))
    lanes.push({
      name: 'Paint',
      hint: 'Bars where strokes lie on the frame itself; a leaf where a patch is painted once and carried along',
      height: 14,
      draw: (g, top) => {
        g.fillStyle = colour('fern')
        for (const n of painted) g.fillRect(x(n) + 0.5, top + 5, bar, 5)
        for (const n of held) {
          g.beginPath()
          g.ellipse(x(n) + each / 2, top + 7, 4, 2.6, -0.7, 0, 7)
          g.fill()
        }
      },
      tell: (n) => (held.includes(n) ? 'a patch is painted here' : painted.has(n) ? 'strokes lie here' : 'no strokes'),
    })
    lanes.push({
      name: 'Track',
      hint: 'How surely the surface is found: high is sure, clay needs a look, pale is bridged or by hand',
      height: 16,
      draw: (g, top) => {
        for (const s of motion?.samples.values() ?? []) {
          const sure = Math.max(0, 1 - (s.residual ?? 0)) * Math.min(1, (s.agree ?? 1) / 0.9)
          g.fillStyle = s.grade === 'good' ? colour('fern') : colour('clay')
          const h = s.byHand || s.bridged ? 4 : 3 + sure * 11
          g.globalAlpha = s.byHand || s.bridged ? 0.6 : 1
          g.fillRect(x(s.frame) + 0.5, top + 15 - h, bar, h)
          g.globalAlpha = 1
        }
      },
      tell: (n) => {
        const s = motion?.samples.get(n)
        return s ? trackWords(s) + (s.advice ? `. ${s.advice}` : '') : motion ? 'not followed to here' : 'no track'
      },
    })
    if (lit) {
      const level = (m: Measure) =>
        Math.log2(Math.max(0.01, 0.2126 * m.light[0] + 0.7152 * m.light[1] + 0.0722 * m.light[2]))
      const most = Math.max(0.06, ...measures.map((m) => Math.abs(level(m))))
      lanes.push({
        name: 'Light',
        hint: `How much lighter (up) or darker the patch is made, up to ${most.toFixed(2)} stops; thin green bars are how soft, pale is taken from before and after, clay where something else shows`,
        height: 20,
        draw: (g, top) => {
          const middle = top + 10
          g.fillStyle = colour('stone')
          g.fillRect(0, middle, width, 1)
          for (const m of measures) {
            const h = (level(m) / most) * 9
            g.fillStyle = colour('text')
            g.globalAlpha = m.unsure ? 0.35 : 1
            g.fillRect(x(m.frame) + 0.5, middle - Math.max(0, h), bar, Math.max(1, Math.abs(h)))
            g.globalAlpha = 1
            if (m.advice) {
              g.fillStyle = colour('clay')
              g.fillRect(x(m.frame) + 0.5, top + 1, bar, 2)
            }
            if (m.blur > 0.3) {
              g.fillStyle = colour('fern')
              const soft = Math.min(18, m.blur * 3)
              g.fillRect(x(m.frame) + each / 2 - 0.75, top + 19 - soft, 1.5, soft)
            }
          }
        },
        tell: (n) => {
          const m = measures.find((v) => v.frame === n)
          if (!m) return 'not measured'
          const stops = level(m)
          return `${stops < 0 ? '−' : '+'}${Math.abs(stops).toFixed(2)} stops, softer by ${m.blur.toFixed(1)} px${m.unsure ? ', taken from before and after' : ''}${m.advice ? `. ${m.advice}` : ''}`
        },
      })
    }
    if (gathered)
      lanes.push({
        name: 'Seen',
        hint: 'How much of what is marked is seen on some other frame; clay is what never is',
        height: 16,
        draw: (g, top) => {
          for (const s of shares) {
            const h = Math.round(s.share * 13)
            g.fillStyle = colour('fern')
            g.fillRect(x(s.frame) + 0.5, top + 15 - h, bar, h)
            if (s.share > 0.999) continue
            g.fillStyle = colour('clay')
            g.fillRect(x(s.frame) + 0.5, top + 1, bar, Math.max(2, 13 - h))
          }
        },
        tell: (n) => {
          const s = shares.find((v) => v.frame === n)
          return s ? `${Math.floor(1000 * s.share) / 10} % is seen on other frames` : 'not looked at'
        },
      })
    if (scores.length)
      lanes.push({
        name: 'Suggested',
        hint: 'How fit each frame is to be the reference frame; the best one is green',
        height: 16,
        draw: (g, top) => {
          for (const s of scores) {
            g.fillStyle = s.frame === scores[0].frame ? colour('fern') : colour('quiet')
            const h = 1 + (s.score / Math.max(scores[0].score, 1e-6)) * 13
            g.fillRect(x(s.frame) + 0.5, top + 15 - h, bar, h)
          }
        },
        tell: (n) => {
          const s = scores.find((v) => v.frame === n)
          return s
            ? `${Math.round((100 * s.score) / Math.max(scores[0].score, 1e-6))} % as fit as the best`
            : 'not scored'
        },
      })
  }
  lanes.push({
    name: 'Loaded',
    hint: 'Frames that are in memory as they are now: they play without waiting',
    height: 12,
    draw: (g, top) => {
      g.fillStyle = colour('quiet')
      for (let n = shot.first; n <= shot.last; n++)
        if (frames.has(n, overlays)) g.fillRect(x(n), top + 4, each + 0.5, 3)
    },
    tell: (n) => (frames.has(n, overlays) ? 'in memory' : 'not in memory'),
  })
  const height = lanes.reduce((sum, l) => sum + l.height, 0)

  useLayoutEffect(() => {
    const observer = new ResizeObserver(([e]) => setWidth(e.contentRect.width))
    observer.observe(strip.current!)
    return () => observer.disconnect()
  }, [])

  useEffect(() => {
    const c = canvas.current!
    const ratio = devicePixelRatio || 1
    c.width = Math.max(1, width * ratio)
    c.height = height * ratio
    const g = c.getContext('2d')!
    g.scale(ratio, ratio)
    g.fillStyle = colour('soil')
    g.fillRect(0, 0, width, height)
    let top = 0
    for (const lane of lanes) {
      lane.draw(g, top)
      top += lane.height
    }
  }, [width, height, open, motion, scores, loaded, overlays, shot, measures, lit, gathered, shares])

  const frameAt = (clientX: number) => {
    const box = strip.current!.getBoundingClientRect()
    const n = shot.first + Math.floor(((clientX - box.left) / box.width) * count)
    return Math.min(shot.last, Math.max(shot.first, n))
  }
  const scrub = (e: ReactPointerEvent) => {
    if (e.button !== 0 || e.clientX < strip.current!.getBoundingClientRect().left) return
    const to = (clientX: number) => bench.set({ frame: frameAt(clientX), playing: false })
    to(e.clientX)
    const move = (m: PointerEvent) => to(m.clientX)
    const up = () => {
      removeEventListener('pointermove', move)
      removeEventListener('pointerup', up)
    }
    addEventListener('pointermove', move)
    addEventListener('pointerup', up)
  }
  // What a lane says of the frame under the pointer.
  const explain = (e: ReactPointerEvent<HTMLCanvasElement>) => {
    const y = e.clientY - e.currentTarget.getBoundingClientRect().top
    let top = 0
    const lane = lanes.find((l) => y < (top += l.height))
    const n = frameAt(e.clientX)
    e.currentTarget.title = lane ? `${lane.name}, ${n}: ${lane.tell(n)}` : ''
  }

  const aspect = shot.width / shot.height
  const shownThumbs = Math.max(1, Math.ceil(width / (thumbs * aspect)))
  const here = motion?.samples.get(frame)
  const advice = here?.advice || measures.find((m) => m.frame === frame)?.advice
  return (
    <section aria-label="Frames" className="relative border-t border-rule bg-bed px-3 pt-1.5 pb-2">
      <div
        role="separator"
        aria-orientation="horizontal"
        aria-label="Height of the lanes"
        aria-valuenow={room}
        aria-valuemin={leastRoom}
        aria-valuemax={mostRoom}
        title="Drag to give the lanes more room; double click for the usual"
        tabIndex={0}
        className="absolute inset-x-0 -top-1 z-10 h-2 cursor-row-resize touch-none hover:bg-fern/30"
        onDoubleClick={() => setRoom(usualRoom)}
        onPointerDown={(e) => {
          if (e.button !== 0) return
          const from = room + e.clientY
          drag(
            e,
            (m) => setRoom(from - m.clientY),
            () => undefined,
          )
        }}
        onKeyDown={(e) => {
          if (e.key !== 'ArrowUp' && e.key !== 'ArrowDown') return
          e.preventDefault()
          e.stopPropagation()
          setRoom(room + (e.key === 'ArrowUp' ? 8 : -8))
        }}
      />
      <div className="mb-1.5 flex items-center gap-3">
        <Button
          title={playing ? 'Stop (Space)' : 'Play in a loop (Space)'}
          className="w-16"
          onClick={() => bench.set({ playing: !playing })}
        >
          {playing ? 'Stop' : 'Play'}
        </Button>
        <Button
          weight="bare"
          title="One frame back (Left)"
          onClick={() => bench.set({ frame: Math.max(shot.first, frame - 1), playing: false })}
        >
          Previous
        </Button>
        <FrameNumber first={shot.first} last={shot.last} frame={frame} />
        <Button
          weight="bare"
          title="One frame on (Right)"
          onClick={() => bench.set({ frame: Math.min(shot.last, frame + 1), playing: false })}
        >
          Next
        </Button>
        {playing && pace && (
          <span
            data-testid="pace"
            className="text-[13px] whitespace-nowrap text-quiet tabular-nums"
            title="Frames shown in the last second, and how many came late since it began to play"
          >
            {`${pace.rate.toFixed(1)} frames/s${pace.late ? `, ${pace.late} late` : ''}`}
          </span>
        )}
        {open && (
          <span className="text-[13px] whitespace-nowrap text-quiet">
            {frame === open.reference ? 'Reference frame' : here ? trackWords(here) : ''}
          </span>
        )}
        {advice && (
          <span className="min-w-0 truncate text-[13px] text-clay" title={advice}>
            {advice}
          </span>
        )}
        <span className="flex-1" />
        <span className="font-mono text-[13px] whitespace-nowrap text-quiet">
          {shot.first} to {shot.last}, {Math.round((shot.rateNum / shot.rateDen) * 1000) / 1000} frames/s
        </span>
      </div>
      <div className="relative cursor-ew-resize touch-none select-none" onPointerDown={scrub}>
        <div className="flex overflow-hidden rounded-t" style={{ height: thumbs, marginLeft: gutter }}>
          {Array.from({ length: shownThumbs }, (_, i) => (
            <img
              key={i}
              alt=""
              draggable={false}
              src={`/api/shots/${shot.id}/frames/${Math.min(shot.last, shot.first + Math.floor(((i + 0.5) / shownThumbs) * count))}/thumb?v=${computed()}`}
              className="h-full shrink-0 object-cover"
              style={{ width: thumbs * aspect }}
            />
          ))}
        </div>
        <div className="overflow-y-auto [scrollbar-width:none]" style={{ height: room }} data-testid="lanes">
          {keyLanes.map((l) => (
            <KeyLane
              key={l.lane}
              {...l}
              shot={shot}
              each={each}
              selected={key?.lane === l.lane ? key.frame : null}
              x={x}
              onEdit={(label, change) => void edit(label, change)}
            />
          ))}
          <div className="flex">
            <div className="shrink-0 cursor-help" style={{ width: gutter }}>
              {lanes.map((l) => (
                <LaneName key={l.name} name={l.name} hint={l.hint} height={l.height} />
              ))}
            </div>
            <canvas
              ref={canvas}
              className="block min-w-0 flex-1"
              style={{ height }}
              onPointerMove={explain}
              aria-hidden
            />
          </div>
        </div>
        <div
          ref={strip}
          role="slider"
          tabIndex={0}
          aria-label="Frame"
          aria-valuemin={shot.first}
          aria-valuemax={shot.last}
          aria-valuenow={frame}
          data-testid="ribbon"
          className="pointer-events-none absolute inset-y-0 right-0"
          style={{ left: gutter }}
        >
          <div
            className="absolute inset-y-0 border-x border-black/60 bg-white/70"
            style={{ left: x(frame) + each / 2 - 1.5, width: 3 }}
          />
        </div>
      </div>
    </section>
  )
}

/** A lane's name beside it; what its marks mean where the pointer is on it. */
function LaneName({ name, hint, height }: { name: string; hint: string; height: number }) {
  return (
    <p
      title={`${name}: ${hint}`}
      className="truncate pr-2 text-right text-[12px] text-quiet"
      style={{ height, lineHeight: `${height}px` }}
    >
      {name}
    </p>
  )
}

/** What is known of the track on a frame. */
function trackWords(s: Moment): string {
  if (s.bridged) return 'Bridged'
  if (s.byHand) return 'By hand'
  if (s.bent) return `Bends, ${Math.round(100 * (s.agree ?? 0))} % found`
  return `Residual ${(s.residual ?? 0).toFixed(2)} px${s.deviation ? `, known to ${s.deviation.toFixed(2)}` : ''}${s.moved ? ', region moved on' : ''}`
}

/** The patch follows the plate's light or softness. */
const settled = (r: Removal) =>
  (!!r.settle.light && !r.settle.light.off) || (!!r.settle.softness && !r.settle.softness.off)

const noScores: Schemas['FrameScore'][] = []

/** Keys of one thing over time: a click goes there, a drag moves one, with Alt copies it. */
function KeyLane({
  lane,
  label,
  frames,
  doubts,
  shot,
  each,
  selected,
  x,
  onEdit,
}: {
  lane: string
  label: string
  frames: number[]
  doubts: Map<number, string>
  shot: Shot
  each: number
  selected: number | null
  x: (n: number) => number
  onEdit: (label: string, change: Change) => void
}) {
  const [draft, setDraft] = useState<{ from: number; to: number } | null>(null)
  const down = (e: ReactPointerEvent, from: number) => {
    if (e.button !== 0) return
    e.preventDefault()
    bench.set({ key: { lane, frame: from }, frame: from, playing: false })
    let to = from
    drag(
      e,
      (m) => {
        to = Math.min(shot.last, Math.max(shot.first, from + Math.round((m.clientX - e.clientX) / each)))
        setDraft({ from, to })
      },
      (moved) => {
        setDraft(null)
        if (!moved || to === from) return
        const copy = e.altKey
        onEdit(copy ? 'Copy a key' : 'Move a key', (d) => moveKey(d, lane, from, to, copy))
        bench.set({ key: { lane, frame: to }, frame: to })
      },
    )
  }
  return (
    <div className="flex" style={{ height: keyHeight }}>
      <div className="shrink-0 cursor-help" style={{ width: gutter }}>
        <LaneName name={label} hint="its keys; clay needs a look" height={keyHeight} />
      </div>
      <div className="relative min-w-0 flex-1 bg-soil" aria-label={`Keys, ${label}`} data-testid="keys">
        {frames.map((n) => {
          const at = draft?.from === n ? draft.to : n
          const doubt = doubts.get(n)
          return (
            <button
              key={n}
              type="button"
              aria-label={`Key on ${n}, ${label}${doubt ? `: look here, ${doubt}` : ''}`}
              aria-pressed={selected === n}
              title={`${label}, ${n}.${doubt ? ` Look here: ${doubt}.` : ''} Drag to move, with Alt to copy; Delete removes; double click for eased or linear`}
              className={`absolute top-[3px] h-[9px] w-[7px] rounded-tl-full rounded-br-full border border-black ${selected === n ? 'bg-fern' : doubt ? 'bg-clay' : 'bg-text'}`}
              style={{ left: x(at) + each / 2 - 3.5 }}
              onPointerDown={(e) => down(e, n)}
              onDoubleClick={() => onEdit('Ease of a key', (d) => easeKey(d, lane, n))}
            />
          )
        })}
      </div>
    </div>
  )
}

function FrameNumber({ first, last, frame }: { first: number; last: number; frame: number }) {
  const [draft, setDraft] = useState<string | null>(null)
  return (
    <input
      aria-label="Frame number"
      data-testid="frame"
      inputMode="numeric"
      className="w-20 rounded border border-stone bg-soil px-2 py-0.5 text-center font-mono"
      value={draft ?? frame}
      onChange={(e) => setDraft(e.target.value)}
      title="A frame number, or how far to go: +12, -3"
      onBlur={() => {
        const typed = draft?.trim().replace('−', '-')
        const n = (typed && /^[+-]/.test(typed) ? frame : 0) + Math.round(Number(typed))
        if (typed && Number.isFinite(n)) bench.set({ frame: Math.min(last, Math.max(first, n)), playing: false })
        setDraft(null)
      }}
      onKeyDown={(e) => {
        if (e.key === 'Enter') e.currentTarget.blur()
        e.stopPropagation()
      }}
    />
  )
}
