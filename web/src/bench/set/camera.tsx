import { useRef, useState } from 'react'
import { answer, api, type Document } from '../../api/client'
import { isOpen, useTasks } from '../../api/tasks'
import { useEdit } from '../../api/treatment'
import { Pick, Select } from '../../ui/choice'
import { Button, Check, NumberInput, Text } from '../../ui/controls'
import { send } from '../../ui/files'
import { notify } from '../../ui/notice'
import type { BenchProps } from '../props'
import { Running } from '../running'
import { bench, useBench } from '../state'
import { type Space } from './queries'
import { Heading } from './heading'

/** The document's camera, begun if there is none. */
const cameraOf = (d: Document) => (d.camera ??= { focal: 'fixed', terms: 1 })

export function Camera({ shot, revision, space }: BenchProps & { space: Space | null }) {
  const { edit, adopt } = useEdit(shot.id)
  const { camera } = revision.document
  const task = useTasks(shot.id).find((t) => t.kind === 'solve')
  const file = useRef<HTMLInputElement>(null)
  const focal = camera?.focal ?? 'fixed'
  const running = task && isOpen(task) ? task : null
  const off = space ? space.points.length - space.fits : 0
  const unknown = space ? shot.last - shot.first + 1 - space.views.length : 0
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
      <Check
        label="Find the squeeze"
        hint="For an anamorphic lens whose squeeze is not known well; it begins with what is typed under Lens"
        value={!!camera?.squeeze}
        onChange={(v) =>
          void edit('The squeeze', (d) => {
            cameraOf(d).squeeze = v || undefined
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
            {unknown > 0 && ` Of ${unknown} frames it is not known: too little could be followed there.`}
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
export function Laying({ shot, space }: BenchProps & { space: Space }) {
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
