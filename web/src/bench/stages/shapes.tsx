import { answer, api, type Knot, type Removal, type Shape } from '../../api/client'
import { isOpen, useTasks } from '../../api/tasks'
import { newId, useEdit } from '../../api/treatment'
import { Pick, Select } from '../../ui/choice'
import { Button, Check, NumberField, NumberInput } from '../../ui/controls'
import { EntryHead } from '../../ui/entry'
import { Item } from '../../ui/menu'
import { notify } from '../../ui/notice'
import { Progress } from '../../ui/progress'
import { Rare } from '../../ui/rare'
import { everywhere, free, on, onShape, putKey, setPoints, shapesOf, type Owner } from '../edits'
import { unplaced, usePoses, placed } from '../handles/poses'
import { identity as unmoved } from '../matrix'
import { still } from '../motion'
import { carried, type BenchProps } from '../props'
import { placementKey } from '../handles/shapes'
import { bows } from '../set/queries'
import { bench, useBench } from '../state'
import { newTrack } from '../tracks'
import { firstSettings } from '../handles/trackpoints'
import { EdgeFields } from './edge'

const colours = ['#ffffff', '#f2d16b', '#8fd0f0', '#e59bd1', '#9fe0a6', '#e8876f', '#b9a6f2', '#6fd6c8']

/** Shapes, one of which can be chosen and changed. */
export function ShapeList(props: BenchProps & { removal: Removal; owner: Owner; shapes: Shape[]; label: string }) {
  const { shapes, label } = props
  const selected = useBench((s) => s.outline)
  return (
    <ul className="flex flex-col gap-1" aria-label={label}>
      {shapes.map((o, i) => (
        <li key={o.id}>
          <button
            type="button"
            aria-pressed={o.id === selected}
            className={`flex w-full items-center gap-2 rounded px-2 py-1 text-left ${o.id === selected ? 'bg-slab' : 'hover:bg-slab'} ${o.off ? 'opacity-50' : ''}`}
            onClick={() => bench.set({ outline: o.id === selected ? null : o.id, knots: [], tool: 'look' })}
          >
            <span
              aria-hidden
              className="size-3 shrink-0 rounded-full border border-black"
              style={{ background: o.colour ?? '#fff' }}
            />
            <span className="min-w-0 flex-1 truncate">{o.name}</span>
            <span className="text-[13px] text-quiet">
              {[
                i > 0 && o.combine === 'take' ? 'taken away' : i > 0 && o.combine === 'keep' ? 'overlap' : '',
                o.keys?.length || o.placement?.length ? 'keyed' : '',
                `${o.points.length} points`,
              ]
                .filter(Boolean)
                .join(', ')}
            </span>
          </button>
          {o.id === selected && <ShapeFields {...props} shape={o} first={i === 0} />}
        </li>
      ))}
    </ul>
  )
}

/** All about one shape. */
function ShapeFields({
  shot,
  revision,
  motions,
  removal: r,
  owner,
  shapes,
  shape: s,
  first,
}: BenchProps & { removal: Removal; owner: Owner; shapes: Shape[]; shape: Shape; first: boolean }) {
  const { edit } = useEdit(shot.id)
  const { knots, frame } = useBench()
  const { pose } = usePoses(shot.id, revision, owner, shapes, frame)
  const here = pose(s)
  const change = (label: string, f: (x: Shape) => void) => void edit(label, onShape(owner, s.id, f))
  const ride = s.ride || r.follow.track || ''
  const keyedHere = s.keys?.some((k) => k.frame === frame)
  const placedHere = s.placement?.some((k) => k.frame === frame)
  const mean = (of: (k: Knot) => number | undefined) =>
    knots.length ? knots.reduce((sum, i) => sum + (of((here?.points ?? s.points)[i]) ?? 0), 0) / knots.length : 0
  const setKnots = (label: string, f: (k: Knot) => void) =>
    change(label, (x) => {
      const next = structuredClone(here?.points ?? x.points)
      knots.forEach((i) => next[i] && f(next[i]))
      setPoints(x, frame, next)
    })
  const other = revision.document.removals.filter((x) => x.id !== r.id)

  /** A track of points, one for each of the shape's: the shape then follows and bends by itself. */
  const trackPoints = () => {
    const m = motions.between(ride, s.home, s.home)
    const track = newTrack(revision.document, 'points', s.home)
    track.name = `${s.name} points`
    track.points = s.points.map((k, i) => {
      const at = m ? m.apply({ x: k.at[0], y: k.at[1] }) : { x: k.at[0], y: k.at[1] }
      return {
        id: newId(),
        name: `Point ${i + 1}`,
        home: s.home,
        at: [at.x, at.y],
        ...firstSettings,
        pattern: [25, 25],
        search: [75, 75],
      }
    })
    const points = track.points
    void edit(`Track the points of ${s.name}`, (d) => {
      d.tracks.push(structuredClone(track))
      onShape(owner, s.id, (x) => {
        everywhere(x, (ks) => ks.map((k, i) => ({ ...k, follows: { track: track.id, point: points[i].id } })))
      })(d)
    })
      .then(() =>
        answer(
          api.POST('/api/shots/{id}/follow', {
            params: { path: { id: shot.id } },
            body: { track: track.id, from: s.home, first: r.range.first, last: r.range.last },
          }),
        ),
      )
      .catch((e: Error) => notify(e.message))
  }
  const followed = s.points.find((k) => k.follows)?.follows
  const task = useTasks(shot.id).find((t) => t.kind === 'track' && t.subject === followed?.track)

  return (
    <div className="mt-1 mb-1 flex flex-col gap-2 border-l-2 border-stone py-1 pl-2">
      <EntryHead
        what="outline"
        entry={s}
        first={first}
        change={change}
        onEarlier={() =>
          void edit('Move up', (d) => {
            const list = shapesOf(d, owner)
            const i = list.findIndex((o) => o.id === s.id)
            if (i > 0) list.splice(i - 1, 2, list[i], list[i - 1])
          })
        }
        onDelete={() => {
          bench.set({ outline: null, knots: [] })
          void edit(`Delete ${s.name}`, (d) => {
            const list = shapesOf(d, owner)
            const i = list.findIndex((o) => o.id === s.id)
            if (i >= 0) list.splice(i, 1)
          })
        }}
      >
        <Item
          onClick={() => {
            const id = newId()
            void edit(`Duplicate ${s.name}`, (d) => {
              const list = shapesOf(d, owner)
              list.push({
                ...structuredClone(s),
                id,
                name: `${s.name.replace(/ \d+$/, '')} ${free(
                  s.name.replace(/ \d+$/, ''),
                  list.map((o) => o.name),
                )}`,
              })
            })
            bench.set({ outline: id, knots: [] })
          }}
        >
          Duplicate
        </Item>
        {other.map((x) => (
          <Item
            key={x.id}
            onClick={() =>
              void edit(
                `Copy ${s.name} to ${x.name}`,
                on(x.id, (d) => {
                  d.mark.outlines.push({
                    ...structuredClone(s),
                    id: newId(),
                    ride: s.ride || r.follow.track || undefined,
                  })
                }),
              )
            }
          >
            Copy to {x.name}
          </Item>
        ))}
      </EntryHead>
      {s.kind === 'outline' && owner.front && <EdgeFields shot={shot} removal={r} owner={owner} shape={s} />}
      {!first && (
        <Pick<'add' | 'take' | 'keep'>
          label="How it joins those before it"
          value={s.combine ?? 'add'}
          onChange={(v) =>
            change('Combine', (x) => {
              x.combine = v === 'add' ? undefined : v
            })
          }
          options={[
            { value: 'add', label: 'Add', hint: 'As well' },
            { value: 'take', label: 'Take away', hint: 'From those before it' },
            { value: 'keep', label: 'Overlap', hint: 'Keep only what lies in both' },
          ]}
        />
      )}
      <NumberField
        label="Feather"
        unit="px"
        hint="How far outside its edge the patch fades to nothing"
        value={s.feather ?? 0}
        min={0}
        max={60}
        step={0.5}
        onDone={(v) =>
          change('Feather', (x) => {
            x.feather = v
          })
        }
      />
      <NumberField
        label="Grow"
        unit="px"
        hint="Moves the edge outwards, or inwards below 0"
        value={s.grow ?? 0}
        min={-30}
        max={30}
        step={0.5}
        onDone={(v) =>
          change('Grow', (x) => {
            x.grow = v || undefined
          })
        }
      />
      {(bows(revision.document) || s.straight) && (
        <Check
          label="Straight through the lens"
          hint="What is straight in the set is bowed on the picture: between its points the shape is bowed with it"
          value={!!s.straight}
          onChange={(v) =>
            change('Straight through the lens', (x) => {
              if (v) x.straight = true
              else delete x.straight
            })
          }
        />
      )}
      <Rare words="Opacity, what it rides on, its frames, colour…">
        <NumberField
          label="Inside"
          unit="px"
          hint="Feather inside the edge: it thins what is marked"
          value={s.featherIn ?? 0}
          min={0}
          max={60}
          step={0.5}
          onDone={(v) =>
            change('Feather inside', (x) => {
              x.featherIn = v || undefined
            })
          }
        />
        <NumberField
          label="Opacity"
          unit="%"
          value={(s.opacity ?? 1) * 100}
          min={0}
          max={100}
          onDone={(v) =>
            change('Opacity of the shape', (x) => {
              x.opacity = v === 100 ? undefined : v / 100
            })
          }
        />
        <Check
          label="Inverted"
          hint="Everything but the shape"
          value={!!s.invert}
          onChange={(v) =>
            change('Invert', (x) => {
              x.invert = v || undefined
            })
          }
        />
        <div className="flex items-center gap-2 text-[13px]" title="Frames on which the shape is there">
          <span className="flex-1 text-quiet">There from</span>
          <NumberInput
            label="First frame of the shape"
            className="w-16"
            value={s.range?.first ?? r.range.first}
            min={shot.first}
            max={s.range?.last ?? r.range.last}
            onDone={(v) =>
              change('Begin of the shape', (x) => {
                x.range = { first: Math.round(v), last: x.range?.last ?? r.range.last }
              })
            }
          />
          <span className="text-quiet">to</span>
          <NumberInput
            label="Last frame of the shape"
            className="w-16"
            value={s.range?.last ?? r.range.last}
            min={s.range?.first ?? r.range.first}
            max={shot.last}
            onDone={(v) =>
              change('End of the shape', (x) => {
                x.range = { first: x.range?.first ?? r.range.first, last: Math.round(v) }
              })
            }
          />
        </div>
        <div className="grid grid-cols-[4.9rem_1fr] items-center gap-2">
          <span className="text-quiet">Rides on</span>
          <Select<string>
            label="What carries the shape"
            value={s.ride ?? ''}
            onChange={(v) =>
              change('Ride', (x) => {
                x.ride = v || undefined
              })
            }
            options={[
              { value: '', label: 'Its removal’s track' },
              ...revision.document.tracks.map((t) => ({ value: t.id, label: t.name })),
              { value: still, label: 'Nothing', hint: 'stays in place on the screen' },
            ]}
          />
        </div>
        <div className="flex items-center gap-1.5" role="group" aria-label="Colour of the handles">
          {colours.map((c) => (
            <button
              key={c}
              type="button"
              aria-label={`Colour ${c}`}
              aria-pressed={(s.colour ?? '#ffffff') === c}
              className={`size-5 rounded-full border-2 ${(s.colour ?? '#ffffff') === c ? 'border-fern' : 'border-black'}`}
              style={{ background: c }}
              onClick={() =>
                change('Colour', (x) => {
                  x.colour = c === '#ffffff' ? undefined : c
                })
              }
            />
          ))}
        </div>
      </Rare>
      {knots.length > 0 && (
        <div className="flex flex-col gap-2 border-t border-rule pt-2">
          <p className="text-[13px] text-quiet">
            {knots.length === 1 ? `Point ${knots[0] + 1}` : `${knots.length} points`}
          </p>
          {s.kind === 'strand' && (
            <NumberField
              label="Width here"
              unit="px"
              value={mean((k) => k.width)}
              min={0.5}
              max={60}
              step={0.5}
              onDone={(v) =>
                setKnots('Width', (k) => {
                  k.width = v
                })
              }
            />
          )}
          <NumberField
            label="Feather +"
            unit="px"
            hint="Added to the shape’s feather at these points"
            value={mean((k) => k.feather)}
            min={0}
            max={60}
            step={0.5}
            onDone={(v) =>
              setKnots('Feather of points', (k) => {
                k.feather = v || undefined
              })
            }
          />
          <NumberField
            label="Inside +"
            unit="px"
            hint="Added to the feather inside at these points"
            value={mean((k) => k.featherIn)}
            min={0}
            max={60}
            step={0.5}
            onDone={(v) =>
              setKnots('Feather inside of points', (k) => {
                k.featherIn = v || undefined
              })
            }
          />
        </div>
      )}
      {s.kind === 'strand' && knots.length === 0 && (
        <NumberField
          label="Width"
          unit="px"
          value={Math.max(...s.points.map((k) => k.width ?? 0))}
          min={0.5}
          max={60}
          step={0.5}
          onDone={(v) =>
            change('Width', (x) => {
              const most = Math.max(...x.points.map((k) => k.width ?? 0)) || 1
              everywhere(x, (ks) =>
                ks.map((k) => ({ ...k, width: Math.round(((k.width ?? most) * v * 100) / most) / 100 })),
              )
            })
          }
        />
      )}
      <div className="grid grid-cols-2 gap-1.5 border-t border-rule pt-2">
        <Button
          disabled={keyedHere || !here}
          title="Keep the points as they are on this frame; they change from key to key"
          onClick={() =>
            here &&
            change('Key the points', (x) => {
              x.keys ??= []
              putKey(x.keys, { frame, ease: 'eased', points: structuredClone(here.points) })
            })
          }
        >
          Key points
        </Button>
        <Button
          disabled={placedHere || !here}
          title="Keep the whole shape’s place on this frame"
          onClick={() =>
            here &&
            change('Key the placement', (x) => {
              x.placement ??= []
              putKey(x.placement, placementKey(x, frame, here.placement))
            })
          }
        >
          Key placement
        </Button>
        {!followed ? (
          <Button
            className="col-span-2"
            title="A small pattern at each point is followed by itself: the shape follows and bends, and stays editable"
            onClick={trackPoints}
          >
            Track each point
          </Button>
        ) : (
          <Button
            className="col-span-2"
            title="Keep the points as they were drawn"
            onClick={() =>
              change('Let the points go', (x) => everywhere(x, (ks) => ks.map((k) => ({ ...k, follows: undefined }))))
            }
          >
            Let the points go
          </Button>
        )}
        {task && isOpen(task) && (
          <div className="col-span-2">
            <Progress label="Frames followed" done={task.done} total={task.total} />
          </div>
        )}
        {task?.problem && <p className="col-span-2 text-[13px] text-clay">{task.problem}</p>}
        {s.home !== frame && here && !s.keys?.length && !followed && motions.between(ride, s.home, frame) && (
          <Button
            className="col-span-2"
            title="From now on its points are given on this frame"
            onClick={() =>
              change('Move its home', (x) => {
                const m = motions.between(ride, s.home, frame)
                const next = placed(here).map((k) => (m ? carried(k, m) : k))
                x.placement = undefined
                x.home = frame
                x.points = unplaced({ points: next, placement: unmoved }, next)
              })
            }
          >
            Draw it on this frame from now on
          </Button>
        )}
      </div>
      {s.kind === 'outline' && !owner.front && <EdgeFields shot={shot} removal={r} owner={owner} shape={s} />}
      <p className="text-[13px] text-quiet">
        Drag points and handles; Shift selects several. Double click the line for a new point, a point to make it smooth
        or sharp.
      </p>
    </div>
  )
}
