import { useQuery } from '@tanstack/react-query'
import { useEffect, useMemo, useRef, useState } from 'react'
import { Link } from 'wouter'
import { answer, api, type Revision, type Shot } from '../api/client'
import { useEdit, useTreatment, type Present } from '../api/treatment'
import { useCube, type Table } from './cube'
import { BrushChannel } from './brush'
import { isPainting } from './brushlayer'
import { FrameStore, type Asked, type OverlaySet } from './frames'
import { useKeys } from './keys'
import { useMotions } from './motion'
import { chain, meshOf, ofMesh } from './mapping'
import { Path, usePathWidth } from './path'
import { Picture } from './picture'
import { usePlace } from './place'
import { usePlayback } from './playback'
import { Ribbon } from './ribbon'
import { SetRoom } from './set/room'
import { useStandings } from './stages'
import { useBench } from './state'
import { Stopped, Unreached } from './unreached'
import { ViewBar } from './viewbar'

/** The bench: the path on the left, the picture, the frame ribbon. */
export function BenchRoom({ id }: { id: string }) {
  const shot = useQuery({
    queryKey: ['shots', id],
    queryFn: () => answer(api.GET('/api/shots/{id}', { params: { path: { id } } })),
  })
  const treatment = useTreatment(id)
  const { table: coming } = useCube(id, shot.data?.transfer)
  // The table there was stays until another one has come.
  const table = useRef(coming)
  if (coming !== undefined) table.current = coming
  const failed = shot.error ?? treatment.error
  // What is here is worked on, whatever a later answer says.
  if (failed && !(shot.data && treatment.data)) {
    return (
      <main className="p-8">
        <p className="mb-4 text-clay">{failed.message}</p>
        <Link href="/" className="text-fern underline">
          Back to the shot wall
        </Link>
      </main>
    )
  }
  if (!shot.data || !treatment.data) return <p className="p-8 text-quiet">Opening the shot…</p>
  if (shot.data.state !== 'ready')
    return (
      <p className="p-8 text-quiet">
        This shot is still being brought in.{' '}
        <Link href="/" className="text-fern underline">
          Back to the shot wall
        </Link>
      </p>
    )
  if (table.current === undefined) return <p className="p-8 text-quiet">Opening the shot…</p>
  return <Bench shot={shot.data} revision={treatment.data} table={table.current} />
}

function Bench({ shot, revision, table }: { shot: Shot; revision: Present; table: Table | null }) {
  const code = table !== null
  const frames = useMemo(() => new FrameStore(shot, undefined, code), [shot, code])
  useEffect(() => () => frames.clear(), [frames])
  const { removal: open, view, locked, beside, setOpen } = useBench()
  usePlace(
    shot,
    revision.document.removals.map((r) => r.id),
  )
  useEffect(() => {
    document.title = `${shot.name} · Jardin`
    return () => {
      document.title = 'Jardin'
    }
  }, [shot.name])
  const removal = revision.document.removals.find((r) => r.id === open) ?? null
  const motions = useMotions(shot.id, revision)
  const motion = motions.of(removal?.follow.track)
  const standings = useStandings(shot.id, revision)
  const asked: Asked = view === 'plate' || view === 'difference' ? 'result' : view
  const of = asked === 'result' ? '' : (open ?? '')
  const saved = useTrial(frames, revision, useOverlays(shot, revision, asked, of), asked, of)
  // A track that is being measured carries the patch as it goes: from the reference frame to each that is found.
  const found = motion?.found
  const home = removal && motion ? motion.at(removal.reference) : null
  const overlays = useMemo(() => {
    if (!saved || !found || !open || !home) return saved
    const back = home.inverse()
    const at = new Map([...found].map(([n, mesh]) => [n, meshOf(chain(back, ofMesh(mesh)), mesh.box)]))
    return { ...saved, live: { removal: open, at } }
  }, [saved, found, open, home?.key])
  const props = { shot, revision, table, frames, overlays, motions, motion, standings }
  usePlayback(props)
  const edits = useEdit(shot.id)
  const width = usePathWidth()
  useKeys(props, edits)
  useEffect(() => {
    // Strokes that an earlier page could not send.
    void BrushChannel.finish(shot.id, edits.adopt, isPainting)
  }, [shot.id, edits.adopt])
  return (
    <div
      className="grid h-full grid-rows-[auto_1fr_auto]"
      style={{ gridTemplateColumns: `${width.css} minmax(0, 1fr)` }}
    >
      <Path {...props} width={width} />
      <ViewBar {...props} />
      <div
        className="relative grid min-h-0 min-w-0"
        style={setOpen ? { gridTemplateColumns: 'minmax(0, 1fr) 21.5rem' } : undefined}
      >
        {beside ? (
          <div className="grid min-h-0 min-w-0 grid-cols-2 gap-px bg-rule">
            <Picture {...props} locked={false} />
            <Picture {...props} locked second />
          </div>
        ) : (
          <Picture {...props} locked={locked} />
        )}
        {setOpen && <SetRoom {...props} />}
        <div className="pointer-events-none absolute inset-x-0 bottom-2 z-10 flex flex-col gap-1">
          <Stopped {...props} />
          <Unreached {...props} />
        </div>
      </div>
      <Ribbon {...props} />
    </div>
  )
}

/** The keys of all overlays of a view. The last known ones stay until the newer are here. */
function useOverlays(shot: Shot, revision: Revision, view: Asked, removal: string): OverlaySet | null {
  const drafts = revision.document.removals.some((r) => r.fill.sources.some((s) => s.gathered && !s.off))
  const { data } = useQuery({
    queryKey: ['keys', shot.id, revision.number, view, removal],
    queryFn: async (): Promise<OverlaySet> => {
      const keys = await answer(
        api.GET('/api/shots/{id}/keys', {
          params: { path: { id: shot.id }, query: { revision: revision.number, view, removal } },
        }),
      )
      return { revision: revision.number, view, removal, drafts, ...keys }
    },
    placeholderData: (old) => (old?.view === view && old.removal === removal ? old : undefined),
    gcTime: 60_000,
  })
  return data ?? null
}

/**
 * While a change is being made, or saved, the frame that is looked at shows it already: one picture is asked for at a
 * time, and after it the newest state.
 */
function useTrial(
  frames: FrameStore,
  revision: Present,
  saved: OverlaySet | null,
  view: Asked,
  removal: string,
): OverlaySet | null {
  const frame = useBench((s) => s.frame)
  const playing = useBench((s) => s.playing)
  const [shown, setShown] = useState<{ frame: number; key: string; view: Asked; removal: string } | null>(null)
  const wanted = useRef<(() => Promise<void>) | null>(null)
  const busy = useRef(false)
  const last = useRef('')
  const patch = revision.pending?.length && !playing ? revision.pending : undefined
  const drafts = saved?.drafts ?? false
  // Saved, and the keys are here: they say the same, or better.
  const over = !patch && saved?.revision === revision.number
  const isOver = useRef(over)
  isOver.current = over
  useEffect(() => {
    if (over) setShown(null)
  }, [over])
  useEffect(() => {
    if (!patch) {
      wanted.current = null
      return
    }
    const what = [revision.number, frame, view, removal, JSON.stringify(patch)].join()
    if (what === last.current) return // let go where it was tried last: it is on its way, or here
    last.current = what
    wanted.current = async () => {
      const key = await frames.attempt(frame, { revision: revision.number, view, removal, drafts }, patch)
      if (!isOver.current) setShown({ frame, key, view, removal })
    }
    if (busy.current) return
    busy.current = true
    void (async () => {
      for (let next = wanted.current; next; next = wanted.current) {
        wanted.current = null
        await next().catch(() => undefined) // what cannot be tried shows when it is saved, or its refusal does
      }
      busy.current = false
    })()
  }, [frames, patch, revision.number, frame, view, removal, drafts])
  return useMemo(
    () =>
      saved && shown && !over && shown.view === view && shown.removal === removal
        ? { ...saved, trial: { frame: shown.frame, key: shown.key } }
        : saved,
    [saved, shown, over, view, removal],
  )
}
