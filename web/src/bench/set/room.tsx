import { useRef, useState } from 'react'
import { answer, api, type Document, type Track } from '../../api/client'
import { isOpen, useTasks } from '../../api/tasks'
import { newId, useEdit } from '../../api/treatment'
import { Pick, Select } from '../../ui/choice'
import { Button, Check, NumberField, NumberInput, Text } from '../../ui/controls'
import { send } from '../../ui/files'
import { notify } from '../../ui/notice'
import { free, on, onTrack } from '../edits'
import { still } from '../motion'
import type { BenchProps } from '../props'
import { Running } from '../running'
import { bench, useBench } from '../state'
import { ridersOf } from '../tracks'
import { useCardMoves } from './handles'
import { useOnFrame, useSpace, type Space } from './queries'
import { SpaceView } from './spaceview'

/** The set: the lens, where the camera was, and cards in the space that it saw. */
export function SetRoom(props: BenchProps) {
  const space = useSpace(props.shot.id, props.revision)
  return (
    <aside
      aria-label="The set"
      className="flex min-h-0 min-w-0 flex-col gap-3 overflow-x-hidden overflow-y-auto border-l border-rule bg-bed p-3"
      data-testid="set-room"
    >
      <Camera {...props} space={space} />
      {space && <SpaceView {...props} space={space} />}
      {space && <Laying {...props} space={space} />}
      {space && <Cards {...props} space={space} />}
      <Lens {...props} />
    </aside>
  )
}

function Heading({ children }: { children: React.ReactNode }) {
  return <h2 className="border-b border-rule pb-1 font-semibold">{children}</h2>
}

/** The document's camera, begun if there is none. */
const cameraOf = (d: Document) => (d.camera ??= { focal: 'fixed', terms: 1 })

function Camera({ shot, revision, space }: BenchProps & { space: Space | null }) {
  const { edit, adopt } = useEdit(shot.id)
  const { camera } = revision.document
  const task = useTasks(shot.id).find((t) => t.kind === 'solve')
  const file = useRef<HTMLInputElement>(null)
  const focal = camera?.focal ?? 'fixed'
  const running = task && isOpen(task) ? task : null
  const off = space ? space.points.length - space.fits : 0
  const poor = space && !space.given && space.rms > 1
  return (
    <section className="flex flex-col gap-2" aria-label="Camera">
      <Heading>Camera</Heading>
      <div className="flex items-center gap-2" title="What is known of how it sees, before it is solved">
        <span className="text-quiet">Focal length</span>
        <Select
          label="What is known of the focal length"
          value={focal}
          onChange={(v) =>
            void edit('What is known of the focal length', (d) => {
              cameraOf(d).focal = v
            })
          }
          options={[
            { value: 'fixed', label: 'Unknown' },
            { value: 'known', label: 'Known' },
            { value: 'zooming', label: 'It zooms' },
          ]}
        />
        {focal === 'known' && (
          <>
            <NumberInput
              label="Focal length, pixels"
              className="w-20"
              value={camera?.length || null}
              min={10}
              max={1000000}
              onDone={(v) =>
                void edit('Focal length', (d) => {
                  cameraOf(d).length = v
                })
              }
            />
            <span className="text-quiet">px</span>
          </>
        )}
      </div>
      <div
        className="flex items-center gap-2"
        title="How many terms of the lens are found with the camera; none leaves the lens as it is"
      >
        <span className="text-quiet">Lens</span>
        <Pick
          label="Terms of the lens that are found"
          value={String(camera?.terms ?? (camera ? 0 : 1))}
          onChange={(v) =>
            void edit('Terms of the lens', (d) => {
              cameraOf(d).terms = Number(v)
            })
          }
          options={[
            { value: '0', label: 'as it is' },
            { value: '1', label: 'k1' },
            { value: '2', label: 'k1 k2' },
            { value: '3', label: 'k1 k2 k3' },
          ]}
        />
      </div>
      <Check
        label="Find the principal point"
        hint="Where the lens's middle is on the picture; off for most footage, for cropped pictures it is elsewhere. It takes a camera that turns"
        value={!!camera?.centre}
        onChange={(v) =>
          void edit('The principal point', (d) => {
            cameraOf(d).centre = v || undefined
          })
        }
      />
      {running ? (
        <Running task={running} label="Solving the camera" counted />
      ) : (
        <div className="flex flex-wrap items-center gap-1.5">
          <Button
            weight={space ? undefined : 'main'}
            title="Finds what can be followed over the whole shot, and from that where the camera was. What is marked, or in front, is left out"
            onClick={() =>
              void answer(api.POST('/api/shots/{id}/camera/solve', { params: { path: { id: shot.id } } })).catch(
                (e: Error) => notify(e.message),
              )
            }
          >
            {space ? 'Solve anew' : 'Solve the camera'}
          </Button>
          <Button
            title="A camera from elsewhere: glTF (.gltf, .glb) or Jardin's JSON"
            onClick={() => file.current?.click()}
          >
            Bring in…
          </Button>
          <input
            ref={file}
            type="file"
            accept=".gltf,.glb,.json"
            aria-label="A camera's file"
            className="hidden"
            onChange={(e) => {
              const f = e.target.files?.[0]
              e.target.value = ''
              if (f)
                void send(`/api/shots/${shot.id}/camera/file`, f)
                  .then((r) => adopt(r as Parameters<typeof adopt>[0]))
                  .catch((x: Error) => notify(x.message))
            }}
          />
        </div>
      )}
      {task?.state === 'failed' && !running && (
        <p className="text-[13px] text-clay" role="alert">
          {task.problem}
        </p>
      )}
      {space && (
        <>
          <p className={`text-[13px] ${poor ? 'text-clay' : ''}`} data-testid="solved">
            {space.given
              ? `Brought in from elsewhere: known on ${space.views.length} frames.`
              : space.turning
                ? `It only turned: ${space.rms.toFixed(2)} px. How far things are away is not known.`
                : `${space.rms.toFixed(2)} px off on average over ${space.views.length} frames; ${space.fits} points fit, ${off} do not.`}
            {poor &&
              ' That is a lot: mark what moves by itself, in front or for removal, or give what is known of focal length and lens; then solve anew.'}
          </p>
          {!space.given && <ByFrame space={space} />}
          <p className="flex flex-wrap gap-x-3 text-[13px]">
            <span className="text-quiet">Hand out as</span>
            {(
              [
                ['gltf', 'glTF'],
                ['json', 'JSON'],
                ['ply', 'points, PLY'],
              ] as const
            ).map(([as, words]) => (
              <a key={as} className="text-fern underline" href={`/api/shots/${shot.id}/camera/file?as=${as}`} download>
                {words}
              </a>
            ))}
          </p>
        </>
      )}
      {!space && !running && (
        <p className="text-[13px] text-quiet">
          When the camera moves through a set, things at different distances slide over each other. Solved, it tells
          where each place is; what is painted then lies on cards in space.
        </p>
      )}
    </section>
  )
}

/** How far points are off on each frame; a click goes there. */
function ByFrame({ space }: { space: Space }) {
  const frame = useBench((s) => s.frame)
  const most = Math.max(1, ...space.views.map((v) => v.rms ?? 0))
  const first = space.views[0]?.frame ?? 0
  const last = space.views[space.views.length - 1]?.frame ?? first
  const n = Math.max(1, last - first + 1)
  return (
    <svg
      role="img"
      aria-label="How far points are off, by frame"
      viewBox={`0 0 ${n} 24`}
      preserveAspectRatio="none"
      className="h-8 w-full cursor-pointer rounded-sm bg-soil"
      onClick={(e) => {
        const box = e.currentTarget.getBoundingClientRect()
        bench.set({
          frame: first + Math.min(n - 1, Math.floor((n * (e.clientX - box.left)) / box.width)),
          playing: false,
        })
      }}
    >
      <title>{`Pixels off, up to ${most.toFixed(2)}`}</title>
      {space.views.map((v) => {
        const h = Math.max(1, (22 * (v.rms ?? 0)) / most)
        return (
          <rect
            key={v.frame}
            x={v.frame - first + 0.1}
            width={0.8}
            y={24 - h}
            height={h}
            fill={(v.rms ?? 0) > 1 ? 'var(--color-clay)' : 'var(--color-fern)'}
          />
        )
      })}
      <rect x={frame - first} width={1} y={0} height={24} fill="#fff" opacity={0.35} />
    </svg>
  )
}

/** Floor, origin and lengths, by chosen points. */
function Laying({ shot, space }: BenchProps & { space: Space }) {
  const { tool, chosen } = useBench()
  const { adopt } = useEdit(shot.id)
  const [length, setLength] = useState(1)
  const [unit, setUnit] = useState(space.unit || 'm')
  const lay = (body: Parameters<typeof post>[0]) =>
    void post(body)
      .then((r) => adopt(r))
      .catch((e: Error) => notify(e.message))
  const post = (body: { floor?: number[]; origin?: number; apart?: number[]; length?: number; unit?: string }) =>
    answer(api.POST('/api/shots/{id}/camera/lay', { params: { path: { id: shot.id } }, body }))
  const [a, b] = chosen.map((i) => space.points[i]?.at)
  const apart = a && b ? Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2]) : 0
  return (
    <section className="flex flex-col gap-2" aria-label="Points">
      <Heading>Points</Heading>
      <div className="flex flex-wrap items-center gap-1.5">
        <Button
          on={tool === 'setpoints'}
          title="Choose points on the picture: drag a box around them, or click them"
          onClick={() =>
            bench.set({ tool: tool === 'setpoints' ? 'look' : 'setpoints', playing: false, straight: false })
          }
        >
          {tool === 'setpoints' ? 'Choosing…' : 'Choose points'}
        </Button>
        <span className="text-[13px] text-quiet" data-testid="chosen">
          {chosen.length ? `${chosen.length} chosen` : 'none chosen'}
          {chosen.length === 2 && apart > 0 && `, ${apart.toPrecision(3)} ${space.unit ?? ''} apart`}
        </span>
      </div>
      <div className="flex flex-wrap items-center gap-1.5">
        <Button
          disabled={chosen.length < 3}
          title="The chosen points, three or more, are on the floor: height 0"
          onClick={() => lay({ floor: chosen })}
        >
          They are the floor
        </Button>
        <Button
          disabled={chosen.length !== 1}
          title="The chosen point is where lengths begin: 0, 0, 0"
          onClick={() => lay({ origin: chosen[0] })}
        >
          Origin
        </Button>
      </div>
      {!space.turning && (
        <div className="flex items-center gap-1.5" title="Choose two points, and say how far they are apart">
          <NumberInput label="Length" className="w-16" value={length} min={1e-4} max={1e6} onDone={setLength} />
          <Text label="Unit" className="w-12" value={unit} onDone={setUnit} />
          <Button disabled={chosen.length !== 2} onClick={() => lay({ apart: chosen, length, unit })}>
            So far apart
          </Button>
        </div>
      )}
    </section>
  )
}

/** Cards: rectangles in space that patches lie on. */
function Cards({ shot, revision, motions }: BenchProps & { space: Space }) {
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

/** What the lens does to straight lines, and how it is found. */
function Lens({ shot, revision }: BenchProps) {
  const { tool, straight } = useBench()
  const { edit, adopt } = useEdit(shot.id)
  const { lens } = revision.document
  const [terms, setTerms] = useState('1')
  const file = useRef<HTMLInputElement>(null)
  const lines = lens?.lines ?? []
  const change = (label: string, f: (l: NonNullable<Document['lens']>) => void) =>
    void edit(label, (d) => {
      d.lens ??= { size: [shot.width, shot.height], k: [0, 0, 0] }
      f(d.lens)
    })
  const bows = !!lens?.k.some((k) => k !== 0)
  return (
    <section className="flex flex-col gap-2" aria-label="Lens">
      <Heading>Lens</Heading>
      <div className="flex items-center gap-1.5">
        {[0, 1, 2].map((i) => (
          <label
            key={i}
            className="flex min-w-0 items-center gap-1"
            title="What of it is seen at radius 1, half the picture's diagonal: −0.1 brings that a tenth nearer"
          >
            <span className="text-quiet">{`k${i + 1}`}</span>
            <NumberInput
              label={`k${i + 1}`}
              className="w-17"
              value={lens?.k[i] ?? 0}
              min={-2}
              max={2}
              onDone={(v) => change('The lens', (l) => (l.k[i] = v))}
            />
          </label>
        ))}
      </div>
      <div className="flex items-center gap-1.5">
        <span className="text-quiet">Middle</span>
        {[0, 1].map((i) => (
          <NumberInput
            key={i}
            label={i ? 'Principal point, y' : 'Principal point, x'}
            className="w-17"
            value={lens?.centre?.[i] ?? (i ? shot.height : shot.width) / 2}
            min={-4 * shot.width}
            max={5 * shot.width}
            onDone={(v) =>
              change('The principal point', (l) => {
                l.centre ??= [shot.width / 2, shot.height / 2]
                l.centre[i] = v
              })
            }
          />
        ))}
        <span className="text-quiet" title="Width of a pixel beside its height: 2 for an anamorphic lens of 2 : 1">
          squeeze
        </span>
        <NumberInput
          label="Squeeze"
          className="w-13"
          value={lens?.squeeze ?? 1}
          min={0.25}
          max={4}
          onDone={(v) => change('Squeeze', (l) => (l.squeeze = v))}
        />
      </div>
      <div className="flex flex-wrap items-center gap-1.5">
        <Button
          on={tool === 'straightline'}
          title="Click along edges or wires that are straight in the set, near the picture's edges best"
          onClick={() =>
            bench.set({ tool: tool === 'straightline' ? 'look' : 'straightline', playing: false, straight: false })
          }
        >
          {tool === 'straightline' ? 'Drawing…' : 'Draw straight lines'}
        </Button>
        {lines.length > 0 && (
          <>
            <Pick
              label="Terms found by lines"
              value={terms}
              onChange={setTerms}
              options={[
                { value: '1', label: 'k1' },
                { value: '2', label: 'k1 k2' },
              ]}
            />
            <Button
              title="The lens under which these lines are straight"
              onClick={() =>
                void answer(
                  api.POST('/api/shots/{id}/lens/lines', {
                    params: { path: { id: shot.id } },
                    body: { terms: Number(terms) },
                  }),
                )
                  .then((r) => {
                    adopt(r.revision)
                    notify(
                      `The lines are ${r.off.toFixed(2)} px from straight with the lens taken out, ${r.before.toFixed(2)} px without`,
                    )
                  })
                  .catch((e: Error) => notify(e.message))
              }
            >
              {`From ${lines.length === 1 ? 'this line' : `${lines.length} lines`}`}
            </Button>
            <Button
              weight="bare"
              title="Delete the lines that were drawn"
              onClick={() => change('Delete straight lines', (l) => delete l.lines)}
            >
              Delete lines
            </Button>
          </>
        )}
      </div>
      <Check
        label="Show it straight"
        hint="The picture with the lens taken out, for looking"
        value={straight}
        onChange={(v) => bows && bench.set({ straight: v, tool: 'look' })}
      />
      <p className="flex flex-wrap gap-x-3 text-[13px]">
        <span className="text-quiet">ST maps</span>
        {lens && (
          <>
            <a className="text-fern underline" href={`/api/shots/${shot.id}/lens/file?as=out`} download>
              lens out
            </a>
            <a className="text-fern underline" href={`/api/shots/${shot.id}/lens/file?as=in`} download>
              lens in
            </a>
          </>
        )}
        <button type="button" className="text-fern underline" onClick={() => file.current?.click()}>
          bring one in…
        </button>
        <input
          ref={file}
          type="file"
          accept=".exr"
          aria-label="An ST map of a lens"
          className="hidden"
          onChange={(e) => {
            const f = e.target.files?.[0]
            e.target.value = ''
            if (f)
              void send(`/api/shots/${shot.id}/lens/file`, f)
                .then((r) => adopt(r as Parameters<typeof adopt>[0]))
                .catch((x: Error) => notify(x.message))
          }}
        />
      </p>
    </section>
  )
}
