import { useEffect, useRef, useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { Operation } from 'fast-json-patch'
import type { Brief, FillSource, Removal } from '../api/client'
import { notify } from '../ui/notice'
import { BrushChannel } from './brush'
import {
  copies,
  dragged,
  fromOf,
  matrixOf,
  mostSize,
  newStroke,
  paintedOn,
  setBrush,
  setOrigin,
  sizeOnPicture,
} from './fill'
import { paintable, paintedAt, strokeList, travels } from './sources/kinds'
import { newPlate } from './sources/plate'
import type { FrameStore } from './frames'
import { Line } from './handles/lines'
import { pickAt } from './handles/pick'
import { Shapes } from './handles/shapes'
import { identity, type Mapping } from './mapping'
import { apply, type Point } from './matrix'
import { held, isBlunt, leanOf } from './pointer'
import type { BenchProps, Placement } from './props'
import { bench, useBench, type Brush } from './state'

type Props = BenchProps & {
  removal: Removal
  /** Of the shown frame's own coordinates. */
  placement: Placement
  seen: number
  /** The picture as it is drawn, to look at pixels of it. */
  picture: () => HTMLCanvasElement | null
  /** The picture stands still with the surface: plates of other frames can be painted on as well. */
  isLocked: boolean
  /** From the shown frame to the frame on loan, as it lies now; null without one. */
  toLoan: Mapping | null
  onPixels: (frame: number, x: number, y: number, width: number, height: number, rgba: Uint8Array) => void
  onSaved: (revision: Brief, base: number, patch: Operation[] | null) => void
  onDropped: () => void
}

/** Channels on which is painted now. */
const channels = new Set<BrushChannel>()

export const isPainting = () => [...channels].some((c) => c.waiting > 0)

/** Gives up a stroke that is being painted; false if none is. */
export const dropLiveStroke = () => [...channels].some((c) => c.drop())

/** The brush on the picture: its ring with the source's pixels in it, and the stroke while it is painted. */
export function BrushLayer(props: Props) {
  const { shot, removal, placement, motions, seen } = props
  const { frame, tool, brush, origin, handles, sourceId } = useBench()
  const [cursor, setCursor] = useState<Point | null>(null)
  const [told, setTold] = useState('')
  const [pressed, setPressed] = useState(false)
  const channel = useRef<BrushChannel | null>(null)
  const callbacks = useRef(props)
  callbacks.current = props
  const root = useRef<SVGSVGElement>(null)
  const fresh = useRef<{ removal: string; source: FillSource } | null>(null)
  const last = useRef<{ frame: number; at: Point } | null>(null)

  useEffect(() => {
    const c = new BrushChannel(shot.id)
    c.onPixels = (...pixels) => callbacks.current.onPixels(...pixels)
    c.onSaved = (revision, base, patch) => callbacks.current.onSaved(revision, base, patch)
    c.onRefused = () => callbacks.current.onDropped()
    c.code = props.frames.code
    channel.current = c
    channels.add(c)
    ;(window as unknown as { jardinBrush?: BrushChannel }).jardinBrush = c // read by the feel bench
    return () => {
      channels.delete(c)
      c.close()
    }
  }, [shot.id, props.frames.code])

  const at = (e: { clientX: number; clientY: number }): Point => {
    const box = root.current!.getBoundingClientRect()
    return placement.fromRoom({ x: e.clientX - box.left, y: e.clientY - box.top })
  }
  /** Of the brush, in pixels of the picture. */
  const size = (p: Point) => sizeOnPicture(brush, placement.scale(p))
  const round = (p: Point): [number, number] => [Math.round(p.x * 100) / 100, Math.round(p.y * 100) / 100]
  /** A touch, as a stroke keeps it, on the frame that it is made on. */
  const touch = (e: PointerEvent, on: Mapping): number[] => {
    const p = round(on.apply(at(e)))
    // A mouse has no pressure of its own: it paints in full.
    if (e.pointerType !== 'pen') return p
    const lean = brush.pen.includes('shape') && leanOf(e)
    return [...p, Math.round(Math.max(0.02, Math.min(1, e.pressure)) * 1000) / 1000, ...(lean || [])]
  }
  /** Follows the pressed pointer until it is let go. */
  const follow = (
    e: ReactPointerEvent<SVGSVGElement>,
    move: (m: PointerEvent) => void,
    kind: string,
    end?: () => void,
  ) => {
    const el = e.currentTarget
    el.setPointerCapture(e.pointerId)
    const up = () => {
      el.removeEventListener(kind, move as EventListener)
      el.removeEventListener('pointerup', up)
      el.removeEventListener('pointercancel', up)
      end?.()
    }
    el.addEventListener(kind, move as EventListener)
    el.addEventListener('pointerup', up)
    el.addEventListener('pointercancel', up)
  }

  const down = (e: ReactPointerEvent<SVGSVGElement>) => {
    const blunt = isBlunt(e)
    if ((e.button !== 0 && !blunt) || held.has(' ')) return
    e.stopPropagation()
    let p = at(e)
    if (held.has('s') && origin.frame !== null) {
      // A frame on loan is moved as it lies; Shift turns it, Alt scales it, around its middle.
      const start = origin
      const by = e.shiftKey ? 'turn' : e.altKey ? 'scale' : 'move'
      follow(e, (m) => setOrigin({ ...dragged(start, p, at(m), by), crisp: false }), 'pointermove')
      return
    }
    if (held.has('s')) {
      setOrigin({ spot: p, offset: null })
      follow(e, (m) => setOrigin({ spot: at(m) }), 'pointermove')
      return
    }
    if (held.has('p')) {
      const { view } = bench.get()
      setBrush({ mode: 'colour' })
      void pickAt(props, seen, p, size(p) / 2, { view, removal: removal.id })
        .then(({ light }) => setBrush({ colour: light as Brush['colour'] }))
        .catch((e: Error) => notify(e.message))
      return
    }
    if (held.has('x')) {
      const from = { x: e.clientX, y: e.clientY, size: brush.size, hardness: brush.hardness }
      follow(
        e,
        (m) => {
          const size = Math.round(Math.min(mostSize, Math.max(2, from.size * Math.exp((m.clientX - from.x) / 160))))
          const hardness = Math.round(100 * Math.min(1, Math.max(0, from.hardness - (m.clientY - from.y) / 250))) / 100
          setBrush({ size, hardness })
          setTold(`${size} px, ${Math.round(hardness * 100)} %`)
        },
        'pointermove',
        () => setTold(''),
      )
      return
    }
    const source = paintedOn(removal, sourceId)
    if (source && !paintable(source)) {
      notify(`${source.name} cannot be painted on. Choose a clean plate or travelling paint, or add one.`)
      return
    }
    // The first stroke makes a clean plate; a second may come before the server has told of it.
    if (!source && fresh.current?.removal !== removal.id)
      fresh.current = { removal: removal.id, source: newPlate(removal, frame) }
    const on = source ?? fresh.current!.source
    const only = paintedAt(on)
    // Locked to the surface, what is seen of another frame is a place of the plate as well.
    const toPlate = props.isLocked && only !== undefined ? motions.between(removal.follow.track, seen, only) : null
    const made = only !== undefined && only !== frame && toPlate ? only : frame
    if (only !== undefined && only !== made) {
      notify(
        `${on.name} is of frame ${only}. Press J to go there, L to lock the picture and paint on it from here, or add a clean plate of this frame.`,
      )
      return
    }
    const to = made === frame ? identity : toPlate!
    const large = size(p)
    p = to.apply(p)
    let from
    const mode = blunt ? 'erase' : brush.mode
    if (copies(mode)) {
      const spot = origin.spot && to.apply(origin.spot)
      const way = spot ? { x: spot.x - p.x, y: spot.y - p.y } : origin.offset
      if (!way) {
        notify('Choose a source first: hold S and click where clean pixels are.')
        return
      }
      const offset = origin.crisp
        ? { x: Math.round(way.x), y: Math.round(way.y) }
        : { x: Math.round(way.x * 1000) / 1000, y: Math.round(way.y * 1000) / 1000 }
      from = fromOf(origin, offset)
      setOrigin(origin.stays && origin.spot ? { offset } : { offset, spot: null })
    }
    bench.set({ strokes: [] })
    setPressed(true)
    const c = channel.current!
    const begin = touch(e.nativeEvent, to)
    // With Shift a straight line goes on from where the last stroke ended.
    const line = e.shiftKey && last.current?.frame === made ? last.current.at : null
    const bare = structuredClone(on)
    strokeList(bare)?.splice(0)
    c.begin(
      removal.id,
      bare,
      newStroke({ ...brush, mode, size: large }, made, travels(on), from),
      line ? round(line) : begin,
      e.timeStamp,
    )
    if (line) c.move([begin], e.timeStamp)
    const moved = (m: PointerEvent) => {
      const events = m.getCoalescedEvents?.() ?? []
      c.move(
        (events.length ? events : [m]).map((x) => touch(x, to)),
        m.timeStamp,
      )
      last.current = { frame: made, at: to.apply(at(m)) }
    }
    last.current = { frame: made, at: p }
    // Raw updates come at once; moves wait for the next frame of the screen.
    follow(e, moved, 'onpointerrawupdate' in window ? 'pointerrawupdate' : 'pointermove', () => {
      setPressed(false)
      c.end()
    })
  }

  const painting = tool === 'brush'
  const room = (p: Point) => placement.toRoom(p)
  const source =
    copies(brush.mode) &&
    cursor &&
    (origin.spot ?? (origin.offset && apply(matrixOf(fromOf(origin, origin.offset), cursor), cursor)))
  const radius = (size(cursor ?? { x: 0, y: 0 }) / 2) * placement.scale(cursor ?? { x: 0, y: 0 })
  const flat = brush.roundness < 1 ? { k: brush.roundness, angle: brush.angle } : undefined
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
        {handles && (
          <Shapes
            {...props}
            owner={{ removal: removal.id }}
            shapes={removal.mark.outlines}
            own={removal.follow.track}
            editable={false}
          />
        )}
      </svg>
      {painting && cursor && (
        <>
          {source && !pressed && <Inside {...props} cursor={cursor} source={source} radius={radius} />}
          {source && <Tie from={room(cursor)} to={room(source)} />}
          {source && <Ring at={room(source)} radius={radius * (origin.scale || 1)} on flat={flat} />}
          <Ring at={room(cursor)} radius={radius} flat={flat} />
          {told && (
            <p
              className="pointer-events-none absolute rounded bg-black/70 px-1.5 text-[13px]"
              style={{ left: room(cursor).x + 14, top: room(cursor).y + 14 }}
            >
              {told}
            </p>
          )}
        </>
      )}
    </>
  )
}

/** What the brush would lay, inside its ring: pixels of the picture as it is drawn, or of the frame on loan. */
function Inside({
  cursor,
  source,
  radius,
  placement,
  picture,
  frames,
  toLoan,
}: {
  cursor: Point
  source: Point
  radius: number
  placement: Placement
  picture: () => HTMLCanvasElement | null
  frames: FrameStore
  toLoan: Mapping | null
}) {
  const canvas = useRef<HTMLCanvasElement>(null)
  const { origin, brush } = useBench()
  const r = Math.min(400, Math.max(2, radius))
  const centre = placement.toRoom(cursor)
  useEffect(() => {
    const c = canvas.current
    const shown = picture()
    if (!c || !shown) return
    const g = c.getContext('2d')!
    g.setTransform(1, 0, 0, 1, 0, 0)
    g.clearRect(0, 0, c.width, c.height)
    g.save()
    g.beginPath()
    g.ellipse(r, r, r, r * brush.roundness, (brush.angle * Math.PI) / 180, 0, 7)
    g.clip()
    const loan = origin.frame !== null && toLoan ? frames.plate(origin.frame) : undefined
    // Around the brush every mapping is nearly affine: from the room to the pixels that are drawn, and back.
    const look = (p: Point): Point => {
      const here = placement.fromRoom({ x: centre.x + p.x, y: centre.y + p.y })
      if (loan) return toLoan!.apply(here)
      const from = origin.offset
        ? apply(matrixOf(fromOf(origin, origin.offset), cursor), here)
        : { x: here.x + source.x - cursor.x, y: here.y + source.y - cursor.y }
      const q = placement.toRoom(from)
      const k = shown.width / shown.clientWidth
      return { x: q.x * k, y: q.y * k }
    }
    const [o, x, y] = [look({ x: 0, y: 0 }), look({ x: 1, y: 0 }), look({ x: 0, y: 1 })]
    const [a, b, d, e] = [x.x - o.x, y.x - o.x, x.y - o.y, y.y - o.y]
    const det = a * e - b * d
    if (Math.abs(det) > 1e-9) {
      const [ia, ib, id, ie] = [e / det, -b / det, -d / det, a / det]
      g.setTransform(ia, id, ib, ie, r - ia * o.x - ib * o.y, r - id * o.x - ie * o.y)
      if (loan) g.drawImage(loan, 0, 0, frames.shot.width, frames.shot.height)
      else g.drawImage(shown, 0, 0)
    }
    g.restore()
  })
  return (
    <canvas
      ref={canvas}
      aria-hidden
      data-testid="inside"
      width={Math.ceil(2 * r)}
      height={Math.ceil(2 * r)}
      className="pointer-events-none absolute top-0 left-0 opacity-90"
      style={{ transform: `translate(${centre.x - r}px, ${centre.y - r}px)` }}
    />
  )
}

/** A ring that moves as a layer of its own: following the hand draws nothing anew. */
function Ring({
  at,
  radius,
  on,
  flat,
}: {
  at: Point
  radius: number
  on?: boolean
  flat?: { k: number; angle: number }
}) {
  const r = Math.max(2, radius)
  const c = r + 3
  const turn = flat ? ` rotate(${flat.angle}deg) scaleY(${flat.k})` : ''
  return (
    <svg
      aria-hidden
      className="pointer-events-none absolute top-0 left-0 will-change-transform"
      width={2 * c}
      height={2 * c}
      style={{ transform: `translate(${at.x - c}px, ${at.y - c}px)${turn}` }}
    >
      <Line on={on} dashed={on} d={`M${c - r} ${c}a${r} ${r} 0 1 0 ${2 * r} 0a${r} ${r} 0 1 0 ${-2 * r} 0`} />
    </svg>
  )
}

/** The thin line from the brush to its source. */
function Tie({ from, to }: { from: Point; to: Point }) {
  const length = Math.hypot(to.x - from.x, to.y - from.y)
  const angle = Math.atan2(to.y - from.y, to.x - from.x)
  return (
    <div
      aria-hidden
      className="pointer-events-none absolute top-0 left-0 h-px origin-left bg-white/50 will-change-transform"
      style={{ width: length, transform: `translate(${from.x}px, ${from.y}px) rotate(${angle}rad)` }}
    />
  )
}
