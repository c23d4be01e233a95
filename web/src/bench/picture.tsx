import {
  useCallback,
  useEffect,
  useLayoutEffect,
  useRef,
  useState,
  useSyncExternalStore,
  type PointerEvent as ReactPointerEvent,
} from 'react'
import { useLive } from '../api/live'
import { useEdit } from '../api/treatment'
import type { BenchProps, Placement } from './props'
import { BrushLayer, dropLiveStroke } from './brushlayer'
import { fromOf, matrixOf, paintFrame } from './fill'
import { FillHandles } from './handles/fill'
import { FrameStore, reductionFor } from './frames'
import { Handles } from './handles/handles'
import { Others } from './handles/others'
import { drag } from './handles/lines'
import { held } from './pointer'
import { chain, identity, ofMatrix, ofMesh, type Mapping } from './mapping'
import type { Point } from './matrix'
import { flatOf, positionOnly, surfaceOf } from './motion'
import { followFingers, rests } from './pointer'
import { openScreen, type Screen } from './screen'
import { SetHandles } from './set/handles'
import { useLens } from './set/queries'
import { ToolRing } from './toolring'
import { bench, useBench, showsPaint } from './state'

/** The picture, and all that lies on it: free, or locked to a surface. */
export function Picture(props: BenchProps & { locked: boolean; second?: boolean }) {
  const { shot, frames, overlays, motion, motions, revision, locked, second } = props
  const {
    frame,
    view: chosenView,
    channel,
    exposure,
    zoom,
    centre: panned,
    removal,
    tool,
    handles,
    lockTo,
    lockBy,
    through,
    box,
    origin,
    loan,
    stage,
    before,
    sourceId,
    split,
    gain,
    setOpen,
    straight,
    moving,
  } = useBench()
  const view = before ? 'plate' : chosenView
  const open = revision.document.removals.find((r) => r.id === removal) ?? null
  const { adopt } = useEdit(shot.id)
  const room = useRef<HTMLDivElement>(null)
  const canvas = useRef<HTMLCanvasElement>(null)
  const latestTable = useRef(props.table)
  latestTable.current = props.table
  const screen = useRef<Screen | null>(null)
  const [size, setSize] = useState({ width: 0, height: 0 })
  const [failed, setFailed] = useState('')
  const loaded = useSyncExternalStore(frames.subscribe, frames.snapshot)
  // The revision that holds the strokes on the live layer, -1 while one is painted, null for none; and their frame.
  const live = useRef<number | null>(null)
  const liveFrame = useRef(0)

  useLayoutEffect(() => {
    const observer = new ResizeObserver(([e]) => setSize({ width: e.contentRect.width, height: e.contentRect.height }))
    observer.observe(room.current!)
    return () => observer.disconnect()
  }, [])

  useEffect(() => {
    const on = canvas.current!
    const open = () => {
      try {
        screen.current = openScreen(on, shot.width, shot.height)
        screen.current.look(latestTable.current)
        redraw.current()
      } catch (e) {
        setFailed((e as Error).message)
      }
    }
    // The graphics card may take everything away, as when a laptop sleeps, and give it back empty.
    const lost = (e: Event) => {
      e.preventDefault()
      screen.current = null
    }
    on.addEventListener('webglcontextlost', lost)
    on.addEventListener('webglcontextrestored', open)
    open()
    return () => {
      on.removeEventListener('webglcontextlost', lost)
      on.removeEventListener('webglcontextrestored', open)
      screen.current?.close()
      screen.current = null
    }
  }, [shot.id, shot.width, shot.height])
  useEffect(() => {
    screen.current?.look(props.table)
    redraw.current()
  }, [props.table])

  // A pixel that is not square is drawn as wide as it is meant to be seen.
  const aspect = shot.aspect || 1
  const bowed = useLens(shot.id, revision)
  const lockTrack = motions.of(lockTo ?? undefined) ?? motion
  const flat = lockBy === 'flat' && lockTrack ? flatOf(lockTrack, bowed) : null
  // What is fitted to the room: the frame, or the card that is seen flat with a little around it.
  const fitted =
    flat && locked && !(straight && !second && bowed)
      ? { middle: flat.middle, width: 1.25 * flat.size[0], height: 1.25 * flat.size[1] }
      : { middle: { x: shot.width / 2, y: shot.height / 2 }, width: shot.width, height: shot.height }
  const fit = Math.max(
    0.01,
    Math.min((size.width - 24) / (fitted.width * aspect), (size.height - 24) / fitted.height, 64),
  )
  const scale = zoom ?? fit
  const centre = panned ?? fitted.middle
  // Pictures are as fine as the zoom shows them.
  const reduction = reductionFor(scale * Math.max(aspect, 1) * (devicePixelRatio || 1))
  useLayoutEffect(() => {
    if (!second) frames.fit(reduction)
  }, [frames, reduction, second])
  // The last complete frame stays until the next one is complete.
  const wanted = frames.get(frame, overlays)
  const shown = useRef<{ plate: ImageBitmap; overlay: typeof wanted.overlay; frame: number } | null>(null)
  if (wanted.plate && (wanted.ready || wanted.draft || !shown.current || shown.current.frame === frame)) {
    const last = shown.current?.frame === frame ? shown.current.overlay : null
    shown.current = { plate: wanted.plate, overlay: wanted.overlay ?? (wanted.ready ? null : last), frame }
  }
  // Everything on the picture belongs to the frame that is seen, also while the next one is on its way.
  const seen = shown.current?.frame ?? frame
  // Space is what stands still: the reference frame when locked, the frame itself when free.
  const zero = open?.reference ?? lockTrack?.track.home ?? shot.first
  const lockAt = (n: number): Mapping | null => {
    if (flat) {
      const m = lockTrack!.at(n)
      return m && chain(flat.mapping, m)
    }
    const m = lockTrack ? motions.between(lockTrack.track.id, zero, n) : null
    if (!m || lockBy !== 'position' || !lockTrack) return m
    const home = lockTrack.at(zero) ?? identity
    const corners = surfaceOf(lockTrack.track).map((p) => home.apply(p))
    return positionOnly(m, { x: corners.reduce((s, p) => s + p.x, 0) / 4, y: corners.reduce((s, p) => s + p.y, 0) / 4 })
  }
  const taken = straight && !second ? bowed : null
  // A card that is being moved takes the locked picture along: what is not at its depth slides.
  const tried =
    moving?.mesh && moving.frame === seen && moving.track === lockTrack?.track.id && zero === lockTrack.track.home
      ? ofMesh(moving.mesh)
      : null
  const lock = taken ?? (locked ? (tried ?? lockAt(seen)) : null)
  const isLocked = lock !== null && !taken
  const fromRoomToSpace = ofMatrix([
    1 / scale / aspect,
    0,
    centre.x - size.width / 2 / scale / aspect,
    0,
    1 / scale,
    centre.y - size.height / 2 / scale,
    0,
    0,
    1,
  ])
  const fromRoomToFrame = lock ? chain(fromRoomToSpace, lock) : fromRoomToSpace
  const toRoom = fromRoomToFrame.inverse()
  const placement: Placement = {
    toRoom: (p) => toRoom.apply(p),
    fromRoom: (p) => fromRoomToFrame.apply(p),
    scale: () => scale,
    bent: toRoom.cells > 1,
    placed: true,
  }
  // Where a place on another frame is drawn: as it is when free, as that frame's lock puts it when locked.
  const ghostOf = (n: number): Mapping | null => {
    if (!lock) return identity
    const other = lockAt(n)
    return other && chain(other.inverse(), lock)
  }
  // The reference frame shows through the locked picture, to see slip; in Fill a frame on loan, to line it up.
  const painted = open ? paintFrame(open, sourceId, seen) : 0
  const lent = open && stage === 'fill' && !second ? origin.frame : null
  const toLent = lent !== null && open ? (motions.between(open.follow.track, painted, lent) ?? identity) : null
  const toPainted = open ? motions.between(open.follow.track, seen, painted) : null
  const borrowed = fromOf(origin, origin.offset ?? { x: 0, y: 0 })
  const toLoan =
    toLent && toPainted ? chain(toPainted, ofMatrix(matrixOf(borrowed, origin.middle ?? { x: 0, y: 0 })), toLent) : null
  const other = toLoan && loan.as !== 'hidden' ? lent : through > 0 && isLocked && open ? open.reference : null
  const otherPicture = other !== null ? frames.plate(other) : undefined
  const under = otherPicture && {
    picture: otherPicture,
    share: toLoan ? loan.share : through,
    difference: !!toLoan && loan.as === 'difference',
    from: toLoan ? chain(fromRoomToFrame, toLoan) : chain(fromRoomToSpace, (flat && lockAt(zero)) ?? identity),
  }
  const needed = lent ?? other
  useEffect(() => {
    if (needed !== null) void frames.load(needed, null)
  }, [needed])

  // Where the stroke in progress lies on what is seen: on its own frame, or, locked, carried from there.
  const liveOn = (): Mapping | null => {
    if (!open) return null
    if (seen === liveFrame.current) return identity
    return isLocked ? motions.between(open.follow.track, seen, liveFrame.current) : null
  }
  useEffect(() => {
    if (live.current !== null && live.current >= 0 && wanted.ready && overlays && overlays.revision >= live.current) {
      screen.current?.clearLive()
      live.current = null
    }
  })

  const draw = (painted = false) => {
    const c = canvas.current!
    const ratio = devicePixelRatio || 1
    const width = Math.max(1, Math.round(size.width * ratio))
    const height = Math.max(1, Math.round(size.height * ratio))
    if (c.width !== width) c.width = width
    if (c.height !== height) c.height = height
    const s = shown.current
    if (!s || !screen.current) return
    const liveTo = liveOn()
    const toCss = ofMatrix([1 / ratio, 0, 0, 0, 1 / ratio, 0, 0, 0, 1])
    screen.current[painted ? 'drawPainted' : 'draw']({
      plate: s.plate,
      overlay: s.overlay ?? null,
      live: live.current !== null && liveTo && showsPaint(view) ? chain(toCss, fromRoomToFrame, liveTo) : null,
      view,
      channel,
      exposure,
      gain,
      split: split === null || second ? null : split * width,
      toFrame: chain(toCss, fromRoomToFrame),
      scale: scale * ratio,
      under: under && { ...under, toFrame: chain(toCss, under.from) },
    })
    c.dataset.frame = String(s.frame)
    c.dataset.ready = String(wanted.ready)
    c.dataset.key = FrameStore.key(overlays, frame)
  }
  const redraw = useRef(draw)
  redraw.current = draw
  // Pixels of a stroke go straight to the screen, once for each of its frames.
  const due = useRef(0)
  const drawSoon = (painted: boolean) => {
    due.current ||= requestAnimationFrame(() => {
      due.current = 0
      redraw.current(painted)
    })
  }
  useLayoutEffect(
    () => draw(),
    [
      size,
      seen,
      frame,
      view,
      channel,
      exposure,
      scale,
      centre.x,
      centre.y,
      isLocked,
      lock?.key,
      loaded,
      overlays,
      motions,
      lockTo,
      lockBy,
      zero,
      otherPicture,
      through,
      loan,
      toLoan?.key,
      liveFrame.current,
      wanted.ready,
      split,
      gain,
    ],
  )

  const zoomAt = useCallback(
    (at: Point, factor: number) => {
      const s = bench.get()
      const old = s.zoom ?? fit
      const from = s.centre ?? fitted.middle
      const next = Math.min(64, Math.max(fit * 0.5, old * factor))
      const dx = at.x - size.width / 2
      const dy = at.y - size.height / 2
      bench.set({
        zoom: next,
        centre: { x: from.x + (dx / old - dx / next) / aspect, y: from.y + dy / old - dy / next },
      })
    },
    [fit, size, fitted.middle.x, fitted.middle.y],
  )

  useEffect(() => {
    const el = room.current!
    const wheel = (e: WheelEvent) => {
      e.preventDefault()
      const box = el.getBoundingClientRect()
      zoomAt({ x: e.clientX - box.left, y: e.clientY - box.top }, Math.exp(-e.deltaY * 0.0016))
    }
    el.addEventListener('wheel', wheel, { passive: false })
    return () => el.removeEventListener('wheel', wheel)
  }, [zoomAt])

  // Two fingers move the picture and bring it closer; a hand that rests beside a pen does nothing.
  const latest = useRef(zoomAt)
  latest.current = zoomAt
  useEffect(() => {
    const el = room.current!
    const fingers = followFingers()
    let two = false
    const quiet = (e: PointerEvent) => {
      e.stopImmediatePropagation()
      e.preventDefault()
    }
    const down = (e: PointerEvent) => {
      const resting = rests(e)
      if (e.pointerType === 'pen') bench.set({ pen: true })
      if (fingers.begin(e)) {
        two = true
        dropLiveStroke()
        quiet(e)
      } else if (resting && bench.get().tool !== 'look') quiet(e)
    }
    const move = (e: PointerEvent) => {
      if (e.type === 'pointermove') {
        const to = fingers.move(e)
        if (to) {
          const box = el.getBoundingClientRect()
          const at = { x: to.at.x - box.left, y: to.at.y - box.top }
          latest.current(at, to.factor)
          const { zoom: k, centre: from } = bench.get()
          if (k && from) bench.set({ centre: { x: from.x - to.by.x / k / aspect, y: from.y - to.by.y / k } })
        }
      }
      if (two && e.pointerType === 'touch') quiet(e)
    }
    const up = (e: PointerEvent) => {
      fingers.end(e)
      if (fingers.count() === 0) two = false
    }
    el.addEventListener('pointerdown', down, true)
    for (const kind of ['pointermove', 'pointerrawupdate'] as const)
      el.addEventListener(kind, move as EventListener, true)
    addEventListener('pointerup', up, true)
    addEventListener('pointercancel', up, true)
    return () => {
      el.removeEventListener('pointerdown', down, true)
      for (const kind of ['pointermove', 'pointerrawupdate'] as const)
        el.removeEventListener(kind, move as EventListener, true)
      removeEventListener('pointerup', up, true)
      removeEventListener('pointercancel', up, true)
    }
  }, [aspect])

  const pan = (e: ReactPointerEvent) => {
    if (e.shiftKey && e.button === 0 && tool === 'look' && bench.get().outline) {
      selectBox(e)
      return
    }
    const free = tool === 'look' || held.has(' ') || e.button === 1
    if (!free || (e.button !== 0 && e.button !== 1)) return
    e.currentTarget.setPointerCapture(e.pointerId)
    if (held.has(' ')) bench.set({ playing: false })
    const start = { x: e.clientX, y: e.clientY, centre, moved: false }
    const el = e.currentTarget as HTMLElement
    const move = (m: PointerEvent) => {
      if (Math.hypot(m.clientX - start.x, m.clientY - start.y) > 3) start.moved = true
      if (start.moved)
        bench.set({
          zoom: scale,
          centre: {
            x: start.centre.x - (m.clientX - start.x) / scale / aspect,
            y: start.centre.y - (m.clientY - start.y) / scale,
          },
        })
    }
    const up = () => {
      el.removeEventListener('pointermove', move)
      el.removeEventListener('pointerup', up)
      if (!start.moved && tool === 'look') bench.set({ strokes: [], outline: null, knots: [], points: [], key: null })
    }
    el.addEventListener('pointermove', move)
    el.addEventListener('pointerup', up)
  }

  return (
    <div
      ref={room}
      className="relative min-h-0 min-w-0 touch-none overflow-hidden bg-soil select-none"
      onPointerDown={pan}
      onContextMenu={(e) => {
        e.preventDefault()
        const box = e.currentTarget.getBoundingClientRect()
        if (!second) bench.set({ ring: { x: e.clientX - box.left, y: e.clientY - box.top }, playing: false })
      }}
      role="application"
      aria-label={`Picture, frame ${frame}`}
    >
      <canvas
        ref={canvas}
        data-testid={second ? 'picture-beside' : 'picture'}
        className="absolute inset-0 h-full w-full"
      />
      {handles && !second && <Others {...props} placement={placement} seen={seen} />}
      {handles && open && stage !== 'fill' && tool !== 'setpoints' && tool !== 'straightline' && (
        <Handles {...props} removal={open} placement={placement} seen={seen} ghostOf={ghostOf} />
      )}
      {open && stage === 'fill' && !second && (
        <>
          <BrushLayer
            {...props}
            removal={open}
            placement={placement}
            seen={seen}
            isLocked={isLocked}
            picture={() => canvas.current}
            toLoan={toLoan}
            onPixels={(at, x, y, w, h, rgba) => {
              liveFrame.current = at
              screen.current?.paint(x, y, w, h, rgba)
              live.current = -1
              drawSoon(true)
            }}
            onSaved={(saved, base, patch) => {
              live.current = saved.number
              adopt(saved, base, patch)
            }}
            onDropped={() => {
              screen.current?.clearLive()
              live.current = null
              drawSoon(false)
            }}
          />
          {handles && <FillHandles {...props} removal={open} placement={placement} seen={seen} />}
        </>
      )}
      {handles && setOpen && !second && <SetHandles {...props} placement={placement} seen={seen} />}
      {!second && <ToolRing {...props} size={size} />}
      {box && !second && (
        <div
          className="pointer-events-none absolute border border-fern bg-fern/15"
          style={{
            left: Math.min(box[0].x, box[1].x),
            top: Math.min(box[0].y, box[1].y),
            width: Math.abs(box[1].x - box[0].x),
            height: Math.abs(box[1].y - box[0].y),
          }}
        />
      )}
      {split !== null && !second && view !== 'plate' && <Split at={split} />}
      {failed && <p className="absolute inset-x-4 top-4 text-clay">{failed}</p>}
      {wanted.draft && <Gathering frame={frame} />}
      {taken && (
        <p className="pointer-events-none absolute top-2 left-3 rounded bg-black/60 px-2 text-[13px]">
          The lens is taken out: for looking
        </p>
      )}
      {isLocked && (
        <p className="pointer-events-none absolute top-2 left-3 rounded bg-black/60 px-2 text-[13px]">
          {flat ? `${lockTrack!.track.name}, seen flat` : `Locked to frame ${zero}`}
          {lockBy === 'position' ? ', position only' : ''}
          {lockTo && lockTrack && !flat ? `, ${lockTrack.track.name}` : ''}
        </p>
      )}
      {locked && !isLocked && !taken && (
        <p className="pointer-events-none absolute top-2 left-3 rounded bg-black/60 px-2 text-[13px] text-clay">
          Not followed to this frame: it cannot be locked
        </p>
      )}
      {!locked && motion && motion.at(seen) === null && handles && (stage === 'mark' || stage === 'follow') && (
        <p className="pointer-events-none absolute top-2 left-3 rounded bg-black/60 px-2 text-[13px]">
          Not followed to this frame: what rides on {motion.track.name} stands where it was drawn
        </p>
      )}
    </div>
  )
}

/** What is seen is a first picture; says how far the whole is. */
function Gathering({ frame }: { frame: number }) {
  const gathered = useLive((s) => s.gathered)
  return (
    <p
      role="status"
      className="pointer-events-none absolute right-3 bottom-2 rounded bg-black/60 px-2 text-[13px] tabular-nums"
    >
      From a few frames;{' '}
      {gathered?.frame === frame
        ? `the whole is gathered to ${Math.round(100 * gathered.share)} %`
        : 'the others are being gathered'}
    </p>
  )
}

/** The line between before and after. */
function Split({ at }: { at: number }) {
  return (
    <div
      role="slider"
      aria-label="Before and after"
      aria-valuemin={0}
      aria-valuemax={100}
      aria-valuenow={Math.round(at * 100)}
      tabIndex={0}
      className="absolute inset-y-0 z-10 -ml-2 w-4 cursor-ew-resize touch-none"
      style={{ left: `${at * 100}%` }}
      onPointerDown={(e) => {
        e.stopPropagation()
        const edge = e.currentTarget.parentElement!.getBoundingClientRect()
        drag(
          e,
          (m) => bench.set({ split: Math.min(0.98, Math.max(0.02, (m.clientX - edge.left) / edge.width)) }),
          () => undefined,
        )
      }}
      onKeyDown={(e) => {
        if (e.key !== 'ArrowLeft' && e.key !== 'ArrowRight') return
        e.stopPropagation()
        bench.set({ split: Math.min(0.98, Math.max(0.02, at + (e.key === 'ArrowLeft' ? -0.02 : 0.02))) })
      }}
    >
      <span className="absolute inset-y-0 left-[7px] w-0.5 border-x border-black/70 bg-white/80" style={{ width: 4 }} />
      <span className="pointer-events-none absolute top-2 right-4 rounded bg-black/60 px-1.5 text-[13px]">Plate</span>
    </div>
  )
}

/** Draws a box over the picture; the selected shape takes the points inside it. */
function selectBox(e: ReactPointerEvent) {
  const edge = e.currentTarget.getBoundingClientRect()
  const at = (m: { clientX: number; clientY: number }): Point => ({ x: m.clientX - edge.left, y: m.clientY - edge.top })
  const from = at(e)
  drag(
    e,
    (m) => bench.set({ box: [from, at(m)] }),
    () => bench.set({ box: null }),
  )
}
