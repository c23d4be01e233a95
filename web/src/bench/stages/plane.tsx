import type { Removal, Track } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { Select } from '../../ui/choice'
import { Button, Check, NumberField } from '../../ui/controls'
import { onTrack } from '../edits'
import { still, type Motion } from '../motion'
import type { BenchProps } from '../props'
import { bench, useBench } from '../state'

export const motionOptions: { value: Track['motion']; label: string; hint: string }[] = [
  { value: 'position', label: 'Position only', hint: 'it is shifted' },
  { value: 'similarity', label: 'Rotation and scale too', hint: 'for a surface that stays square to the camera' },
  { value: 'shear', label: 'Shear too', hint: 'for a small or far surface that leans' },
  { value: 'perspective', label: 'Perspective', hint: 'for a plane seen by a moving camera' },
]

/** Other frames that a surface that bends is compared with, as it looks on its home frame for a while only. */
function Homes({
  track,
  frame,
  change,
}: {
  track: Track
  frame: number
  change: (label: string, homes: number[]) => void
}) {
  const homes = track.bends?.homes ?? []
  return (
    <div className="flex flex-wrap items-center gap-1.5">
      <span className="text-quiet">Compared with frame {track.home}</span>
      {homes.map((n) => (
        <Button
          key={n}
          weight="bare"
          className="py-0!"
          title={`Frame ${n}: no longer compare with it`}
          onClick={() =>
            change(
              'Compare with one frame less',
              homes.filter((h) => h !== n),
            )
          }
        >
          and {n} ×
        </Button>
      ))}
      {frame !== track.home && !homes.includes(frame) && homes.length < 6 && (
        <Button
          title="Frames beyond this one are compared with how the surface looks here as well, for instance after it has turned. Follow again then"
          onClick={() =>
            change(
              'Compare with a frame more',
              [...homes, frame].sort((a, b) => a - b),
            )
          }
        >
          and with {frame}
        </Button>
      )}
    </div>
  )
}

/** What a plane is followed with: its motion, and what is left out of its region. */
export function PlaneFields({ shot, revision, motion }: BenchProps & { removal: Removal; motion: Motion }) {
  const { edit } = useEdit(shot.id)
  const { tool, outline, frame } = useBench()
  const { track } = motion
  const chosen = track.exclusions?.find((x) => x.id === outline)
  const change = (label: string, f: (t: Track) => void) => void edit(label, onTrack(track.id, f))
  if ((track.region?.length ?? 0) < 3) return null
  const others = revision.document.tracks.filter((t) => t.id !== track.id)
  return (
    <>
      <div className="grid grid-cols-[5.5rem_1fr] items-center gap-2">
        <span className="text-quiet">Motion</span>
        <Select<Track['motion']>
          label="How much the surface may move"
          value={track.motion}
          onChange={(m) =>
            change('Motion', (t) => {
              t.motion = m
            })
          }
          options={motionOptions}
        />
      </div>
      <Check
        label="It bends"
        hint="Skin, cloth, a banner: on top of the plane, what bends of the surface is followed, from its home frame to every other"
        value={!!track.bends}
        onChange={(v) =>
          change(v ? 'The surface bends' : 'The surface is flat', (t) => {
            t.bends = v ? { stiffness: 0.3, detail: 8 } : undefined
          })
        }
      />
      {track.bends && (
        <>
          <NumberField
            label="Stiffness"
            unit=""
            hint="0 is as supple as cloth, 1 as firm as skin over bone. Firmer where it has little texture, or much grain"
            value={track.bends.stiffness}
            min={0}
            max={1}
            step={0.05}
            onDone={(v) =>
              change('Stiffness', (t) => {
                if (t.bends) t.bends.stiffness = v
              })
            }
          />
          <NumberField
            label="Detail"
            unit="px"
            hint="What bends within less than some of these is not followed"
            value={track.bends.detail}
            min={4}
            max={64}
            onDone={(v) =>
              change('Detail of the bend', (t) => {
                if (t.bends) t.bends.detail = v
              })
            }
          />
        </>
      )}
      {track.bends && others.length > 0 && (
        <div className="grid grid-cols-[5.5rem_1fr] items-center gap-2">
          <span className="text-quiet">Moves along</span>
          <Select<string>
            label="What tells how the surface moves as a whole"
            value={track.bends.along ?? ''}
            onChange={(v) =>
              change('What a surface that bends moves along', (t) => {
                if (t.bends) t.bends.along = v || undefined
              })
            }
            options={[
              { value: '', label: 'By itself', hint: 'up to 88 px from frame to frame' },
              ...others.map((t) => ({ value: t.id, label: t.name })),
            ]}
          />
        </div>
      )}
      {track.bends && (
        <Check
          label="Only what is around the thing"
          hint="What its outlines mark on the home frame is not followed itself, so that a thing that slides, peels or flickers takes nothing along; beneath it the surface goes on from around"
          value={!!track.bends.around}
          onChange={(v) =>
            change(v ? 'Follow what is around the thing' : 'Follow the thing as well', (t) => {
              if (t.bends) t.bends.around = v || undefined
            })
          }
        />
      )}
      {track.bends && (
        <Homes
          track={track}
          frame={frame}
          change={(label, homes) =>
            change(label, (t) => {
              if (t.bends) t.bends.homes = homes.length ? homes : undefined
            })
          }
        />
      )}
      <Button
        on={tool === 'exclusion'}
        title="Outline what moves by itself, or lies on another plane"
        onClick={() => bench.set(tool === 'exclusion' ? { tool: 'look' } : { tool: 'exclusion', drawn: 'curve' })}
      >
        {tool === 'exclusion' ? 'Drawing an exclusion' : 'Leave something out'}
      </Button>
      {tool === 'exclusion' && (
        <p className="text-[13px] text-quiet">
          Outline what moves by itself: a person, a reflection, a sliding sign. Click the first point, or press Enter,
          to close.
        </p>
      )}
      <Check
        label="Leave out what is marked"
        hint="Outlines, keys and supplied mattes of fronts, and of removals that ride on other tracks or on nothing, do not count either"
        value={!!track.leaveMarked}
        onChange={(v) =>
          change(v ? 'Leave out what is marked' : 'Count what is marked', (t) => {
            t.leaveMarked = v || undefined
          })
        }
      />
      {!!track.exclusions?.length && (
        <ul className="flex flex-col gap-1" aria-label="Exclusions">
          {track.exclusions.map((x) => (
            <li key={x.id} className={`flex items-center gap-1 rounded pl-2 ${x.id === outline ? 'bg-slab' : ''}`}>
              <button
                type="button"
                aria-pressed={x.id === outline}
                className="min-w-0 flex-1 truncate rounded py-0.5 text-left"
                onClick={() => bench.set({ outline: x.id === outline ? null : x.id, knots: [] })}
              >
                {x.name}
              </button>
              <Button
                weight="bare"
                className="py-0!"
                aria-label={`Delete ${x.name}`}
                onClick={() =>
                  void edit(
                    `Delete ${x.name}`,
                    onTrack(track.id, (t) => {
                      t.exclusions = t.exclusions?.filter((e) => e.id !== x.id)
                    }),
                  )
                }
              >
                Delete
              </Button>
            </li>
          ))}
        </ul>
      )}
      {chosen && (
        <div className="grid grid-cols-[5.5rem_1fr] items-center gap-2">
          <span className="text-quiet">Rides on</span>
          <Select<string>
            label="What carries the exclusion"
            value={chosen.ride ?? still}
            onChange={(v) =>
              change('Ride', (t) => {
                const x = t.exclusions?.find((e) => e.id === chosen.id)
                if (x) x.ride = v
              })
            }
            options={[
              { value: still, label: 'Nothing', hint: 'stays in place on the screen, or is keyed' },
              ...revision.document.tracks.filter((t) => t.id !== track.id).map((t) => ({ value: t.id, label: t.name })),
            ]}
          />
          <Button
            className="col-span-2"
            title="Keep the whole exclusion’s place on this frame"
            onClick={() =>
              change('Key the placement', (t) => {
                const x = t.exclusions?.find((e) => e.id === chosen.id)
                if (x && !x.placement?.length)
                  x.placement = [{ frame: bench.get().frame, ease: 'eased', offset: [0, 0], turn: 0, scale: [1, 1] }]
              })
            }
          >
            {chosen.placement?.length ? 'Placement is keyed: drag it on other frames' : 'Key its placement from here'}
          </Button>
        </div>
      )}
    </>
  )
}
