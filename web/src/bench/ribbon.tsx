import {
  useEffect,
  useLayoutEffect,
  useRef,
  useState,
  useSyncExternalStore,
  type PointerEvent as ReactPointerEvent,
} from 'react'
import { computed } from '../api/session'
import type { Measure, Removal, Schemas, Shot } from '../api/client'
import { useEdit, type Change } from '../api/treatment'
import { Button } from '../ui/controls'
import { easeKey, lanesOf, moveKey } from './edits'
import { paintedAt } from './sources/kinds'
import { paintedFrames } from './fill'
import { drag } from './handles/lines'
import type { BenchProps } from './props'
import { useMeasures, useShares } from './runs'
import { useScores } from './scores'
import { bench, useBench } from './state'

const lanes = { thumbs: 46, range: 10, paint: 9, quality: 16, light: 18, seen: 14, score: 12, keys: 13, cached: 4 }

/** The frame ribbon: thumbnails, the removal's range and reference frame, keys, the track's quality, what is in memory. */
export function Ribbon({ shot, revision, frames, overlays, motion }: BenchProps) {
  const { frame, playing, removal, outline, key } = useBench()
  const { edit } = useEdit(shot.id)
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
  const hasPaintLane = open !== null // the lane is there before the first stroke, or the picture would jump under it
  const measures = useMeasures(shot, revision.number, open && settled(open) ? open.id : null)
  const gathered = open?.fill.sources.findLast((s) => s.gathered && !s.off)?.id ?? null
  const shares = useShares(shot, revision.number, open?.id ?? null, gathered)
  const lit = !!open && settled(open)
  const height =
    lanes.range +
    (lit ? lanes.light : 0) +
    (gathered ? lanes.seen : 0) +
    (hasPaintLane ? lanes.paint : 0) +
    lanes.quality +
    (scores.length ? lanes.score : 0) +
    lanes.cached

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
    const style = getComputedStyle(document.documentElement)
    const colour = (name: string) => style.getPropertyValue(`--color-${name}`)
    g.fillStyle = colour('soil')
    g.fillRect(0, 0, width, height)
    if (open) {
      g.fillStyle = colour('stone')
      g.fillRect(x(open.range.first), 3, x(open.range.last + 1) - x(open.range.first), lanes.range - 5)
      // The reference frame: a leaf-shaped key.
      const middle = x(open.reference) + each / 2
      g.fillStyle = colour('text')
      g.beginPath()
      g.ellipse(middle, lanes.range / 2, 4, 4, 0, 0, 7)
      g.fill()
      let top = lanes.range
      if (hasPaintLane) {
        // Frames with paint: a leaf for a clean plate's frame, a bar wherever strokes travel.
        g.fillStyle = colour('fern')
        for (const n of paintedFrames(open, shot.first, shot.last))
          g.fillRect(x(n) + 0.5, top + 3, Math.max(1, each - 1), lanes.paint - 6)
        for (const s of open.fill.sources) {
          const at = paintedAt(s)
          if (at === undefined || s.off) continue
          g.beginPath()
          g.ellipse(x(at) + each / 2, top + lanes.paint / 2, 4, 2.6, -0.7, 0, 7)
          g.fill()
        }
        top += lanes.paint
      }
      if (scores.length) {
        // How fit each frame is to be the reference frame; the best one stands out.
        for (const s of scores) {
          g.fillStyle = s.frame === scores[0].frame ? colour('fern') : colour('quiet')
          const h = 1 + (s.score / Math.max(scores[0].score, 1e-6)) * (lanes.score - 3)
          g.fillRect(x(s.frame) + 0.5, top + lanes.score - 1 - h, Math.max(1, each - 1), h)
        }
        top += lanes.score
      }
      if (lit) {
        // How much lighter or darker the patch is made, around the line of no change; below it, how soft.
        const middle = top + lanes.light / 2
        g.fillStyle = colour('stone')
        g.fillRect(0, middle, width, 1)
        const level = (m: Measure) =>
          Math.log2(Math.max(0.01, 0.2126 * m.light[0] + 0.7152 * m.light[1] + 0.0722 * m.light[2]))
        const most = Math.max(0.06, ...measures.map((m) => Math.abs(level(m))))
        for (const m of measures) {
          const h = (level(m) / most) * (lanes.light / 2 - 1)
          // What is taken from before and after is faint; a stroke of clay on top is where something else shows.
          g.fillStyle = colour('text')
          g.globalAlpha = m.unsure ? 0.35 : 1
          g.fillRect(x(m.frame) + 0.5, middle - Math.max(0, h), Math.max(1, each - 1), Math.max(1, Math.abs(h)))
          g.globalAlpha = 1
          if (m.advice) {
            g.fillStyle = colour('clay')
            g.fillRect(x(m.frame) + 0.5, top, Math.max(1, each - 1), 2)
          }
          if (m.blur > 0.3) {
            g.fillStyle = colour('fern')
            const soft = Math.min(lanes.light - 2, m.blur * 3)
            g.fillRect(x(m.frame) + each / 2 - 0.75, top + lanes.light - 1 - soft, 1.5, soft)
          }
        }
        top += lanes.light
      }
      if (gathered) {
        // How much of what is marked is seen on some frame: below the line of all of it what never is.
        for (const s of shares) {
          const h = Math.round(s.share * (lanes.seen - 3))
          g.fillStyle = colour('fern')
          g.fillRect(x(s.frame) + 0.5, top + lanes.seen - 1 - h, Math.max(1, each - 1), h)
          if (s.share > 0.999) continue
          g.fillStyle = colour('clay')
          g.fillRect(x(s.frame) + 0.5, top + 1, Math.max(1, each - 1), Math.max(2, lanes.seen - 3 - h))
        }
        top += lanes.seen
      }
      for (const s of motion?.samples.values() ?? []) {
        // Full cells are sure; what slides, or agrees little, is lower. Clay needs a look.
        const sure = Math.max(0, 1 - (s.residual ?? 0)) * Math.min(1, (s.agree ?? 1) / 0.9)
        g.fillStyle = s.grade === 'good' ? colour('fern') : colour('clay')
        const h = s.byHand || s.bridged ? 4 : 3 + sure * (lanes.quality - 5)
        g.globalAlpha = s.byHand || s.bridged ? 0.6 : 1
        g.fillRect(x(s.frame) + 0.5, top + lanes.quality - 1 - h, Math.max(1, each - 1), h)
        g.globalAlpha = 1
      }
    }
    g.fillStyle = colour('quiet')
    for (let n = shot.first; n <= shot.last; n++)
      if (frames.has(n, overlays)) g.fillRect(x(n), height - lanes.cached + 1, each + 0.5, lanes.cached - 1)
  }, [width, height, open, motion, scores, loaded, overlays, shot, measures, lit, gathered, shares])

  const scrub = (e: ReactPointerEvent) => {
    const to = (clientX: number) => {
      const box = strip.current!.getBoundingClientRect()
      const n = shot.first + Math.floor(((clientX - box.left) / box.width) * count)
      bench.set({ frame: Math.min(shot.last, Math.max(shot.first, n)), playing: false })
    }
    if (e.button !== 0) return
    to(e.clientX)
    const move = (m: PointerEvent) => to(m.clientX)
    const up = () => {
      removeEventListener('pointermove', move)
      removeEventListener('pointerup', up)
    }
    addEventListener('pointermove', move)
    addEventListener('pointerup', up)
  }

  const aspect = shot.width / shot.height
  const shownThumbs = Math.max(1, Math.ceil(width / (lanes.thumbs * aspect)))
  const here = motion?.samples.get(frame)
  const advice = here?.advice || measures.find((m) => m.frame === frame)?.advice
  return (
    <section aria-label="Frames" className="border-t border-rule bg-bed px-3 pt-1.5 pb-2">
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
          aria-label="One frame back"
          title="One frame back (Left)"
          onClick={() => bench.set({ frame: Math.max(shot.first, frame - 1), playing: false })}
        >
          Previous
        </Button>
        <FrameNumber first={shot.first} last={shot.last} frame={frame} />
        <Button
          weight="bare"
          aria-label="One frame on"
          title="One frame on (Right)"
          onClick={() => bench.set({ frame: Math.min(shot.last, frame + 1), playing: false })}
        >
          Next
        </Button>
        {open && (
          <span className="text-[13px] whitespace-nowrap text-quiet">
            {frame === open.reference
              ? 'Reference frame'
              : here?.bridged
                ? 'Bridged'
                : here?.byHand
                  ? 'By hand'
                  : here?.bent
                    ? `Bends, ${Math.round(100 * (here.agree ?? 0))} % found`
                    : here
                      ? `Residual ${(here.residual ?? 0).toFixed(2)} px${here.deviation ? `, known to ${here.deviation.toFixed(2)}` : ''}${here.moved ? ', region moved on' : ''}`
                      : ''}
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
      <div
        ref={strip}
        role="slider"
        tabIndex={0}
        aria-label="Frame"
        aria-valuemin={shot.first}
        aria-valuemax={shot.last}
        aria-valuenow={frame}
        data-testid="ribbon"
        className="relative cursor-ew-resize touch-none select-none"
        onPointerDown={scrub}
      >
        <div className="flex overflow-hidden rounded-t" style={{ height: lanes.thumbs }}>
          {Array.from({ length: shownThumbs }, (_, i) => (
            <img
              key={i}
              alt=""
              draggable={false}
              src={`/api/shots/${shot.id}/frames/${Math.min(shot.last, shot.first + Math.floor(((i + 0.5) / shownThumbs) * count))}/thumb?v=${computed()}`}
              className="h-full shrink-0 object-cover"
              style={{ width: lanes.thumbs * aspect }}
            />
          ))}
        </div>
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
        <canvas ref={canvas} className="block w-full" style={{ height }} aria-hidden />
        <div
          className="pointer-events-none absolute inset-y-0 border-x border-black/60 bg-white/70"
          style={{ left: x(frame) + each / 2 - 1.5, width: 3 }}
        />
      </div>
    </section>
  )
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
    <div className="relative bg-soil" style={{ height: lanes.keys }} aria-label={`Keys, ${label}`} data-testid="keys">
      <span className="pointer-events-none absolute left-4 text-[10px] leading-[13px] text-quiet">{label}</span>
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
            className={`absolute top-[2px] h-[9px] w-[7px] rounded-tl-full rounded-br-full border border-black ${selected === n ? 'bg-fern' : doubt ? 'bg-clay' : 'bg-text'}`}
            style={{ left: x(at) + each / 2 - 3.5 }}
            onPointerDown={(e) => down(e, n)}
            onDoubleClick={() => onEdit('Ease of a key', (d) => easeKey(d, lane, n))}
          />
        )
      })}
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
