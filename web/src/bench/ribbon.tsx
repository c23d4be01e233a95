import { useEffect, useLayoutEffect, useRef, useState, useSyncExternalStore, type PointerEvent as ReactPointerEvent } from 'react'
import { Button } from '../ui/controls'
import type { BenchProps } from './props'
import { bench, useBench } from './state'

const lanes = { thumbs: 46, range: 10, quality: 16, cached: 4 }

/** The frame ribbon: thumbnails, the removal's range and reference frame, the track's quality, what is in memory. */
export function Ribbon({ shot, revision, frames, overlays, motion }: BenchProps) {
  const { frame, playing, removal } = useBench()
  const open = revision.document.removals.find((r) => r.id === removal) ?? null
  const strip = useRef<HTMLDivElement>(null)
  const canvas = useRef<HTMLCanvasElement>(null)
  const [width, setWidth] = useState(0)
  const loaded = useSyncExternalStore(frames.subscribe, frames.snapshot)
  const count = shot.last - shot.first + 1
  const each = width / count
  const x = (n: number) => (n - shot.first) * each

  useLayoutEffect(() => {
    const observer = new ResizeObserver(([e]) => setWidth(e.contentRect.width))
    observer.observe(strip.current!)
    return () => observer.disconnect()
  }, [])

  useEffect(() => {
    const c = canvas.current!
    const ratio = devicePixelRatio || 1
    const height = lanes.range + lanes.quality + lanes.cached
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
      for (const s of motion.samples.values()) {
        const match = s.match ?? 1
        // The lane shows what is lost: a full fern cell is a perfect match, clay is one that needs a look.
        const good = Math.max(0, Math.min(1, (match - 0.8) / 0.2))
        const doubtful = match < 0.9 || (s.agree ?? 1) < 0.6
        g.fillStyle = doubtful ? colour('clay') : colour('fern')
        const h = 3 + good * (lanes.quality - 5)
        g.fillRect(x(s.frame) + 0.5, lanes.range + lanes.quality - 1 - h, Math.max(1, each - 1), h)
      }
    }
    g.fillStyle = colour('quiet')
    for (let n = shot.first; n <= shot.last; n++) if (frames.has(n, overlays)) g.fillRect(x(n), lanes.range + lanes.quality + 1, each + 0.5, lanes.cached - 1)
  }, [width, open, motion, loaded, overlays, shot])

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
  const here = motion.samples.get(frame)
  return (
    <section aria-label="Frames" className="border-t border-rule bg-bed px-3 pt-1.5 pb-2">
      <div className="mb-1.5 flex items-center gap-3">
        <Button title={playing ? 'Stop (Space)' : 'Play in a loop (Space)'} className="w-16" onClick={() => bench.set({ playing: !playing })}>{playing ? 'Stop' : 'Play'}</Button>
        <Button weight="bare" aria-label="One frame back" title="One frame back (Left)" onClick={() => bench.set({ frame: Math.max(shot.first, frame - 1), playing: false })}>Back</Button>
        <FrameNumber first={shot.first} last={shot.last} frame={frame} />
        <Button weight="bare" aria-label="One frame on" title="One frame on (Right)" onClick={() => bench.set({ frame: Math.min(shot.last, frame + 1), playing: false })}>On</Button>
        {open && <span className="text-[13px] text-quiet">{frame === open.reference ? 'Reference frame' : here ? `Match ${((here.match ?? 1) * 100).toFixed(1)} %` : ''}</span>}
        <span className="flex-1" />
        <span className="font-mono text-[13px] text-quiet">{shot.first} to {shot.last}, {Math.round((shot.rateNum / shot.rateDen) * 1000) / 1000} frames/s</span>
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
              src={`/api/shots/${shot.id}/frames/${Math.min(shot.last, shot.first + Math.floor(((i + 0.5) / shownThumbs) * count))}/thumb`}
              className="h-full shrink-0 object-cover"
              style={{ width: lanes.thumbs * aspect }}
            />
          ))}
        </div>
        <canvas ref={canvas} className="block w-full" style={{ height: lanes.range + lanes.quality + lanes.cached }} aria-hidden />
        <div className="pointer-events-none absolute inset-y-0 border-x border-black/60 bg-white/70" style={{ left: x(frame) + each / 2 - 1.5, width: 3 }} />
      </div>
    </section>
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
      onBlur={() => {
        const n = Math.round(Number(draft))
        if (draft && Number.isFinite(n)) bench.set({ frame: Math.min(last, Math.max(first, n)), playing: false })
        setDraft(null)
      }}
      onKeyDown={(e) => {
        if (e.key === 'Enter') e.currentTarget.blur()
        e.stopPropagation()
      }}
    />
  )
}
