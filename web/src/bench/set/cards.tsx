import { useState } from 'react'
import { answer, api, type Track } from '../../api/client'
import { newId, useEdit } from '../../api/treatment'
import { Select } from '../../ui/choice'
import { Button, NumberField, Text } from '../../ui/controls'
import { notify } from '../../ui/notice'
import { free, on, onTrack } from '../edits'
import { still } from '../motion'
import type { BenchProps } from '../props'
import { bench, useBench } from '../state'
import { ridersOf } from '../tracks'
import { useCardMoves } from './handles'
import { useOnFrame, type Space } from './queries'
import { Heading } from './heading'

/** Cards: rectangles in space that patches lie on. */
export function Cards({ shot, revision, motions }: BenchProps & { space: Space }) {
  const { chosen, card, removal, frame } = useBench()
  const { edit, adopt } = useEdit(shot.id)
  const cards = revision.document.tracks.filter((t) => t.card)
  const planes = revision.document.tracks.filter((t) => t.kind !== 'card' && (motions.of(t.id)?.samples.size ?? 0) > 1)
  const open = revision.document.removals.find((r) => r.id === removal)
  const [plane, setPlane] = useState('')
  const make = (how: 'points' | 'floor' | 'facing' | 'track') =>
    void answer(
      api.POST('/api/shots/{id}/cards', {
        params: { path: { id: shot.id } },
        body: {
          how,
          frame,
          points: chosen,
          track: how === 'track' ? plane || planes[0]?.id : undefined,
          name: `Card ${free(
            'Card',
            revision.document.tracks.map((t) => t.name),
          )}`,
          removal: open && (!open.follow.track || open.follow.track === still) ? open.id : undefined,
        },
      }),
    )
      .then((r) => {
        adopt(r.revision)
        bench.set({ card: r.track, tool: 'look' })
      })
      .catch((e: Error) => notify(e.message))
  const held = cards.find((t) => t.id === card)
  const seen = useOnFrame(shot.id, revision, frame, open?.reference ?? 0)
  const at = (id?: string) => seen?.cards.find((c) => c.track === id)
  /** Puts what stands on a nearer card in front of the open removal's patch: by the card's own outline, to be drawn closer. */
  const inFront = (t: Track) => {
    const corners = at(t.id)?.corners
    if (!open || !corners) return
    void edit(
      `${t.name} is in front of ${open.name}`,
      on(open.id, (r) => {
        r.guard ??= { fronts: [] }
        ;(r.guard.fronts ??= []).push({
          id: newId(),
          name: t.name,
          by: 'outline',
          shapes: [
            {
              id: newId(),
              name: t.name,
              kind: 'outline',
              home: frame,
              ride: t.id,
              points: corners.map((c) => ({ at: c })),
            },
          ],
        })
      }),
    )
    notify(`${t.name} is held in front of ${open.name}: its outline is under Guard, and rides on the card`)
  }
  const nearer = (t: Track) => {
    const [a, b] = [at(t.id)?.away, at(open?.follow.track)?.away]
    return open && open.follow.track !== t.id && a !== undefined && b !== undefined && a < b
  }
  return (
    <section className="flex flex-col gap-2" aria-label="Cards">
      <Heading>Cards</Heading>
      <div className="flex flex-wrap items-center gap-1.5">
        <Button disabled={chosen.length < 3} title="A card through the chosen points" onClick={() => make('points')}>
          Through the points
        </Button>
        <Button
          disabled={!chosen.length}
          title="A card that faces the camera on this frame, as far away as the chosen points"
          onClick={() => make('facing')}
        >
          Facing the camera
        </Button>
        <Button
          disabled={!chosen.length}
          title="A card that lies on the floor, around the chosen points"
          onClick={() => make('floor')}
        >
          On the floor
        </Button>
      </div>
      {planes.length > 0 && (
        <div className="flex items-center gap-1.5">
          <Select
            label="Plane that was followed"
            value={plane || planes[0].id}
            onChange={setPlane}
            options={planes.map((t) => ({ value: t.id, label: t.name }))}
          />
          <Button title="A card where this plane is in space" onClick={() => make('track')}>
            Through this plane
          </Button>
        </div>
      )}
      {cards.map((t) => (
        <div key={t.id} className={`flex items-center gap-1.5 rounded px-1 ${t.id === card ? 'bg-slab' : ''}`}>
          <button
            type="button"
            className="min-w-0 flex-1 truncate py-1 text-left"
            aria-pressed={t.id === card}
            onClick={() => bench.set({ card: t.id === card ? null : t.id })}
          >
            {t.name}
          </button>
          {open && nearer(t) && (
            <Button
              weight="bare"
              className="py-0!"
              title={`It stands nearer than what carries ${open.name}: what is on it hides the patch`}
              onClick={() => inFront(t)}
            >
              In front
            </Button>
          )}
          {open && (
            <Button
              weight="bare"
              className="py-0!"
              on={open.follow.track === t.id}
              title={`${open.name} rides on this card`}
              onClick={() =>
                void edit(
                  `${open.name} rides on ${t.name}`,
                  on(open.id, (r) => {
                    r.follow.track = t.id
                  }),
                )
              }
            >
              {open.follow.track === t.id ? `Carries ${open.name}` : `Carry ${open.name}`}
            </Button>
          )}
        </div>
      ))}
      {held && <CardFields key={held.id} shot={shot.id} revision={revision} track={held} />}
    </section>
  )
}

function CardFields({ shot, revision, track }: { shot: string; revision: BenchProps['revision']; track: Track }) {
  const frame = useBench((s) => s.frame)
  const { edit } = useEdit(shot)
  const { move, keep } = useCardMoves(shot, revision.number, track, frame)
  const riders = ridersOf(revision.document, track.id)
  const by = (handle: 'depth' | 'scale' | 'turnX' | 'turnY' | 'turnZ', v: number) => move({ handle, to: [0, 0], by: v })
  const slide = (
    label: string,
    unit: string,
    hint: string,
    handle: Parameters<typeof by>[0],
    range: [number, number, number],
    at: (v: number) => number,
  ) => (
    <NumberField
      label={label}
      unit={unit}
      hint={hint}
      value={0}
      min={range[0]}
      max={range[1]}
      step={range[2]}
      onMove={(v) => by(handle, at(v))}
      onDone={(v) => {
        by(handle, at(v))
        keep(`${label} of ${track.name}`)
      }}
    />
  )
  const share = (v: number) => Math.exp(v / 100)
  return (
    <div className="flex flex-col gap-1.5 border-l-2 border-fern pl-2">
      <Text
        label="The card's name"
        value={track.name}
        onDone={(v) =>
          void edit(
            'Name of a card',
            onTrack(track.id, (t) => {
              t.name = v
            }),
          )
        }
      />
      {slide(
        'Depth',
        '%',
        'Farther or nearer; its size on this frame stays. Locked, what is not at its depth slides',
        'depth',
        [-70, 70, 1],
        share,
      )}
      {slide('Larger', '%', 'Larger or smaller', 'scale', [-70, 70, 1], share)}
      {slide('Turn', '°', 'About its own upright axis', 'turnY', [-90, 90, 1], (v) => v)}
      {slide('Tip', '°', 'Forwards or back', 'turnX', [-90, 90, 1], (v) => v)}
      {slide('Roll', '°', 'About what faces you', 'turnZ', [-90, 90, 1], (v) => v)}
      <Button
        weight="bare"
        className="self-start"
        disabled={riders.length > 0}
        title={riders.length ? `Carries ${riders.join(', ')}` : 'Delete this card'}
        onClick={() =>
          void edit(`Delete ${track.name}`, (d) => {
            d.tracks = d.tracks.filter((t) => t.id !== track.id)
          })
        }
      >
        Delete this card
      </Button>
    </div>
  )
}
