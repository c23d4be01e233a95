import { useEffect, useRef, useState } from 'react'
import { useEdit } from '../../api/treatment'
import { onTrack } from '../edits'
import { bench, useBench } from '../state'
import type { BenchProps } from '../props'
import { useLens, type Space } from './queries'
import { opticsOf } from './optics'
import { openSpace, type Stage } from './stage3d'

/** The set from outside: the camera's path, points and cards, what the camera sees laid on the cards. */
export function SpaceView({ shot, revision, space, frames }: BenchProps & { space: Space }) {
  const canvas = useRef<HTMLCanvasElement>(null)
  const stage = useRef<Stage | null>(null)
  const [plain, setPlain] = useState(false)
  const { frame, chosen, card, playing } = useBench()
  useEffect(() => {
    let gone = false
    void openSpace(canvas.current!).then((s) => {
      if (gone) return s.close()
      stage.current = s
      setPlain(s.plain)
      s.show(latest.current)
    })
    return () => {
      gone = true
      stage.current?.close()
      stage.current = null
    }
  }, [])
  const picture = playing ? undefined : frames.plate(frame)
  const lens = useLens(shot.id, revision)
  const optics = opticsOf(revision.document.lens, space, lens)
  const { edit } = useEdit(shot.id)
  const onChoose = (track: string) => bench.set({ card: track })
  const onMove = (track: string, by: number[]) =>
    void edit(
      `Move ${revision.document.tracks.find((t) => t.id === track)?.name ?? 'a card'}`,
      onTrack(track, (t) => {
        if (t.card) t.card.at = t.card.at.map((v, i) => v + by[i])
      }),
    )
  const latest = useRef({ space, frame, chosen, card, picture, optics, onChoose, onMove })
  latest.current = { space, frame, chosen, card, picture, optics, onChoose, onMove }
  useEffect(() => stage.current?.show(latest.current), [space, frame, chosen, card, picture, lens])
  return (
    <figure className="flex flex-col gap-1">
      <canvas
        ref={canvas}
        data-testid="space"
        aria-label="The set in space"
        className="aspect-[4/3] w-full touch-none rounded-sm bg-soil"
        onDoubleClick={() => stage.current?.reset()}
      />
      <figcaption className="flex text-[12px] text-quiet">
        <span className="flex-1">
          {plain
            ? 'From above: there is no WebGL2 here'
            : 'Drag turns or moves the chosen card, Shift moves, wheel zooms'}
        </span>
        <button type="button" className="underline" onClick={() => stage.current?.reset()}>
          All of it
        </button>
        {chosen.length > 0 && (
          <button type="button" className="ml-2 underline" onClick={() => bench.set({ chosen: [] })}>
            Choose none
          </button>
        )}
      </figcaption>
    </figure>
  )
}
