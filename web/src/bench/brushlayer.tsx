import { useQuery } from '@tanstack/react-query'
import { useEffect, useRef, useState, type PointerEvent as ReactPointerEvent } from 'react'
import { answer, api, type Removal, type Revision } from '../api/client'
import { newId } from '../api/treatment'
import { notify } from '../ui/notice'
import type { BenchProps, Placement } from './props'
import { BrushChannel } from './brush'
import { Line } from './handles/lines'
import { Shapes } from './handles/shapes'
import { held } from './keys'
import type { Point } from './matrix'
import { bench, useBench } from './state'

type Props = BenchProps & {
  removal: Removal
  /** Of the coordinates of the frame that the paint lies on. */
  placement: Placement
  /** Of the shown frame's own. */
  framePlacement: Placement
  seen: number
  onPixels: (x: number, y: number, width: number, height: number, rgba: Uint8Array) => void
  onSaved: (revision: Revision) => void
  onDropped: () => void
}

/** The brush on the picture: its ring, the source's ring tied to it, and the stroke while it is painted. */
export function BrushLayer(props: Props) {
  const { shot, removal, placement, framePlacement, seen } = props
  const { frame, tool, brush, source, offset, stroke, handles } = useBench()
  const [cursor, setCursor] = useState<Point | null>(null)
  const channel = useRef<BrushChannel | null>(null)
  const callbacks = useRef(props)
  callbacks.current = props
  const root = useRef<SVGSVGElement>(null)

  useEffect(() => {
    const c = new BrushChannel(shot.id)
    c.onPixels = (...pixels) => callbacks.current.onPixels(...pixels)
    c.onSaved = (revision) => callbacks.current.onSaved(revision)
    c.onRefused = () => callbacks.current.onDropped()
    channel.current = c
    ;(window as unknown as { jardinBrush?: BrushChannel }).jardinBrush = c // read by the feel bench
    return () => c.close()
  }, [shot.id])

  const { data: paths } = useQuery({
    queryKey: ['paths', shot.id, removal.id, removal.fill.strokes.map((s) => s.path.artifact).join()],
    queryFn: () => answer(api.GET('/api/shots/{id}/paths/{removal}', { params: { path: { id: shot.id, removal: removal.id } } })),
    enabled: stroke !== null,
  })

  const at = (e: { clientX: number; clientY: number }): Point => {
    const box = root.current!.getBoundingClientRect()
    return placement.fromRoom({ x: e.clientX - box.left, y: e.clientY - box.top })
  }
  const touch = (e: PointerEvent): number[] => {
    const p = at(e)
    const xy = [Math.round(p.x * 100) / 100, Math.round(p.y * 100) / 100]
    // A mouse has no pressure of its own: it paints at the full size.
    return e.pointerType === 'pen' ? [...xy, Math.round(Math.max(0.02, Math.min(1, e.pressure)) * 1000) / 1000] : xy
  }

  const down = (e: ReactPointerEvent<SVGSVGElement>) => {
    if (e.button !== 0 || held.has(' ')) return
    e.stopPropagation()
    const p = at(e)
    if (held.has('s')) {
      bench.set({ source: p, offset: null })
      return
    }
    if (frame !== removal.fill.frame) {
      notify(`Paint lies on frame ${removal.fill.frame}. Press J to go there.`)
      return
    }
    const move = source ? { x: Math.round(source.x - p.x), y: Math.round(source.y - p.y) } : offset
    if (!move) {
      notify('Choose a source first: hold S and click where clean pixels are.')
      return
    }
    bench.set({ offset: move, source: null, stroke: null })
    const el = e.currentTarget
    el.setPointerCapture(e.pointerId)
    const c = channel.current!
    c.begin(removal.id, { id: newId(), mode: 'clone', size: brush.size, hardness: brush.hardness, opacity: brush.opacity, offset: [move.x, move.y], path: {} }, touch(e.nativeEvent), e.timeStamp)
    const moved = (m: PointerEvent) => {
      const events = m.getCoalescedEvents?.() ?? []
      c.move((events.length ? events : [m]).map(touch), m.timeStamp)
    }
    // Raw updates come at once; moves wait for the next frame of the screen.
    const kind = 'onpointerrawupdate' in window ? 'pointerrawupdate' : 'pointermove'
    const up = () => {
      el.removeEventListener(kind, moved as EventListener)
      el.removeEventListener('pointerup', up)
      el.removeEventListener('pointercancel', up)
      c.end()
    }
    el.addEventListener(kind, moved as EventListener)
    el.addEventListener('pointerup', up)
    el.addEventListener('pointercancel', up)
  }

  const painting = tool === 'brush'
  const room = (p: Point) => placement.toRoom(p)
  const from = cursor && (source ?? (offset && { x: cursor.x + offset.x, y: cursor.y + offset.y }))
  const selected = stroke && paths?.[stroke]
  const shift = removal.fill.strokes.find((x) => x.id === stroke)?.path.shift ?? [0, 0]
  return (
    <>
    <svg
      ref={root}
      data-testid="brush"
      className={`absolute inset-0 h-full w-full touch-none ${painting ? 'cursor-none' : 'pointer-events-none'}`}
      onPointerDown={down}
      onPointerMove={(e) => setCursor(at(e))}
      onPointerLeave={() => setCursor(null)}
    >
      {handles && <Shapes {...props} placement={framePlacement} seen={seen} owner={{ removal: removal.id }} shapes={removal.mark.outlines} own={removal.follow.track} editable={false} />}
      {selected && <Line on d={selected.map((v, i) => { const p = placement.toRoom({ x: v[0] + shift[0], y: v[1] + shift[1] }); return `${i ? 'L' : 'M'}${p.x} ${p.y}` }).join('') || ''} />}
    </svg>
    {painting && cursor && (
      <>
        {from && <Tie from={room(cursor)} to={room(from)} />}
        {from && <Ring at={room(from)} radius={(brush.size / 2) * placement.scale} on />}
        <Ring at={room(cursor)} radius={(brush.size / 2) * placement.scale} />
      </>
    )}
    </>
  )
}

/** A ring that moves as a layer of its own: following the hand draws nothing anew. */
function Ring({ at, radius, on }: { at: Point; radius: number; on?: boolean }) {
  const r = Math.max(2, radius)
  const c = r + 3
  return (
    <svg aria-hidden className="pointer-events-none absolute top-0 left-0 will-change-transform" width={2 * c} height={2 * c} style={{ transform: `translate(${at.x - c}px, ${at.y - c}px)` }}>
      <Line on={on} dashed={on} d={`M${c - r} ${c}a${r} ${r} 0 1 0 ${2 * r} 0a${r} ${r} 0 1 0 ${-2 * r} 0`} />
    </svg>
  )
}

/** The thin line from the brush to its source. */
function Tie({ from, to }: { from: Point; to: Point }) {
  const length = Math.hypot(to.x - from.x, to.y - from.y)
  const angle = Math.atan2(to.y - from.y, to.x - from.x)
  return <div aria-hidden className="pointer-events-none absolute top-0 left-0 h-px origin-left bg-white/50 will-change-transform" style={{ width: length, transform: `translate(${from.x}px, ${from.y}px) rotate(${angle}rad)` }} />
}
