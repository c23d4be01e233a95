import { useState } from 'react'
import type { Correction, Removal } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { Button, NumberField, NumberInput, Check } from '../../ui/controls'
import { onTrack, putKey } from '../edits'
import type { Motion } from '../motion'
import type { BenchProps } from '../props'
import { bench, useBench } from '../state'
import { newCorrection } from '../handles/surface'

/** Mending a track: corrections on top of it, frames dropped or placed by hand, smoothing. */
export function Mending({ shot, motion }: BenchProps & { removal: Removal; motion: Motion }) {
  const { edit } = useEdit(shot.id)
  const { tool, frame } = useBench()
  const { track } = motion
  const [open, setOpen] = useState(false)
  const change = (label: string, f: Parameters<typeof onTrack>[1]) => void edit(label, onTrack(track.id, f))
  const add = (kind: Correction['kind']) => {
    change('Begin a correction', (t) => {
      ;(t.corrections ??= []).push(newCorrection(t, kind))
    })
    bench.set({ tool: 'correct', locked: true, handles: true, outline: null, points: [] })
  }
  const dropped = track.dropped?.some((r) => frame >= r.first && frame <= r.last)
  const last = [...(track.corrections ?? [])].reverse().find((c) => !c.off)
  return (
    <div className="rounded border border-rule">
      <button
        type="button"
        aria-expanded={open}
        className="flex w-full items-baseline gap-2 rounded px-2 py-1 text-left hover:bg-slab"
        onClick={() => setOpen(!open)}
      >
        Mending{' '}
        <span className="text-[13px] text-quiet">
          {track.corrections?.length
            ? `${track.corrections.length} ${track.corrections.length === 1 ? 'correction' : 'corrections'}`
            : 'corrections, dropped frames, smoothing'}
        </span>
      </button>
      {open && (
        <div className="flex flex-col gap-2 border-t border-rule p-2">
          {track.corrections?.map((c) => (
            <div key={c.id} className="flex items-center gap-1.5">
              <input
                type="checkbox"
                aria-label={`Use ${c.name}`}
                title="Switch off to compare"
                checked={!c.off}
                className="size-4 accent-fern"
                onChange={() =>
                  change(c.off ? 'Use a correction' : 'Leave a correction out', (t) => {
                    const x = t.corrections?.find((k) => k.id === c.id)
                    if (x) x.off = c.off ? undefined : true
                  })
                }
              />
              <span className="min-w-0 flex-1 truncate">
                {c.name}{' '}
                <span className="text-[13px] text-quiet">
                  {c.keys.length} {c.keys.length === 1 ? 'key' : 'keys'}
                </span>
              </span>
              <Button
                weight="bare"
                className="py-0!"
                aria-label={`Delete ${c.name}`}
                onClick={() => {
                  bench.set({ tool: 'look' })
                  change('Delete a correction', (t) => {
                    t.corrections = t.corrections?.filter((k) => k.id !== c.id)
                  })
                }}
              >
                Delete
              </Button>
            </div>
          ))}
          {last ? (
            <Button
              on={tool === 'correct'}
              title="Drag the surface’s corners where they should be on this frame, best in the locked view"
              onClick={() => bench.set(tool === 'correct' ? { tool: 'look' } : { tool: 'correct', locked: true })}
            >
              {tool === 'correct' ? 'Correcting: drag the surface' : 'Correct on the picture'}
            </Button>
          ) : null}
          {last?.kind === 'pins' && (
            <>
              {tool === 'correct' && (
                <p className="text-[13px] text-quiet">
                  Click a place to pin it, drag the pin to where the place is on this frame. Other frames go over
                  between keys. Double-click a pin to take it out.
                </p>
              )}
              <NumberField
                label="Reach"
                unit="px"
                hint="How far around a pin it moves the surface; 0 for half of the surface’s shorter side"
                value={last.reach ?? 0}
                min={0}
                max={2000}
                onDone={(v) =>
                  change('Reach of the pins', (t) => {
                    const c = t.corrections?.find((k) => k.id === last.id)
                    if (c) c.reach = v || undefined
                  })
                }
              />
            </>
          )}
          {last?.kind === 'placement' && (
            <PlacementKey motion={motion} correction={last} change={change} frame={frame} />
          )}
          <div className="grid grid-cols-2 gap-1.5">
            <Button title="The whole surface moved, turned and scaled" onClick={() => add('placement')}>
              By placement
            </Button>
            <Button title="Each of the surface’s four corners by itself" onClick={() => add('corners')}>
              By corners
            </Button>
            <Button
              title="The crossings of a coarse grid: for a surface that bends a little"
              onClick={() => add('grid')}
            >
              By grid
            </Button>
            <Button
              title="Places that you drag to where they are, on a few frames; what lies around goes along, what is far stays"
              onClick={() => add('pins')}
            >
              By pins
            </Button>
            <Button
              on={tool === 'surface'}
              title="Lay the four corners on another part of the plane"
              onClick={() => bench.set({ tool: tool === 'surface' ? 'look' : 'surface' })}
            >
              Lay the surface
            </Button>
            <Button
              on={tool === 'place'}
              title="Drag the surface to where it is on this frame; frames between are filled"
              onClick={() => bench.set({ tool: tool === 'place' ? 'look' : 'place' })}
            >
              Place by hand
            </Button>
            <Button
              title="Its measurement is not used; the frames beside it are joined"
              onClick={() =>
                change(dropped ? 'Use a frame again' : 'Drop a frame', (t) => {
                  if (dropped)
                    t.dropped = t.dropped?.flatMap((r) =>
                      frame < r.first || frame > r.last
                        ? [r]
                        : [
                            ...(r.first < frame ? [{ first: r.first, last: frame - 1 }] : []),
                            ...(r.last > frame ? [{ first: frame + 1, last: r.last }] : []),
                          ],
                    )
                  else (t.dropped ??= []).push({ first: frame, last: frame })
                })
              }
            >
              {dropped ? 'Use it again' : 'Drop this frame'}
            </Button>
          </div>
          {track.placed?.some((p) => p.frame === frame) && (
            <Check
              label="It stays as I placed it"
              hint="Otherwise it is a first guess: follow from this frame, and it is laid where it looks as on the home frame"
              value={!track.placed.find((p) => p.frame === frame)?.guess}
              onChange={(v) =>
                change(v ? 'Keep a placement' : 'Take a placement for a guess', (t) => {
                  const p = t.placed?.find((p) => p.frame === frame)
                  if (p) p.guess = v ? undefined : true
                })
              }
            />
          )}
          <NumberField
            label="Smooth"
            unit="fr"
            hint="Over so many frames (standard deviation); 0 leaves the track as measured"
            value={track.smooth ?? 0}
            min={0}
            max={10}
            step={0.5}
            onDone={(v) =>
              change('Smooth the track', (t) => {
                t.smooth = v || undefined
              })
            }
          />
        </div>
      )}
    </div>
  )
}

/** The numbers of a correction by placement on this frame. */
function PlacementKey({
  motion,
  correction: c,
  change,
  frame,
}: {
  motion: Motion
  correction: Correction
  change: (label: string, f: Parameters<typeof onTrack>[1]) => void
  frame: number
}) {
  const key = c.keys.find((k) => k.frame === frame)
  const here = key ?? c.keys.filter((k) => k.frame <= frame).pop() ?? c.keys[0]
  if (!here) return null
  const set = (f: (k: Correction['keys'][number]) => void) =>
    change('Correct the track', (t) => {
      const x = t.corrections?.find((k) => k.id === c.id)
      if (!x) return
      const next = { ...structuredClone(here), frame }
      f(next)
      putKey(x.keys, next)
    })
  const fields = [
    {
      label: 'Offset x',
      unit: 'px',
      value: here.offset[0],
      set: (v: number) =>
        set((k) => {
          k.offset = [v, k.offset[1]]
        }),
    },
    {
      label: 'Offset y',
      unit: 'px',
      value: here.offset[1],
      set: (v: number) =>
        set((k) => {
          k.offset = [k.offset[0], v]
        }),
    },
    {
      label: 'Turn',
      unit: '°',
      value: here.turn ?? 0,
      set: (v: number) =>
        set((k) => {
          k.turn = v
        }),
    },
    {
      label: 'Scale',
      unit: '%',
      value: (here.scale || 1) * 100,
      set: (v: number) =>
        set((k) => {
          k.scale = v / 100
        }),
    },
  ]
  return (
    <div
      className="grid grid-cols-2 gap-x-3 gap-y-1 text-[13px]"
      title={`${key ? 'Keyed' : 'Not keyed'} on frame ${frame} of ${motion.track.name}`}
    >
      {fields.map((f) => (
        <label key={f.label} className="flex items-center gap-1">
          <span className="flex-1 text-quiet">{f.label}</span>
          <NumberInput
            label={`${f.label} of the correction`}
            className="w-14"
            value={f.value}
            min={-5000}
            max={5000}
            onDone={f.set}
          />
          <span className="w-4 text-quiet">{f.unit}</span>
        </label>
      ))}
    </div>
  )
}
