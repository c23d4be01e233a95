import { useState } from 'react'
import { api, type Removal } from '../../api/client'
import { on, copyRemoval, onFront, ownerNow, type Edit } from '../edits'
import type { Point } from '../matrix'
import { gather } from '../path/order'
import { paintedAt, strokesOf } from '../sources/kinds'
import { useEdit } from '../../api/treatment'
import { boundsOf, minus } from './curve'
import { DrawShape, DragBox } from './draw'
import { PickColour } from './pick'
import { newTrack } from '../tracks'
import { still, type Motion } from '../motion'
import type { Mapping } from '../mapping'
import { pointerAt, within, type BenchProps, type Placement } from '../props'
import { Shapes } from './shapes'
import { bench, useBench } from '../state'
import { Aid, Drives, Ghosts, Region, SurfaceCorners } from './surface'
import { PutPoints, TrackPoints } from './trackpoints'
import { boxKnots } from './curve'
import { onTrack } from '../edits'

export type HandleProps = BenchProps & {
  removal: Removal
  /** Of the shown frame's own coordinates. */
  placement: Placement
  seen: number
  /** From a place on a frame to where it is drawn in the shown frame's coordinates. */
  ghostOf: (frame: number) => Mapping | null
}

/** What can be taken hold of on the picture: the shapes in Mark, the track in Follow. */
export function Handles(props: HandleProps) {
  const { removal, motion } = props
  const { stage, tool, aid, ghosts, drives, part } = useBench()
  const mark = { owner: { removal: removal.id }, shapes: removal.mark.outlines, own: removal.follow.track }
  return (
    <>
      <svg className="pointer-events-none absolute inset-0 h-full w-full" data-testid="handles">
        {motion && drives && <Drives {...props} motion={motion} />}
        {motion && aid !== 'none' && <Aid {...props} motion={motion} />}
        {(stage === 'mark' || stage === 'guard') && <Shapes {...props} {...mark} editable={stage === 'mark'} />}
        {(stage === 'settle' || stage === 'guard') && <Parts {...props} />}
        {stage === 'follow' && motion && <Following {...props} motion={motion} />}
        {motion && ghosts && <Ghosts {...props} motion={motion} from={props.ghostOf} />}
      </svg>
      {tool === 'outline' && stage === 'mark' && <DrawShape {...props} owner={mark.owner} />}
      {tool === 'exclusion' && stage === 'follow' && motion && (
        <DrawShape {...props} owner={{ track: motion.track.id }} />
      )}
      {tool === 'where' && (stage === 'settle' || stage === 'guard') && part && (
        <DrawShape {...props} owner={ownerNow(removal)} />
      )}
      {tool === 'pick' && stage === 'guard' && part && <PickKey {...props} front={part} />}
      {(tool === 'region' || tool === 'fresh') && stage === 'follow' && <DrawRegion {...props} />}
      {tool === 'point' && stage === 'follow' && motion && <PutPoints {...props} motion={motion} />}
      {tool === 'copy' && <CopyHere {...props} />}
    </>
  )
}

/** The outlines of the tone or the front that is edited; the other fronts thinly. */
function Parts(props: HandleProps) {
  const { removal: r } = props
  const { stage, part } = useBench()
  const own = r.follow.track
  if (stage === 'settle') {
    const tone = r.settle.tones?.find((t) => t.id === part)
    return tone?.where ? (
      <Shapes {...props} owner={{ removal: r.id, tone: tone.id }} shapes={tone.where} own={own} editable />
    ) : null
  }
  return (
    <>
      {(r.guard?.fronts ?? []).map((f) =>
        f.off ? null : (
          <Shapes
            key={f.id}
            {...props}
            owner={{ removal: r.id, front: f.id }}
            shapes={f.shapes ?? []}
            own={own}
            editable={f.id === part}
          />
        ),
      )}
      {r.guard?.within && (
        <Shapes
          {...props}
          owner={{ removal: r.id, within: true }}
          shapes={r.guard.within}
          own={own}
          editable={part === 'within'}
        />
      )}
    </>
  )
}

/** A click takes the colour of the plate there for a key. */
function PickKey({ front, ...props }: HandleProps & { front: string }) {
  const { edit } = useEdit(props.shot.id)
  return (
    <PickColour
      {...props}
      onPick={({ light, spread }) =>
        void edit(
          'Pick a colour',
          onFront(props.removal.id, front, (f) => {
            if (!f.key) return
            f.key.colour = light
            // As far as colours around it are apart, and a little more.
            f.key.near = Math.round(Math.min(40, Math.max(10, 1.5 * spread + 5)))
            f.key.far = Math.round(2.2 * f.key.near)
          }),
        )
      }
    />
  )
}

function Following(props: HandleProps & { motion: Motion }) {
  const tool = useBench((s) => s.tool)
  const { track } = props.motion
  if (tool === 'surface' || tool === 'correct' || tool === 'place') return <SurfaceCorners {...props} mode={tool} />
  return (
    <>
      {track.kind === 'plane' && <Region {...props} />}
      <Shapes {...props} owner={{ track: track.id }} shapes={track.exclusions ?? []} own={still} editable />
      {track.kind === 'points' && <TrackPoints {...props} />}
    </>
  )
}

/** Drawing a region: a box dragged over the surface. The first makes a track. */
function DrawRegion({ shot, revision, removal, motion, placement, seen }: HandleProps) {
  const { edit } = useEdit(shot.id)
  const anew = useBench((s) => s.tool === 'fresh')
  // Drawn on another frame than its home, a region is carried there by the track.
  const here = within(placement, motion?.at(seen) ?? null)
  return (
    <DragBox
      placement={motion ? here : placement}
      knots={boxKnots}
      onDone={(knots) => {
        const region = knots.map((k) => k.at)
        if (anew && motion) {
          void edit(
            'A fresh region',
            onTrack(motion.track.id, (t) => {
              t.regions = [...(t.regions ?? []).filter((r) => r.frame !== seen), { frame: seen, region }]
            }),
          )
        } else if (motion?.track.kind === 'plane') {
          const fresh = !motion.track.data && !motion.track.placed?.length
          void edit(
            'Draw a region',
            onTrack(motion.track.id, (t) => {
              t.region = region
              if (fresh) t.home = seen
            }),
          )
        } else {
          const track = { ...newTrack(revision.document, 'plane', seen), region }
          void edit('Draw a region', (d) => {
            d.tracks.push(track)
            on(removal.id, (r) => {
              r.follow.track = track.id
            })(d)
          })
        }
        bench.set({ tool: 'look' })
      }}
    />
  )
}

/**
 * Each click says where a copy of a removal goes: its outlines' middle lands there, paint and all with it. Where its
 * pixels come from is proposed anew for each, and has to be looked at. Enter ends it.
 */
function CopyHere({ shot, revision, motions, placement, seen }: HandleProps) {
  const { edit } = useEdit(shot.id)
  const copying = useBench((s) => s.copying)
  const source = revision.document.removals.find((r) => r.id === copying)
  const [made, setMade] = useState(0)
  if (!source) return null
  const put = (middle: Point) => {
    const first = source.mark.outlines[0]
    const b = boundsOf(source.mark.outlines.flatMap((o) => o.points))
    const d = first ? minus(middle, { x: (b.left + b.right) / 2, y: (b.top + b.bottom) / 2 }) : { x: 0, y: 0 }
    const copy = copyRemoval(
      source,
      { x: Math.round(d.x), y: Math.round(d.y) },
      revision.document.removals.map((r) => r.name),
    )
    void edit(`Copy ${source.name}`, (doc) => {
      doc.removals.push(structuredClone(copy))
      if (copy.group) gather(doc, [copy.id], copy.group) // beside the others of its group
    }).then(() => proposed(shot.id, copy, edit))
    setMade(made + 1)
  }
  return (
    <>
      <svg
        className="absolute inset-0 h-full w-full cursor-crosshair"
        data-testid="draw"
        onPointerDown={(e) => {
          if (e.button !== 0) return
          e.stopPropagation()
          const first = source.mark.outlines[0]
          const here = within(placement, motions.between(source.follow.track, first?.home ?? source.reference, seen))
          put(pointerAt(e, e.currentTarget, here))
        }}
      />
      <p className="pointer-events-none absolute top-2 left-1/2 -translate-x-1/2 rounded bg-black/70 px-2 text-[13px]">
        {made
          ? `${made === 1 ? '1 copy' : `${made} copies`} of ${source.name}; click for more, Enter ends it`
          : `Click where copies of ${source.name} go; Enter ends it`}
      </p>
    </>
  )
}

/** Has a copy take its pixels from a place beside it that looks like what is around, instead of from where the first one did. */
async function proposed(shot: string, copy: Removal, edit: Edit) {
  const frames = copy.fill.sources.flatMap((s) => paintedAt(s) ?? [])
  const copies = (r: Removal) =>
    r.fill.sources
      .flatMap((s) => strokesOf(s))
      .filter((s) => (s.mode === 'clone' || s.mode === 'heal') && s.from && !s.from.frame)
  if (!copies(copy).length) return
  const { data } = await api.GET('/api/shots/{id}/removals/{removal}/beside', {
    params: { path: { id: shot, removal: copy.id }, query: { frame: frames[0] ?? copy.reference } },
  })
  if (!data) return // nothing beside it is free: it stays as it was copied, to be looked at
  await edit(
    `A place for ${copy.name}`,
    on(copy.id, (r) => copies(r).forEach((s) => (s.from!.offset = data.offset))),
  )
}
