import { Menu, MenuButton, MenuItems } from '@headlessui/react'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, api, type FillSource, type Removal, type Shot, type Stroke } from '../../api/client'
import { newId } from '../../api/treatment'
import { Select } from '../../ui/choice'
import { Button, Check, NumberField, NumberInput } from '../../ui/controls'
import { Item } from '../../ui/menu'
import { dropStrokes, on, type Edit } from '../edits'
import {
  allStrokes,
  between,
  copies,
  fromOf,
  modes,
  nextUnpainted,
  onStroke,
  onStrokes,
  repeatHere,
  repeatOver,
  resizeStroke,
  sourceOf,
  these,
} from '../fill'
import { paintedAt, strokeList, strokesOf, travels } from '../sources/kinds'
import { newPaint } from '../sources/paint'
import { newPlate } from '../sources/plate'
import { boundsOf, pathOf } from '../handles/curve'
import { healed } from './brush'
import type { BenchProps } from '../props'
import { bench, useBench } from '../state'

/** The points of a removal's strokes, by stroke. */
export function usePaths(shot: string, r: Removal, enabled = true) {
  return useQuery({
    queryKey: [
      'paths',
      shot,
      r.id,
      allStrokes(r)
        .map((s) => s.path?.artifact)
        .join(),
    ],
    queryFn: () =>
      answer(api.GET('/api/shots/{id}/paths/{removal}', { params: { path: { id: shot, removal: r.id } } })),
    placeholderData: (old) => old,
    enabled,
  }).data
}

const words = (s: Stroke) => modes.find((m) => m.value === s.mode)!.label
const lasts = (s: Stroke) =>
  !s.range ? '' : s.range.first === s.range.last ? `, only ${s.range.first}` : `, ${s.range.first} to ${s.range.last}`

/** The strokes of a removal, in the order in which they are laid. */
export function Strokes({
  shot,
  revision,
  removal: r,
  onPaint,
  edit,
}: BenchProps & { removal: Removal; onPaint: FillSource | null; edit: Edit }) {
  const { strokes: chosen, frame, faint, sourceId } = useBench()
  const strokes = allStrokes(r)
  const picked = strokes.filter((s) => chosen.includes(s.id))
  const few = strokes.length <= 300
  const [all, setAll] = useState(false)
  const from = all ? 0 : Math.max(0, strokes.length - 120)
  const paths = usePaths(shot.id, r, few && strokes.length > 0)
  const travelling = onPaint && travels(onPaint) ? onPaint : null
  const repeat = travelling && repeatHere(r, travelling, frame)
  const over = travelling && repeatOver(r, travelling, frame, r.range)
  const unpainted = travelling && nextUnpainted(r, frame)
  const chooses = (e: { ctrlKey: boolean; metaKey: boolean; shiftKey: boolean }, id: string): string[] => {
    if (e.ctrlKey || e.metaKey) return chosen.includes(id) ? chosen.filter((x) => x !== id) : [...chosen, id]
    if (e.shiftKey && chosen.length) return between(strokes, chosen[chosen.length - 1], id)
    return chosen.length === 1 && chosen[0] === id ? [] : [id]
  }
  return (
    <>
      {travelling && (
        <div className="grid grid-cols-2 gap-1.5">
          <Button
            disabled={!repeat}
            title="The strokes of the frame painted last, carried here by the track (R)"
            onClick={() => repeat && void edit('Repeat strokes here', repeat)}
          >
            Repeat here
          </Button>
          <Button
            disabled={unpainted === null}
            title="Go to the next frame of the removal without travelling paint (U)"
            onClick={() => unpainted !== null && bench.set({ frame: unpainted, playing: false })}
          >
            Next unpainted
          </Button>
          {travelling && <RepeatOver key={r.id} removal={r} source={travelling} can={over !== null} edit={edit} />}
          <div className="col-span-2">
            <Check
              label="Show the last frame’s strokes faintly"
              value={faint}
              onChange={(v) => bench.set({ faint: v })}
            />
          </div>
        </div>
      )}
      {strokes.length > 0 && (
        <ol className="max-h-56 overflow-y-auto rounded border border-rule" aria-label="Strokes">
          {from > 0 && (
            <li>
              <Button weight="bare" className="w-full" onClick={() => setAll(true)}>
                Show the {from} before these
              </Button>
            </li>
          )}
          {strokes.map((s, i) =>
            i < from ||
            (sourceId &&
              sourceOf(r, s.id)?.id !== sourceId &&
              r.fill.sources.some((x) => x.id === sourceId && strokesOf(x).length > 0)) ? null : (
              <li key={s.id} className={`${chosen.includes(s.id) ? 'bg-slab' : ''} ${s.off ? 'opacity-50' : ''}`}>
                <button
                  type="button"
                  aria-pressed={chosen.includes(s.id)}
                  className="flex w-full items-center gap-2 rounded px-1 py-0.5 text-left text-[13px]"
                  title="Ctrl adds one to those that are selected, Shift all from the last one on"
                  onClick={(e) => bench.set({ strokes: chooses(e, s.id), tool: 'look', outline: null })}
                >
                  {few && <Thumb shot={shot} stroke={s} path={paths?.[s.id]} />}
                  <span className="min-w-0 flex-1 truncate">
                    {s.name || `Stroke ${i + 1}`}
                    <span className="text-quiet">
                      , {words(s)}
                      {s.area ? ', area' : ` ${Math.round(s.size)} px`}
                    </span>
                  </span>
                  <span className="font-mono text-quiet">
                    {s.home}
                    {lasts(s) && '*'}
                  </span>
                </button>
              </li>
            ),
          )}
        </ol>
      )}
      {picked.length > 0 && (
        <StrokeFields
          key={picked.map((s) => s.id).join()}
          shot={shot}
          revision={revision}
          removal={r}
          strokes={picked}
          edit={edit}
          number={strokes.indexOf(picked[0]) + 1}
        />
      )}
    </>
  )
}

/** Repeats the strokes of the frame painted last on many frames at once. */
function RepeatOver({
  removal: r,
  source,
  can,
  edit,
}: {
  removal: Removal
  source: FillSource
  can: boolean
  edit: Edit
}) {
  const frame = useBench((s) => s.frame)
  const [last, setLast] = useState<number | null>(null)
  const [first, setFirst] = useState<number | null>(null)
  const range = { first: first ?? r.range.first, last: last ?? r.range.last }
  const lay = () => {
    const change = repeatOver(r, source, frame, range)
    if (change) void edit(`Repeat strokes on ${range.first} to ${range.last}`, change)
  }
  return (
    <div
      className="col-span-2 flex items-center gap-1.5"
      title="The strokes of the frame painted last, on every frame from one to another that has none of its own"
    >
      <Button className="flex-1" disabled={!can} onClick={lay}>
        Repeat on
      </Button>
      <NumberInput
        label="Repeat from frame"
        className="w-16"
        value={range.first}
        min={r.range.first}
        max={range.last}
        onDone={(v) => setFirst(Math.round(v))}
      />
      <span className="text-quiet">to</span>
      <NumberInput
        label="Repeat to frame"
        className="w-16"
        value={range.last}
        min={range.first}
        max={r.range.last}
        onDone={(v) => setLast(Math.round(v))}
      />
    </div>
  )
}

/** Where a stroke lies, on its own frame. */
function Thumb({ shot, stroke: s, path }: { shot: Shot; stroke: Stroke; path?: number[][] }) {
  const [dx, dy] = s.path?.shift ?? [0, 0]
  const at = s.area ? s.area.points.map((k) => k.at) : (path ?? []).map((p) => [p[0] + dx, p[1] + dy])
  if (at.length === 0) return <span aria-hidden className="size-7 shrink-0 rounded border border-stone" />
  const b = boundsOf(at.map((p) => ({ at: p })))
  const span = Math.max(b.right - b.left, b.bottom - b.top) + (s.area ? 12 : s.size * 1.6)
  const k = 28 / span
  const [x, y] = [(b.left + b.right) / 2, (b.top + b.bottom) / 2]
  const room = {
    toRoom: (p: { x: number; y: number }) => ({ x: 14 + (p.x - x) * k, y: 14 + (p.y - y) * k }),
    bent: false,
  }
  const d = s.area
    ? pathOf(s.area.points, room)
    : pathOf(
        at.filter((_, i) => i % Math.ceil(at.length / 24) === 0 || i === at.length - 1).map((p) => ({ at: p })),
        room,
        false,
      ) + (at.length === 1 ? 'h0.01' : '')
  return (
    <span
      aria-hidden
      className="relative size-7 shrink-0 overflow-hidden rounded border border-stone"
      style={{
        backgroundImage: `url(/api/shots/${shot.id}/frames/${s.home}/screen)`,
        backgroundSize: `${shot.width * k}px ${shot.height * k}px`,
        backgroundPosition: `${14 - x * k}px ${14 - y * k}px`,
        backgroundRepeat: 'no-repeat',
      }}
    >
      <svg viewBox="0 0 28 28" className="absolute inset-0">
        <path
          d={d}
          fill={s.area ? 'var(--color-fern)' : 'none'}
          fillOpacity="0.35"
          stroke="var(--color-fern)"
          strokeOpacity="0.75"
          strokeLinecap="round"
          strokeLinejoin="round"
          strokeWidth={s.area ? 1.5 : Math.max(1.5, s.size * k)}
        />
      </svg>
    </span>
  )
}

/** All that can be changed about strokes later: of one, or of several at once. */
function StrokeFields({
  shot,
  revision,
  removal: r,
  strokes,
  edit,
  number,
}: {
  shot: Shot
  revision: BenchProps['revision']
  removal: Removal
  strokes: Stroke[]
  edit: Edit
  number: number
}) {
  const frame = useBench((x) => x.frame)
  const origin = useBench((x) => x.origin)
  const ids = strokes.map((x) => x.id)
  const [s] = strokes
  const many = strokes.length > 1
  const change = (label: string, f: (x: Stroke) => void) =>
    void edit(many ? label.replace(/an? (stroke|area)/, `${strokes.length} strokes`) : label, onStrokes(r.id, ids, f))
  const source = sourceOf(r, s.id)
  const held = !!source && paintedAt(source) !== undefined
  const span = s.range ?? r.range
  const paths = strokes.every((x) => !x.area)
  const areas = strokes.every((x) => x.area)
  const healing = strokes.every((x) => x.mode === 'heal')
  /** Puts it into another removal, on a source of the same kind and frame. */
  const copyTo = (id: string) =>
    void edit(
      `Copy ${these(strokes.length)} to ${revision.document.removals.find((x) => x.id === id)?.name}`,
      on(id, (d) => {
        let into = d.fill.sources.find((x) => (held ? paintedAt(x) === s.home : travels(x)))
        if (!into) d.fill.sources.push((into = held ? newPlate(d, s.home) : newPaint(d)))
        for (const x of strokes)
          strokeList(into)?.push({ ...structuredClone(x), id: newId(), ride: x.ride || r.follow.track || undefined })
      }),
    )
  return (
    <div className="flex flex-col gap-2 border-l-2 border-stone py-1 pl-2">
      <div className="flex items-center gap-1.5">
        <span className="flex-1 text-quiet">{many ? `${strokes.length} strokes` : 'Name'}</span>
        <input
          aria-label={many ? 'Name of the strokes' : 'Name of the stroke'}
          placeholder={many ? 'Name' : `Stroke ${number}`}
          maxLength={120}
          defaultValue={many ? '' : s.name}
          className="w-36 rounded border border-stone bg-soil px-1.5 py-0.5 text-[13px]"
          onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
          onBlur={(e) => {
            const name = e.target.value.trim()
            if (many ? name : name !== (s.name ?? ''))
              change('Name a stroke', (x) => {
                x.name = name ? (many ? `${name} ${ids.indexOf(x.id) + 1}` : name) : undefined
              })
          }}
        />
      </div>
      {many && (
        <NumberField
          label="Size"
          unit="%"
          hint="Of what each is now; of an area its soft edge"
          value={100}
          min={5}
          max={1000}
          slides={300}
          onDone={(v) => change('Size of a stroke', (x) => resizeStroke(x, v / 100))}
        />
      )}
      {!many && paths && (
        <NumberField
          label="Size"
          unit="px"
          value={s.size}
          min={1}
          max={2000}
          slides={300}
          onDone={(v) =>
            change('Size of a stroke', (x) => {
              x.size = v
            })
          }
        />
      )}
      {areas && (
        <NumberField
          label="Feather"
          unit="px"
          hint="Half of it lies inside the outline"
          value={s.area?.feather ?? 0}
          min={0}
          max={60}
          step={0.5}
          onDone={(v) =>
            change('Feather of an area', (x) => {
              if (x.area) x.area.feather = v
            })
          }
        />
      )}
      {paths && (
        <NumberField
          label="Hardness"
          unit="%"
          value={s.hardness * 100}
          min={0}
          max={100}
          onDone={(v) =>
            change('Hardness of a stroke', (x) => {
              x.hardness = v / 100
            })
          }
        />
      )}
      <NumberField
        label="Opacity"
        unit="%"
        value={s.opacity * 100}
        min={0}
        max={100}
        onDone={(v) =>
          change('Opacity of a stroke', (x) => {
            x.opacity = v / 100
          })
        }
      />
      {healing && (
        <>
          <NumberField
            {...healed.texture}
            value={(s.texture ?? 1) * 100}
            onDone={(v) =>
              change('Texture of a stroke', (x) => {
                x.texture = v / 100
              })
            }
          />
          <NumberField
            {...healed.light}
            value={(s.light ?? 1) * 100}
            onDone={(v) =>
              change('Light of a stroke', (x) => {
                x.light = v / 100
              })
            }
          />
        </>
      )}
      {many && strokes.some((x) => x.from) && origin.offset && (
        <Button
          className="py-0.5!"
          title="All of them copy from where the brush in hand does"
          onClick={() =>
            change('Source of a stroke', (x) => {
              if (x.from) x.from = fromOf(origin, origin.offset!)
            })
          }
        >
          Source of the brush for all
        </Button>
      )}
      {!many && s.from && (
        <div
          className="flex items-center gap-1.5"
          title="From the painted pixel to the copied one; drag the source on the picture"
        >
          <span className="flex-1 text-quiet">Source</span>
          <NumberInput
            label="Source of the stroke, x"
            className="w-16"
            value={s.from.offset[0]}
            min={-8000}
            max={8000}
            onDone={(v) =>
              change('Source of a stroke', (x) => {
                if (x.from) x.from.offset = [v, x.from.offset[1]]
              })
            }
          />
          <NumberInput
            label="Source of the stroke, y"
            className="w-16"
            value={s.from.offset[1]}
            min={-8000}
            max={8000}
            onDone={(v) =>
              change('Source of a stroke', (x) => {
                if (x.from) x.from.offset = [x.from.offset[0], v]
              })
            }
          />
          {s.from.frame !== undefined && <span className="text-[13px] text-quiet">of {s.from.frame}</span>}
        </div>
      )}
      {strokes.every((x) => copies(x.mode)) && (
        <div className="grid grid-cols-[4.9rem_1fr] items-center gap-2">
          <span className="text-quiet">Does</span>
          <Select<Stroke['mode']>
            label="What the stroke does"
            value={s.mode}
            onChange={(v) =>
              change('What a stroke does', (x) => {
                x.mode = v
                if (v === 'heal') x.texture ??= 1
              })
            }
            options={modes.slice(0, 2)}
          />
        </div>
      )}
      <div className="flex items-center gap-1.5 text-[13px]" title="Frames on which it is there">
        <span className="flex-1 text-quiet">Frames</span>
        <NumberInput
          label="First frame of the stroke"
          className="w-16"
          value={span.first}
          min={shot.first}
          max={span.last}
          onDone={(v) =>
            change('Range of a stroke', (x) => {
              x.range = { ...span, first: Math.round(v) }
            })
          }
        />
        <span className="text-quiet">to</span>
        <NumberInput
          label="Last frame of the stroke"
          className="w-16"
          value={span.last}
          min={span.first}
          max={shot.last}
          onDone={(v) =>
            change('Range of a stroke', (x) => {
              x.range = { ...span, last: Math.round(v) }
            })
          }
        />
      </div>
      <div className="flex gap-1.5 text-[13px]">
        <Button
          className="flex-1 py-0.5!"
          on={!s.range}
          onClick={() =>
            change('Stroke on all frames', (x) => {
              x.range = undefined
            })
          }
        >
          All frames
        </Button>
        <Button
          className="flex-1 py-0.5!"
          on={s.range?.first === frame && s.range.last === frame}
          onClick={() =>
            change('Stroke on this frame only', (x) => {
              x.range = { first: frame, last: frame }
            })
          }
        >
          Only {frame}
        </Button>
      </div>
      <div className="flex items-center gap-2">
        <Check
          label="Stays on the screen"
          hint="It is not carried by the track"
          value={s.ride === 'still'}
          onChange={(v) =>
            change('What carries a stroke', (x) => {
              x.ride = v ? 'still' : undefined
            })
          }
        />
        <span className="flex-1" />
        <Menu>
          <MenuButton
            className="rounded px-1.5 py-0.5 text-quiet hover:bg-stone hover:text-text"
            aria-label={many ? 'More for the strokes' : `More for stroke ${number}`}
          >
            More
          </MenuButton>
          <MenuItems
            anchor="bottom end"
            className="z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none"
          >
            <Item onClick={() => bench.set({ frame: s.home, playing: false })}>Go to its frame</Item>
            <Item
              onClick={() =>
                change(s.off ? 'Use a stroke' : 'Leave out a stroke', (x) => {
                  x.off = s.off ? undefined : true
                })
              }
            >
              {s.off ? 'Use it again' : 'Leave it out'}
            </Item>
            {!many && (
              <>
                <Item
                  onClick={() =>
                    void edit(
                      'Earlier in the order',
                      onStroke(r.id, s.id, (x, { list, i }) => {
                        if (i > 0) list.splice(i - 1, 2, x, list[i - 1])
                      }),
                    )
                  }
                >
                  Earlier in the order
                </Item>
                <Item
                  onClick={() =>
                    void edit(
                      'Later in the order',
                      onStroke(r.id, s.id, (x, { list, i }) => {
                        if (i < list.length - 1) list.splice(i, 2, list[i + 1], x)
                      }),
                    )
                  }
                >
                  Later in the order
                </Item>
              </>
            )}
            {revision.document.removals
              .filter((x) => x.id !== r.id)
              .map((x) => (
                <Item key={x.id} onClick={() => copyTo(x.id)}>
                  Copy to {x.name}
                </Item>
              ))}
          </MenuItems>
        </Menu>
        <Button
          weight="bare"
          className="py-0!"
          aria-label={many ? `Delete ${strokes.length} strokes` : `Delete stroke ${number}`}
          onClick={() => {
            bench.set({ strokes: [] })
            void edit(
              `Delete ${these(strokes.length)}`,
              on(r.id, (d) => dropStrokes(d, ids)),
            )
          }}
        >
          Delete
        </Button>
      </div>
    </div>
  )
}
