import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react'
import { useEffect, useRef, useState } from 'react'
import type { Moment, Removal, Revision, Shot, Track } from '../../api/client'
import { answer, api } from '../../api/client'
import { useLive } from '../../api/live'
import { useTasks } from '../../api/tasks'
import { useEdit } from '../../api/treatment'
import { Pick, Select } from '../../ui/choice'
import { Button, Check, NumberInput, Text } from '../../ui/controls'
import { bringInSlowly, type Coming } from '../../ui/files'
import { Item } from '../../ui/menu'
import { notify } from '../../ui/notice'
import { Progress } from '../../ui/progress'
import { on, onTrack } from '../edits'
import { still, type Motion } from '../motion'
import type { BenchProps } from '../props'
import { Running } from '../running'
import { bows } from '../set/queries'
import { bench, useBench } from '../state'
import { newTrack, ridersOf } from '../tracks'
import { Mending } from './mending'
import { PlaneFields } from './plane'
import { PointFields } from './points'

/** Follow: the track that carries the patch. */
export function FollowStage(props: BenchProps & { removal: Removal }) {
  const { shot, revision, removal: r, motion } = props
  const { edit } = useEdit(shot.id)
  const tool = useBench((s) => s.tool)
  const region = !motion || motion.track.kind === 'plane'
  const [looking, setLooking] = useState(false)
  const propose = () => {
    setLooking(true)
    void answer(
      api.POST('/api/shots/{id}/removals/{removal}/region', {
        params: { path: { id: shot.id, removal: r.id } },
        body: { frame: bench.get().frame },
      }),
    )
      .then((found) => {
        notify(found.words)
        if (motion)
          return edit(
            'Propose a region',
            onTrack(motion.track.id, (t) => {
              t.region = found.region
              t.home = found.frame
            }),
          )
        const track = { ...newTrack(revision.document, 'plane', found.frame), region: found.region }
        return edit('Propose a region', (d) => {
          d.tracks.push(structuredClone(track))
          on(r.id, (x) => {
            x.follow.track = track.id
          })(d)
        })
      })
      .catch((e: Error) => notify(e.message))
      .finally(() => setLooking(false))
  }
  return (
    <>
      <TrackPicker {...props} />
      {!r.follow.track && <StandsStill {...props} />}
      {region && r.follow.track !== still && (
        <Button
          on={tool === 'region'}
          title="Drag a box around a piece of the surface (O)"
          onClick={() => bench.set(tool === 'region' ? { tool: 'look' } : { tool: 'region', playing: false })}
        >
          {tool === 'region'
            ? 'Drag a box on the picture'
            : (motion?.track.region?.length ?? 0) < 3
              ? 'Draw a region'
              : 'Draw the region anew'}
        </Button>
      )}
      {region && r.follow.track !== still && !motion?.track.data && r.mark.outlines.length > 0 && (
        <Button
          disabled={looking}
          title="Looks around the outlines for a region that holds on the frames beside; drag its corners afterwards"
          onClick={propose}
        >
          {looking ? 'Looking around the outlines…' : 'Propose a region'}
        </Button>
      )}
      {!motion && r.follow.track !== still && (
        <>
          <p className="text-[13px] text-quiet">
            A region is a piece of the one flat surface under the thing, with texture in it. It may hold the thing
            itself as long as that moves with the surface.
          </p>
          <Button
            title="Small patterns that are followed one by one"
            onClick={() => {
              const track = newTrack(revision.document, 'points', bench.get().frame)
              void edit('New points', (d) => {
                d.tracks.push(structuredClone(track))
                on(r.id, (x) => {
                  x.follow.track = track.id
                })(d)
              })
              bench.set({ tool: 'point' })
            }}
          >
            Put points instead
          </Button>
        </>
      )}
      {motion && (
        <>
          {motion.track.kind === 'plane' && <PlaneFields {...props} motion={motion} />}
          {motion.track.kind === 'points' && <PointFields {...props} motion={motion} />}
          {(motion.track.kind === 'plane' || motion.track.kind === 'points') &&
            (bows(revision.document) || motion.track.straight) && (
              <Check
                label="With the lens taken out"
                hint="Worked out in the straight picture and bent back at the end: what is straight in the set is straight there. Follow it anew afterwards"
                value={!!motion.track.straight}
                onChange={(v) =>
                  void edit(
                    'With the lens taken out',
                    onTrack(motion.track.id, (t) => {
                      if (v) t.straight = true
                      else delete t.straight
                    }),
                  )
                }
              />
            )}
          {motion.track.kind === 'card' && (
            <Button
              title="Where it is in space is changed in the set"
              onClick={() => bench.set({ setOpen: true, card: motion.track.id })}
            >
              A card in space: open the set
            </Button>
          )}
          {motion.track.kind !== 'given' && motion.track.kind !== 'card' && <Run {...props} motion={motion} />}
          <Quality {...props} motion={motion} />
          {motion.samples.size > 1 && <Mending {...props} motion={motion} />}
        </>
      )}
    </>
  )
}

/** The first thing to say of how a surface moves: that it does not. */
export function StandsStill({ shot, removal: r }: BenchProps & { removal: Removal }) {
  const { edit } = useEdit(shot.id)
  return (
    <Button
      title="The camera was locked off: what is painted stays where it is, on all frames of the removal"
      onClick={() =>
        void edit(
          'The camera stands still',
          on(r.id, (d) => {
            d.follow.track = still
          }),
        )
      }
    >
      The camera stands still
    </Button>
  )
}

/** Which of the shot's tracks carries the removal, and what can be done with it as a whole. */
function TrackPicker({ shot, revision, removal: r, motion }: BenchProps & { removal: Removal }) {
  const { edit, adopt } = useEdit(shot.id)
  const frame = useBench((s) => s.frame)
  const file = useRef<HTMLInputElement>(null)
  const [naming, setNaming] = useState(false)
  const [coming, setComing] = useState<Coming | null>(null)
  const { tracks } = revision.document
  const begin = (kind: Track['kind']) => {
    const track = newTrack(revision.document, kind, frame)
    void edit(`New track ${track.name}`, (d) => {
      d.tracks.push(structuredClone(track))
      on(r.id, (x) => {
        x.follow.track = track.id
      })(d)
    })
    bench.set({ tool: kind === 'plane' ? 'region' : 'point', points: [] })
  }
  const t = motion?.track
  const files = t ? `/api/shots/${shot.id}/tracks/${t.id}/file` : ''
  return (
    <div className="flex items-center gap-1.5">
      {naming && t && (
        <Text
          label="Name of the track"
          className="flex-1"
          value={t.name}
          focused
          onLeave={() => setNaming(false)}
          onDone={(name) =>
            void edit(
              `Rename to ${name}`,
              onTrack(t.id, (x) => {
                x.name = name
              }),
            )
          }
        />
      )}
      {tracks.length > 0 && !(naming && t) && (
        <div className="min-w-0 flex-1">
          <Select<string>
            label="The track that carries the removal"
            value={r.follow.track ?? ''}
            onChange={(v) =>
              void edit(
                'Choose a track',
                on(r.id, (d) => {
                  d.follow.track = v || undefined
                }),
              )
            }
            options={[
              { value: still, label: 'Still', hint: 'the camera does not move' },
              ...tracks.map((x) => ({
                value: x.id,
                label: x.name,
                hint: { plane: 'a plane', points: 'points', given: 'brought in', card: 'a card in space' }[x.kind],
              })),
              { value: '', label: 'None yet' },
            ]}
          />
        </div>
      )}
      <Menu>
        <MenuButton
          className="rounded border border-stone bg-slab px-2 py-1 leading-5 hover:bg-stone"
          aria-label="More for tracks"
        >
          More
        </MenuButton>
        <MenuItems
          anchor="bottom end"
          className="z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none"
        >
          <Item onClick={() => begin('plane')}>New track of a plane</Item>
          <Item onClick={() => begin('points')}>New track of points</Item>
          <Item onClick={() => file.current?.click()}>Bring in a track (CSV, JSON, ST maps as ZIP)</Item>
          {t && !t.bends && (
            <>
              <Item
                onClick={() => {
                  const track: Track = {
                    ...newTrack(revision.document, 'plane', t.home),
                    over: t.id,
                    region: t.region,
                    name: `${t.name}, once more`,
                  }
                  void edit('Once more, locked', (d) => {
                    d.tracks.push(structuredClone(track))
                    on(r.id, (x) => {
                      x.follow.track = track.id
                    })(d)
                  })
                  if (!track.region) bench.set({ tool: 'region' })
                }}
              >
                Once more, locked: a plane in the locked picture
              </Item>
              <Item
                onClick={() => {
                  const track: Track = {
                    ...newTrack(revision.document, 'points', t.home),
                    over: t.id,
                    motion: 'position',
                    name: `${t.name}, once more`,
                  }
                  void edit('Once more, locked', (d) => {
                    d.tracks.push(structuredClone(track))
                    on(r.id, (x) => {
                      x.follow.track = track.id
                    })(d)
                  })
                  bench.set({ tool: 'point', points: [], locked: true, frame: t.home })
                }}
              >
                Once more, locked: points in the locked picture
              </Item>
            </>
          )}
          {t && (
            <>
              <Item onClick={() => setNaming(true)}>Rename the track</Item>
              <Save href={`${files}?as=json`}>Save as JSON</Save>
              <Save href={`${files}?as=matrices`}>Save matrices as CSV</Save>
              <Save href={`${files}?as=corners`}>Save corners as CSV</Save>
              {t.kind === 'points' && <Save href={`${files}?as=points`}>Save points as CSV</Save>}
              <Save href={`${files}?as=warps`}>Save all warps as ST maps</Save>
              <Save href={`${files}?as=st&from=${r.reference}&to=${frame}`}>Save this frame’s warp as an ST map</Save>
              <Item
                onClick={() => {
                  const riders = ridersOf(revision.document, t.id).filter((name) => name !== r.name)
                  if (riders.length)
                    return notify(
                      `${t.name} cannot be deleted: ${riders.join(', ')} ${riders.length > 1 ? 'ride' : 'rides'} on it.`,
                    )
                  void edit(`Delete ${t.name}`, (d) => {
                    d.tracks = d.tracks.filter((x) => x.id !== t.id)
                    on(r.id, (x) => {
                      x.follow.track = undefined
                    })(d)
                  })
                }}
              >
                Delete the track
              </Item>
            </>
          )}
        </MenuItems>
      </Menu>
      <input
        ref={file}
        type="file"
        accept=".csv,.json,.zip"
        className="hidden"
        aria-label="Track file"
        onChange={(e) =>
          void bringInSlowly(e, `/api/shots/${shot.id}/tracks/file?home=${frame}`, setComing).then(
            (rev) => rev && adopt(rev as Revision),
          )
        }
      />
      {coming && (
        <div className="w-full" role="status">
          <p className="truncate text-[13px]">{coming.words}</p>
          <div className="flex items-center gap-2 py-0.5">
            <Progress label={coming.words} done={coming.done} total={coming.total} />
            <Button weight="bare" className="py-0!" onClick={coming.cancel}>
              Cancel
            </Button>
          </div>
        </div>
      )}
    </div>
  )
}

function Save({ href, children }: { href: string; children: React.ReactNode }) {
  return (
    <MenuItem>
      <a href={href} className="block w-full rounded-sm px-3 py-1 text-left data-focus:bg-stone">
        {children}
      </a>
    </MenuItem>
  )
}

/** Following: both ways, one way, or one frame, from the track's home or from the frame shown. */
function Run({ shot, removal: r, motion }: BenchProps & { removal: Removal; motion: Motion }) {
  const { track } = motion
  const frame = useBench((s) => s.frame)
  const points = useBench((s) => s.points)
  const [here, setHere] = useState(false)
  const task = useTasks(shot.id).find((t) => t.kind === 'track' && t.subject === track.id)
  const running = motion.running !== null
  // The picture goes along with the track until the artist goes elsewhere.
  const latest = useLive((s) => (motion.running ? s.latest[motion.running] : undefined))
  const along = useRef<number | null>(null)
  const began = useRef<number | null>(null)
  useEffect(() => {
    if (latest === undefined || along.current !== bench.get().frame) return
    along.current = latest
    bench.set({ frame: latest })
  }, [latest])
  // When it is done and the artist went along, the picture returns to where it began; a single step stays where it led.
  useEffect(() => {
    if (running) return
    if (began.current !== null && along.current === bench.get().frame) bench.set({ frame: began.current })
    began.current = null
  }, [running])
  const from = here && frame !== track.home ? frame : track.home
  const { edit } = useEdit(shot.id)
  const range = track.range ?? r.range
  const over = (f: (x: { first: number; last: number }) => void) =>
    void edit(
      'Range of the track',
      onTrack(track.id, (t) => {
        t.range ??= { ...range }
        f(t.range)
      }),
    )
  const follow = (first: number, last: number, start = from) => {
    along.current = start
    began.current = last - first > 1 ? start : null
    bench.set({ frame: start, playing: false, ...(bench.get().tool === 'point' ? { tool: 'look' as const } : {}) })
    const chosen = track.kind === 'points' && points.length ? { points } : {}
    void answer(
      api.POST('/api/shots/{id}/follow', {
        params: { path: { id: shot.id } },
        body: { track: track.id, from: start, first: Math.min(first, start), last: Math.max(last, start), ...chosen },
      }),
    ).catch((e: Error) => notify(e.message))
  }
  const nothing = track.kind === 'plane' ? (track.region?.length ?? 0) < 3 : !track.points?.length
  const off = nothing || running
  return (
    <>
      {frame !== track.home && (
        <div title="From the frame shown: to go on from there, or to follow a piece anew">
          <Pick<'home' | 'here'>
            label="Where following begins"
            value={here ? 'here' : 'home'}
            onChange={(v) => setHere(v === 'here')}
            options={[
              { value: 'home', label: `From ${track.home}, where drawn` },
              { value: 'here', label: `From ${frame}` },
            ]}
          />
        </div>
      )}
      {here && frame !== track.home && track.kind === 'plane' && motion.at(frame) && (
        <FreshRegion shot={shot} track={track} frame={frame} />
      )}
      <div className="flex items-center gap-2 text-[13px]" title="Frames over which it is followed">
        <span className="flex-1 text-quiet">Over frames</span>
        <NumberInput
          label="First frame to follow to"
          className="w-16"
          value={range.first}
          min={shot.first}
          max={range.last}
          onDone={(v) =>
            over((x) => {
              x.first = Math.round(v)
            })
          }
        />
        <span className="text-quiet">to</span>
        <NumberInput
          label="Last frame to follow to"
          className="w-16"
          value={range.last}
          min={range.first}
          max={shot.last}
          onDone={(v) =>
            over((x) => {
              x.last = Math.round(v)
            })
          }
        />
      </div>
      <div className="grid grid-cols-2 gap-1.5">
        <Button
          disabled={off}
          weight="main"
          className="col-span-2"
          title={`From frame ${from} in both directions`}
          onClick={() => follow(range.first, range.last)}
        >
          Follow both ways
        </Button>
        <Button
          disabled={off}
          title={`From frame ${from} back to ${range.first}`}
          onClick={() => follow(range.first, from)}
        >
          Backwards
        </Button>
        <Button
          disabled={off}
          title={`From frame ${from} on to ${range.last}`}
          onClick={() => follow(from, range.last)}
        >
          Forwards
        </Button>
        <Button
          disabled={off || frame <= shot.first}
          title="From the frame shown to the one before"
          onClick={() => follow(frame - 1, frame, frame)}
        >
          Follow to previous
        </Button>
        <Button
          disabled={off || frame >= shot.last}
          title="From the frame shown to the next"
          onClick={() => follow(frame, frame + 1, frame)}
        >
          Follow to next
        </Button>
      </div>
      {track.kind === 'points' && points.length > 0 && (
        <p className="text-[13px] text-quiet">
          Follows the {points.length === 1 ? 'selected point' : `${points.length} selected points`}; select none for
          all.
        </p>
      )}
      {running && task && <Running task={task} label="Frames followed" counted />}
      {!running && task?.problem && <p className="text-[13px] text-clay">{task.problem}</p>}
    </>
  )
}

/** Another piece of the same surface, to be followed from the frame shown: where the first has left, or is covered. */
function FreshRegion({ shot, track, frame }: { shot: Shot; track: Track; frame: number }) {
  const { edit } = useEdit(shot.id)
  const tool = useBench((s) => s.tool)
  const drawn = track.regions?.some((r) => r.frame === frame)
  return (
    <div className="flex gap-1.5">
      <Button
        className="flex-1"
        on={tool === 'fresh'}
        title="Where the first region has left the picture or is covered: another piece of the same surface, followed from here and joined to this track"
        onClick={() => bench.set(tool === 'fresh' ? { tool: 'look' } : { tool: 'fresh', playing: false })}
      >
        {tool === 'fresh' ? 'Drag a box on the picture' : drawn ? 'Draw it anew' : 'Draw a fresh region here'}
      </Button>
      {drawn && (
        <Button
          title="Follow the region that was drawn on another frame again"
          onClick={() =>
            void edit(
              'Forget a fresh region',
              onTrack(track.id, (t) => {
                t.regions = t.regions?.filter((r) => r.frame !== frame)
              }),
            )
          }
        >
          Forget it
        </Button>
      )}
    </div>
  )
}

/** How good the track is: over the range, and on this frame, with words on what to do. */
function Quality({ revision, removal: r, motion }: BenchProps & { removal: Removal; motion: Motion }) {
  const frame = useBench((s) => s.frame)
  const here = motion.samples.get(frame)
  const values = [...motion.samples.values()]
  if (values.length < 2 && !here) return null
  const inRange = values.filter((s) => s.frame >= r.range.first && s.frame <= r.range.last)
  const doubtful = inRange.filter((s) => s.grade !== 'good')
  const bends = !!motion.track.bends
  const amiss = (s: Moment) => (bends ? 1 - (s.agree ?? 1) : (s.residual ?? 0))
  const worst = inRange.reduce((a, b) => (amiss(b) > amiss(a) ? b : a), inRange[0])
  const found = (s: Moment) => `${Math.round((s.agree ?? 1) * 100)} %`
  return (
    <>
      {!motion.running && revision.stale.includes(motion.track.id) && (
        <p className="text-[13px] text-clay">
          What it follows changed after it was measured. Follow again to bring it up to date.
        </p>
      )}
      <dl className="grid grid-cols-[6.4rem_1fr] gap-x-1 text-[13px]">
        <dt className="text-quiet">Followed</dt>
        <dd className="font-mono">
          {inRange.filter((s) => !s.bridged).length} of {r.range.last - r.range.first + 1} frames
        </dd>
        {worst && (
          <>
            <dt className="text-quiet">{bends ? 'Least found' : 'Largest residual'}</dt>
            <dd>
              <button
                type="button"
                className="rounded font-mono underline decoration-stone underline-offset-2"
                title="Go there"
                onClick={() => bench.set({ frame: worst.frame, playing: false })}
              >
                {bends ? found(worst) : `${(worst.residual ?? 0).toFixed(2)} px`} on {worst.frame}
              </button>
            </dd>
          </>
        )}
        {doubtful.length > 0 && (
          <>
            <dt className="text-quiet">Look at</dt>
            <dd>
              <button
                type="button"
                className="rounded font-mono text-clay underline decoration-stone underline-offset-2"
                title="Go to the next one"
                onClick={() =>
                  bench.set({ frame: (doubtful.find((s) => s.frame > frame) ?? doubtful[0]).frame, playing: false })
                }
              >
                {doubtful.length} {doubtful.length === 1 ? 'frame' : 'frames'}
              </button>
            </dd>
          </>
        )}
        {here && (
          <>
            <dt className="text-quiet">This frame</dt>
            <dd className="font-mono" title="What is left over, and the share of the region that agrees">
              {frame === motion.track.home
                ? 'drawn here'
                : here.bridged
                  ? 'bridged'
                  : here.byHand
                    ? 'by hand'
                    : bends
                      ? `${found(here)} found`
                      : `${(here.residual ?? 0).toFixed(2)} px, ${found(here)}`}
            </dd>
          </>
        )}
      </dl>
      {here?.advice && <p className="text-[13px] text-clay">{here.advice}</p>}
    </>
  )
}
