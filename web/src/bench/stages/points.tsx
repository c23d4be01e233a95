import type { Removal, Schemas, Track, TrackPoint } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { Select } from '../../ui/choice'
import { Button, Check, NumberField, NumberInput } from '../../ui/controls'
import { onTrack } from '../edits'
import type { Motion } from '../motion'
import type { BenchProps } from '../props'
import { bench, useBench } from '../state'
import { motionOptions } from './plane'

/** How well a point is known on a frame, in few words. */
function placeWords(here: Schemas['PlaceOfPoint'] | undefined): string {
  if (!here) return 'not here'
  if (here.byHand) return 'by hand'
  if (here.bridged) return 'taken along'
  const v = here.variance
  return [
    `${((here.match ?? 1) * 100).toFixed(0)} %`,
    v ? `±${Math.sqrt((v[0] + v[2]) / 2).toFixed(2)}` : '',
    (here.drift ?? 0) >= 0.1 ? `drift ${here.drift!.toFixed(1)}` : '',
  ]
    .filter(Boolean)
    .join(' ')
}

/** Points: which there are, how they are followed, and what they give together. */
export function PointFields({ shot, motion }: BenchProps & { removal: Removal; motion: Motion }) {
  const { edit } = useEdit(shot.id)
  const { tool, points: chosen, frame } = useBench()
  const { track } = motion
  const points = track.points ?? []
  const selected = points.filter((p) => chosen.includes(p.id))
  /** Settings of all selected points are changed together. */
  const change = (label: string, f: (p: TrackPoint) => void) =>
    void edit(
      label,
      onTrack(track.id, (t) => t.points?.forEach((p) => chosen.includes(p.id) && f(p))),
    )
  const gives = [
    'nothing yet',
    'position',
    'position, rotation and scale',
    'position, rotation, scale and shear',
    'perspective',
  ][Math.min(4, points.filter((p) => !p.off).length)]
  const first = selected[0]
  return (
    <>
      <Button
        on={tool === 'point'}
        title="Each click on the picture puts one"
        onClick={() => bench.set({ tool: tool === 'point' ? 'look' : 'point' })}
      >
        {tool === 'point' ? 'Click on the picture' : 'Put points'}
      </Button>
      <ul className="max-h-40 overflow-y-auto rounded border border-rule" aria-label="Points">
        {points.map((p) => {
          const here = motion.points.get(p.id)?.get(frame)
          return (
            <li key={p.id}>
              <button
                type="button"
                aria-pressed={chosen.includes(p.id)}
                className={`flex w-full items-center gap-2 rounded px-2 py-0.5 text-left ${chosen.includes(p.id) ? 'bg-slab' : ''} ${p.off ? 'opacity-50' : ''}`}
                onClick={(e) =>
                  bench.set({
                    outline: null,
                    points: e.shiftKey
                      ? chosen.includes(p.id)
                        ? chosen.filter((x) => x !== p.id)
                        : [...chosen, p.id]
                      : chosen.length === 1 && chosen[0] === p.id
                        ? []
                        : [p.id],
                  })
                }
              >
                <span className="min-w-0 flex-1 truncate">{p.name}</span>
                <span
                  className="font-mono text-[13px] text-quiet"
                  title="How much it looks as where it was put; how well its place is known, in pixels; how far it has drifted"
                >
                  {placeWords(here)}
                </span>
              </button>
            </li>
          )
        })}
      </ul>
      {points.length > 1 && (
        <Button
          weight="bare"
          onClick={() => bench.set({ points: chosen.length === points.length ? [] : points.map((p) => p.id) })}
        >
          {chosen.length === points.length ? 'Select none' : 'Select all'}
        </Button>
      )}
      {first && (
        <div className="flex flex-col gap-2 rounded border border-rule p-2">
          <p className="text-[13px] text-quiet">
            {selected.length === 1 ? first.name : `${selected.length} points together`}
          </p>
          <NumberField
            label="Pattern"
            unit="px"
            hint="Side of the box that is matched"
            value={first.pattern[0]}
            min={7}
            max={120}
            onDone={(v) =>
              change('Size of the pattern', (p) => {
                p.pattern = [v, v]
                p.search = p.search.map((s) => Math.max(s, v))
              })
            }
          />
          <NumberField
            label="Search"
            unit="px"
            hint="Side of the box in which it is looked for on the next frame: larger for fast moves"
            value={first.search[0]}
            min={9}
            max={400}
            onDone={(v) =>
              change('Size of the search box', (p) => {
                p.search = p.pattern.map((s) => Math.max(s, v))
              })
            }
          />
          <div className="grid grid-cols-[5.5rem_1fr] items-center gap-2">
            <span className="text-quiet">Match on</span>
            <Select<TrackPoint['channel']>
              label="Channel that is matched"
              value={first.channel}
              onChange={(v) =>
                change('Channel', (p) => {
                  p.channel = v
                })
              }
              options={[
                { value: 'luma', label: 'Luma' },
                { value: 'red', label: 'Red' },
                { value: 'green', label: 'Green' },
                { value: 'blue', label: 'Blue' },
                { value: 'best', label: 'The best', hint: 'where the pattern stands out most from the grain' },
              ]}
            />
            <span className="text-quiet">Against</span>
            <Select<TrackPoint['against']>
              label="What the pattern is compared with"
              value={first.against}
              onChange={(v) =>
                change('Compared with', (p) => {
                  p.against = v
                })
              }
              options={[
                { value: 'reference', label: 'Its own frame', hint: 'no drift' },
                { value: 'previous', label: 'The frame before', hint: 'for looks that change' },
                {
                  value: 'refresh',
                  label: 'A kept pattern',
                  hint: 'taken anew when the match falls under the tolerance',
                },
              ]}
            />
            <span className="text-quiet">It may</span>
            <Select<TrackPoint['motion']>
              label="What the pattern may do"
              value={first.motion}
              onChange={(v) =>
                change('Motion of the pattern', (p) => {
                  p.motion = v
                })
              }
              options={motionOptions
                .slice(0, 3)
                .map((o) => ({ value: o.value as TrackPoint['motion'], label: o.label }))}
            />
          </div>
          <NumberField
            label="Tolerance"
            unit="%"
            hint="Match under which the point is lost, or its pattern taken anew"
            value={first.tolerance * 100}
            min={0}
            max={99}
            onDone={(v) =>
              change('Tolerance', (p) => {
                p.tolerance = v / 100
              })
            }
          />
          <div
            className="flex items-center gap-2 text-[13px]"
            title="Track where there is contrast, use a place beside it: from the place tracked to the place used"
          >
            <span className="flex-1 text-quiet">Use a place at</span>
            <NumberInput
              label="Used place, x"
              className="w-16"
              value={first.use[0]}
              min={-2000}
              max={2000}
              onDone={(v) =>
                change('Place used', (p) => {
                  p.use = [v, p.use[1]]
                })
              }
            />
            <NumberInput
              label="Used place, y"
              className="w-16"
              value={first.use[1]}
              min={-2000}
              max={2000}
              onDone={(v) =>
                change('Place used', (p) => {
                  p.use = [p.use[0], v]
                })
              }
            />
          </div>
          <Check
            label="Left out"
            value={!!first.off}
            onChange={(v) =>
              change(v ? 'Leave points out' : 'Use points', (p) => {
                p.off = v || undefined
              })
            }
          />
          {selected.some((p) => p.placed?.some((k) => k.frame === frame)) && (
            <Button
              onClick={() =>
                change('Let go of a place', (p) => {
                  p.placed = p.placed?.filter((k) => k.frame !== frame)
                })
              }
            >
              Let go of its place by hand here
            </Button>
          )}
        </div>
      )}
      <div
        className="grid grid-cols-[5.5rem_1fr] items-center gap-2"
        title="The most that is used of what the points do"
      >
        <span className="text-quiet">Use</span>
        <Select<Track['motion']>
          label="What is used of the points"
          value={track.motion}
          onChange={(m) =>
            void edit(
              'Motion',
              onTrack(track.id, (t) => {
                t.motion = m
              }),
            )
          }
          options={motionOptions}
        />
      </div>
      <p className="text-[13px] text-quiet">
        {points.filter((p) => !p.off).length} {points.length === 1 ? 'point gives' : 'points give'} {gives}.
      </p>
    </>
  )
}
