import { Menu, MenuButton, MenuItem, MenuItems, Switch } from '@headlessui/react'
import { useState } from 'react'
import { Link } from 'wouter'
import { answer, api, type Removal, type Shot } from '../api/client'
import { computed } from '../api/session'
import { isOpen, useTasks } from '../api/tasks'
import { useEdit } from '../api/treatment'
import { Button, NumberInput, Text } from '../ui/controls'
import { Leaf } from '../ui/leaf'
import { notify } from '../ui/notice'
import { WorkRoom } from '../tasks/room'
import type { BenchProps } from './props'
import { on, startRemoval } from './edits'
import { History } from './history'
import { useScores } from './scores'
import { stages, standingWords, type RemovalStanding } from './stages'
import { FillStage } from './stages/fill'
import { FollowStage } from './stages/follow'
import { MarkStage } from './stages/mark'
import { GuardStage } from './stages/guard'
import { SettleStage } from './stages/settle'
import { Running } from './running'
import { bench, useBench } from './state'

/** The path: all removals as a ledger of cards; the open one unfolds into its stages. */
export function Path(props: BenchProps) {
  const { shot, revision } = props
  const { edit, undo, redo } = useEdit(shot.id)
  const open = useBench((s) => s.removal)
  const [find, setFind] = useState('')
  const wanted = find.trim().toLowerCase()
  return (
    <aside className="row-span-3 flex min-h-0 flex-col border-r border-rule bg-bed" aria-label="Removals">
      <header className="border-b border-rule px-3 py-2">
        <div className="flex items-center gap-2">
          <Link href="/" title="Back to the shot wall" className="flex items-center gap-2 rounded">
            <Leaf className="h-6 w-6" />
          </Link>
          <div className="min-w-0 flex-1 leading-tight">
            <h1 className="truncate font-semibold">{shot.name}</h1>
            <p className="truncate text-[13px] text-quiet">{shot.show}</p>
          </div>
          <WorkRoom />
        </div>
        <div className="mt-1 -ml-2 flex items-center gap-1">
          <Button
            weight="bare"
            disabled={!revision.undo}
            title={revision.undo ? `Undo: ${revision.undo} (Ctrl Z)` : 'Nothing to undo'}
            onClick={() => void undo()}
          >
            Undo
          </Button>
          <Button
            weight="bare"
            disabled={!revision.redo}
            title={revision.redo ? `Redo: ${revision.redo} (Ctrl Shift Z)` : 'Nothing to redo'}
            onClick={() => void redo()}
          >
            Redo
          </Button>
          <History shot={shot} revision={revision} />
        </div>
      </header>
      <div className="min-h-0 flex-1 overflow-y-auto p-2">
        {revision.document.removals.length > 1 && (
          <input
            aria-label="Find by name"
            placeholder="Find by name"
            className="mb-2 w-full rounded border border-stone bg-soil px-2 py-1"
            value={find}
            onChange={(e) => setFind(e.target.value)}
            onKeyDown={(e) => e.stopPropagation()}
          />
        )}
        {wanted && (
          <ul className="mb-2 flex flex-col gap-0.5 text-[13px]" aria-label="Found">
            {revision.document.removals.flatMap((r) =>
              r.mark.outlines
                .filter((o) => o.name.toLowerCase().includes(wanted))
                .map((o) => (
                  <li key={o.id}>
                    <button
                      type="button"
                      className="w-full truncate rounded px-2 py-0.5 text-left hover:bg-slab"
                      onClick={() => {
                        bench.open(r.id, 'mark')
                        bench.set({ outline: o.id, knots: [] })
                      }}
                    >
                      {o.name} <span className="text-quiet">of {r.name}</span>
                    </button>
                  </li>
                )),
            )}
          </ul>
        )}
        <ol className="flex flex-col gap-2">
          {revision.document.removals
            .filter((r) => !wanted || r.id === open || r.name.toLowerCase().includes(wanted))
            .map((r) => (
              <li key={r.id} className={`rounded-lg border ${r.id === open ? 'border-stone bg-soil' : 'border-rule'}`}>
                <Card {...props} removal={r} open={r.id === open} />
                {r.id === open && <Unfolded {...props} removal={r} />}
              </li>
            ))}
        </ol>
        {revision.document.removals.length === 0 && (
          <p className="px-2 py-3 text-quiet">
            Nothing is removed yet. Go to a frame on which the thing is large, sharp and evenly lit, and begin a removal
            there: it becomes the reference frame.
          </p>
        )}
        <Button
          weight="main"
          className="mt-2 w-full"
          title="Begin a removal on this frame (N)"
          onClick={() => startRemoval(props, edit)}
        >
          New removal on this frame
        </Button>
      </div>
    </aside>
  )
}

function Card({ shot, standings, removal: r, open }: BenchProps & { removal: Removal; open: boolean }) {
  const { edit } = useEdit(shot.id)
  return (
    <div className="flex items-center gap-2 p-2">
      <button
        type="button"
        aria-expanded={open}
        className="flex min-w-0 flex-1 items-center gap-2 rounded text-left"
        onClick={() => (open ? bench.open(null) : bench.open(r.id, 'mark'))}
      >
        <Spot shot={shot} removal={r} />
        <span className={`min-w-0 flex-1 ${r.off ? 'opacity-50' : ''}`}>
          <span className="block truncate">{r.name}</span>
          <span className="mt-0.5 flex gap-2">
            {stages.map((s) => (
              <Mark key={s.id} standing={standings.get(r.id)?.[s.id]} label={s.name} />
            ))}
          </span>
        </span>
      </button>
      <Switch
        checked={!r.off}
        onChange={(v) =>
          void edit(
            v ? `Use ${r.name}` : `Leave out ${r.name}`,
            on(r.id, (d) => {
              if (v) delete d.off
              else d.off = true
            }),
          )
        }
        aria-label={`Use ${r.name}`}
        title={r.off ? 'Left out of the result' : 'Part of the result'}
        className="group inline-flex h-4 w-7 items-center rounded-full bg-stone data-checked:bg-moss"
      >
        <span className="size-3 translate-x-0.5 rounded-full bg-text transition group-data-checked:translate-x-3.5" />
      </Switch>
      <Menu>
        <MenuButton
          className="rounded px-1.5 py-0.5 text-quiet hover:bg-slab hover:text-text"
          aria-label={`More for ${r.name}`}
        >
          ···
        </MenuButton>
        <MenuItems
          anchor="bottom end"
          className="z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none"
        >
          <MenuItem>
            <button
              type="button"
              className="block w-full rounded-sm px-3 py-1 text-left data-focus:bg-stone"
              onClick={() => bench.set({ frame: r.reference, playing: false })}
            >
              Go to its reference frame
            </button>
          </MenuItem>
          <MenuItem>
            <button
              type="button"
              className="block w-full rounded-sm px-3 py-1 text-left data-focus:bg-stone"
              onClick={() => {
                bench.open(r.id, 'mark')
                bench.set({ tool: 'copy', copying: r.id, playing: false })
              }}
            >
              Copy to another place
            </button>
          </MenuItem>
          <MenuItem>
            <button
              type="button"
              className="block w-full rounded-sm px-3 py-1 text-left text-clay data-focus:bg-stone"
              onClick={() =>
                void edit(`Delete ${r.name}`, (d) => {
                  d.removals = d.removals.filter((x) => x.id !== r.id)
                })
              }
            >
              Delete the removal
            </button>
          </MenuItem>
        </MenuItems>
      </Menu>
    </div>
  )
}

/** The marked spot on the reference frame, cut from its picture. */
function Spot({ shot, removal: r }: { shot: Shot; removal: Removal }) {
  const points = r.mark.outlines.flatMap((o) => o.points.map((p) => p.at))
  const size = 40
  const xs = points.map((p) => p[0])
  const ys = points.map((p) => p[1])
  const span = points.length
    ? Math.max(24, Math.max(Math.max(...xs) - Math.min(...xs), Math.max(...ys) - Math.min(...ys)) * 1.8)
    : shot.height
  const x = points.length ? (Math.max(...xs) + Math.min(...xs)) / 2 : shot.width / 2
  const y = points.length ? (Math.max(...ys) + Math.min(...ys)) / 2 : shot.height / 2
  const k = size / span
  return (
    <span
      aria-hidden
      className="size-10 shrink-0 rounded border border-stone bg-soil"
      style={{
        backgroundImage: `url(/api/shots/${shot.id}/frames/${r.reference}/screen?v=${computed()})`,
        backgroundSize: `${shot.width * k}px ${shot.height * k}px`,
        backgroundPosition: `${size / 2 - x * k}px ${size / 2 - y * k}px`,
        backgroundRepeat: 'no-repeat',
      }}
    />
  )
}

/** A stage's standing: empty ring, half leaf, full leaf, or clay where it needs a look; and why. */
function Mark({ standing: s, label }: { standing: RemovalStanding['mark'] | undefined; label: string }) {
  const state = s?.state ?? 'empty'
  const fill = { empty: 'none', begun: 'none', done: 'var(--color-fern)', look: 'var(--color-clay)' }[state]
  const line = state === 'look' ? 'var(--color-clay)' : state === 'empty' ? 'var(--color-stone)' : 'var(--color-fern)'
  const words = `${label}: ${standingWords[state]}${s ? ` (${s.why})` : ''}`
  return (
    <svg viewBox="0 0 12 12" className="size-3" role="img" aria-label={words}>
      <title>{words}</title>
      <path d="M1.5 10.5C1 4 5 1.5 10.5 1.5c0 5.500-3 9-9 9z" fill={fill} stroke={line} strokeWidth="1.3" />
      {state === 'begun' && <path d="M1.5 10.500L8 4C9 6 6 10 1.500 10.500z" fill={line} />}
    </svg>
  )
}

/** The reference frame: go there, move the zero to the frame shown, or ask which frame is best. */
function Reference({ shot, removal: r }: BenchProps & { removal: Removal }) {
  const { edit } = useEdit(shot.id)
  const frame = useBench((s) => s.frame)
  const task = useTasks(shot.id).find((t) => t.kind === 'scout' && t.subject === r.id)
  const { data } = useScores(shot.id, r.id)
  const best = data?.frames[0]
  const running = task && isOpen(task)
  return (
    <div className="text-[13px]">
      <div className="flex flex-wrap items-center gap-x-0.5">
        <span className="flex-1 whitespace-nowrap text-quiet">
          Reference <span className="font-mono text-text">{r.reference}</span>
        </span>
        <Button
          weight="bare"
          className="px-0.5! py-0!"
          title="Go to the reference frame (J)"
          onClick={() => bench.set({ frame: r.reference, playing: false })}
        >
          Go there
        </Button>
        <Button
          weight="bare"
          className="px-0.5! py-0!"
          disabled={frame === r.reference}
          title="Make the frame shown the reference frame: outlines, paint and track stay where they are, nothing is followed again"
          onClick={() =>
            void edit(
              `Reference frame ${frame}`,
              on(r.id, (d) => {
                d.reference = frame
              }),
            )
          }
        >
          Move here
        </Button>
        <Button
          weight="bare"
          className="px-0.5! py-0!"
          disabled={!!running || !r.mark.outlines.length}
          title="Score every frame by sharpness, smear, light, size, and what is in front"
          onClick={() =>
            void answer(
              api.POST('/api/shots/{id}/scout/{removal}', { params: { path: { id: shot.id, removal: r.id } } }),
            ).catch((e: Error) => notify(e.message))
          }
        >
          Suggest
        </Button>
      </div>
      {running && <Running task={task} label="Frames scored" />}
      {!running && task?.problem && <p className="text-clay">{task.problem}</p>}
      {!running && task?.found && <p className="text-[13px] text-quiet">{task.found}</p>}
      {best && !running && (
        <p className="text-quiet">
          <button
            type="button"
            className="rounded text-left underline decoration-stone underline-offset-2 hover:text-text"
            title="Go there"
            onClick={() => bench.set({ frame: best.frame, playing: false })}
          >
            {data.words}
          </button>
        </p>
      )}
    </div>
  )
}

function Unfolded(props: BenchProps & { removal: Removal }) {
  const { shot, standings, removal: r } = props
  const { edit } = useEdit(shot.id)
  const stage = useBench((s) => s.stage)
  return (
    <div className="border-t border-rule px-2 pt-2 pb-3">
      <div className="mb-2 grid gap-1.5 px-1">
        <Text
          label="Name of the removal"
          className="w-full"
          value={r.name}
          onDone={(name) =>
            void edit(
              `Rename to ${name}`,
              on(r.id, (d) => {
                d.name = name
              }),
            )
          }
        />
        <Reference {...props} />
        <div className="flex items-center gap-2 text-[13px]" title="Frames on which the patch is laid">
          <span className="flex-1 text-quiet">Frames</span>
          <NumberInput
            label="First frame of the removal"
            className="w-16"
            value={r.range.first}
            min={shot.first}
            max={r.range.last}
            onDone={(v) =>
              void edit(
                'Change the range',
                on(r.id, (d) => {
                  d.range.first = Math.round(v)
                }),
              )
            }
          />
          <span className="text-quiet">to</span>
          <NumberInput
            label="Last frame of the removal"
            className="w-16"
            value={r.range.last}
            min={r.range.first}
            max={shot.last}
            onDone={(v) =>
              void edit(
                'Change the range',
                on(r.id, (d) => {
                  d.range.last = Math.round(v)
                }),
              )
            }
          />
        </div>
      </div>
      <ol className="relative">
        <span aria-hidden className="absolute top-3 bottom-3 left-[9px] w-px bg-stone" />
        {stages.map((s) => (
          <li key={s.id} className="relative pl-6">
            <span className="absolute top-2 left-[3px] bg-soil py-0.5">
              <Mark standing={standings.get(r.id)?.[s.id]} label={s.name} />
            </span>
            <button
              type="button"
              aria-expanded={stage === s.id}
              title={`${s.asks} (${s.key})`}
              className={`flex w-full items-baseline gap-2 rounded px-1.5 py-1 text-left hover:bg-slab ${stage === s.id ? 'font-semibold' : ''}`}
              onClick={() => bench.open(r.id, s.id)}
            >
              {s.name}
              <span className="text-[13px] font-normal text-quiet">{s.asks}</span>
            </button>
            {stage === s.id && (
              <div className="flex flex-col gap-2 py-1.5 pl-1.5">
                {s.id === 'mark' && <MarkStage {...props} />}
                {s.id === 'follow' && <FollowStage {...props} />}
                {s.id === 'fill' && <FillStage {...props} />}
                {s.id === 'settle' && <SettleStage {...props} />}
                {s.id === 'guard' && <GuardStage {...props} />}
              </div>
            )}
          </li>
        ))}
      </ol>
    </div>
  )
}
