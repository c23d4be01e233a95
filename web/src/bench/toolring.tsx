import { useEffect, useRef } from 'react'
import { useEdit } from '../api/treatment'
import { setBrush } from './fill'
import { holdNext } from './pointer'
import type { BenchProps } from './props'
import { bench, useBench } from './state'

/** Of the ring, from its middle to the middles of its tools, and of a tool across. */
const radius = 92
const across = 66

/**
 * The common tools around the pen, for hands without a keyboard: its barrel button, or the right one of a mouse, opens
 * it. Some do what they say at once and leave it open; the others are for the next touch of the picture.
 */
export function ToolRing({ shot, size }: BenchProps & { size: { width: number; height: number } }) {
  const { ring, armed, pen, stage, tool, removal } = useBench()
  const { undo, redo } = useEdit(shot.id)
  const first = useRef<HTMLButtonElement>(null)
  useEffect(() => {
    if (ring) first.current?.focus({ preventScroll: true })
  }, [ring])
  const close = () => bench.set({ ring: null })
  const step = (n: number) =>
    bench.set((s) => ({ frame: Math.min(shot.last, Math.max(shot.first, s.frame + n)), playing: false }))
  const next = (key: string, tells: string) => () => {
    close()
    holdNext(key, tells)
  }
  const painting = removal !== null && stage === 'fill'
  const tools: [string, () => void][] = [
    ['Next', () => step(1)],
    ['Redo', () => void redo()],
    ...(painting
      ? ([
          ['Size', next('x', 'drag: sideways for the size, up and down for the hardness')],
          ['Source', next('s', 'touch where clean pixels are')],
          ['Pick', next('p', 'touch the colour to paint with')],
        ] as [string, () => void][])
      : []),
    ['Move', next(' ', 'drag the picture')],
    ['Whole', () => bench.set({ zoom: null, centre: null })],
    ['Undo', () => void undo()],
    ['Previous', () => step(-1)],
  ]
  const room = radius + across / 2 + 4
  const at = ring && {
    x: Math.min(Math.max(ring.x, room), Math.max(room, size.width - room)),
    y: Math.min(Math.max(ring.y, room), Math.max(room, size.height - room)),
  }
  return (
    <>
      {at && (
        <div
          className="absolute inset-0 z-20"
          onPointerDown={(e) => {
            e.stopPropagation()
            if (e.target === e.currentTarget) close()
          }}
          onKeyDown={(e) => {
            if (e.key !== 'Escape') return
            e.stopPropagation()
            close()
          }}
        >
          <div role="group" aria-label="Tools" className="absolute" style={{ left: at.x, top: at.y }}>
            {tools.map(([name, does], i) => {
              const a = ((i + 0.5) / tools.length) * 2 * Math.PI - Math.PI / 2
              return (
                <button
                  key={name}
                  ref={i === 0 ? first : undefined}
                  type="button"
                  className="absolute -translate-1/2 rounded-full border border-stone bg-bed/95 text-[13px] shadow-lg shadow-black/40 hover:border-fern hover:text-fern"
                  style={{
                    left: radius * Math.cos(a),
                    top: radius * Math.sin(a),
                    width: across,
                    height: across,
                  }}
                  onClick={does}
                >
                  {name}
                </button>
              )
            })}
            <button
              type="button"
              className="absolute -translate-1/2 rounded-full border border-stone bg-slab text-[13px] hover:text-fern"
              style={{ left: 0, top: 0, width: across + 6, height: across + 6 }}
              onClick={() => {
                close()
                if (painting)
                  bench.set(
                    tool === 'brush' ? { tool: 'look' } : { tool: 'brush', view: 'patch', playing: false, strokes: [] },
                  )
              }}
            >
              {painting ? (tool === 'brush' ? 'Put down' : 'Paint') : 'Close'}
            </button>
            {painting && (
              <p className="absolute top-[136px] -translate-x-1/2 rounded bg-bed/95 p-0.5 whitespace-nowrap">
                {(['clone', 'heal', 'erase'] as const).map((mode) => (
                  <button
                    key={mode}
                    type="button"
                    className="rounded px-2 py-1 text-[13px] capitalize hover:bg-stone"
                    onClick={() => {
                      setBrush({ mode })
                      bench.set({ tool: 'brush', view: 'patch', playing: false, strokes: [], ring: null })
                    }}
                  >
                    {mode}
                  </button>
                ))}
              </p>
            )}
          </div>
        </div>
      )}
      {armed && (
        <p
          role="status"
          className="pointer-events-none absolute inset-x-0 top-2 mx-auto w-fit rounded bg-black/70 px-2 text-[13px]"
        >
          Next touch: {armed.tells}
        </p>
      )}
      {pen && !ring && (
        <button
          type="button"
          className="absolute right-3 bottom-10 z-10 size-12 rounded-full border border-stone bg-bed/90 text-[13px]"
          title="The tools around the pen; its barrel button opens them where it is"
          onPointerDown={(e) => e.stopPropagation()}
          onClick={() => bench.set({ ring: { x: size.width / 2, y: size.height / 2 }, playing: false })}
        >
          Tools
        </button>
      )}
    </>
  )
}
