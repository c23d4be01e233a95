import { Menu, MenuButton, MenuItems } from '@headlessui/react'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, api, type FillSource, type Removal, type Shot, type Stroke } from '../../api/client'
import { newId } from '../../api/treatment'
import { Select } from '../../ui/choice'
import { Button, Check, NumberField, NumberInput } from '../../ui/controls'
import { Item } from '../../ui/menu'
import { dropStroke, on, type Edit } from '../edits'
import { allStrokes, sourceOf, copies, modes, nextUnpainted, onStroke, repeatHere } from '../fill'
import { paintedAt, strokeList, strokesOf, travels } from '../sources/kinds'
import { newPaint } from '../sources/paint'
import { newPlate } from '../sources/plate'
import { boundsOf, pathOf } from '../handles/curve'
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
  const { stroke: chosen, frame, faint, sourceId } = useBench()
  const strokes = allStrokes(r)
  const picked = strokes.find((s) => s.id === chosen)
  const few = strokes.length <= 300
  const [all, setAll] = useState(false)
  const from = all ? 0 : Math.max(0, strokes.length - 120)
  const paths = usePaths(shot.id, r, few && strokes.length > 0)
  const travelling = onPaint && travels(onPaint) ? onPaint : null
  const repeat = travelling && repeatHere(r, travelling, frame)
  const unpainted = travelling && nextUnpainted(r, frame)
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
              <li key={s.id} className={`${s.id === chosen ? 'bg-slab' : ''} ${s.off ? 'opacity-50' : ''}`}>
                <button
                  type="button"
                  aria-pressed={s.id === chosen}
                  className="flex w-full items-center gap-2 rounded px-1 py-0.5 text-left text-[13px]"
                  onClick={() => bench.set({ stroke: s.id === chosen ? null : s.id, tool: 'look', outline: null })}
                >
                  {few && <Thumb shot={shot} stroke={s} path={paths?.[s.id]} />}
                  <span className="min-w-0 flex-1 truncate">
                    Stroke {i + 1}
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
      {picked && (
        <StrokeFields
          shot={shot}
          revision={revision}
          removal={r}
          stroke={picked}
          edit={edit}
          number={strokes.indexOf(picked) + 1}
        />
      )}
    </>
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

/** All that can be changed about a stroke later. */
function StrokeFields({
  shot,
  revision,
  removal: r,
  stroke: s,
  edit,
  number,
}: {
  shot: Shot
  revision: BenchProps['revision']
  removal: Removal
  stroke: Stroke
  edit: Edit
  number: number
}) {
  const frame = useBench((x) => x.frame)
  const change = (label: string, f: (x: Stroke) => void) => void edit(label, onStroke(r.id, s.id, f))
  const source = sourceOf(r, s.id)
  const held = !!source && paintedAt(source) !== undefined
  const span = s.range ?? r.range
  /** Puts it into another removal, on a source of the same kind and frame. */
  const copyTo = (id: string) =>
    void edit(
      `Copy a stroke to ${revision.document.removals.find((x) => x.id === id)?.name}`,
      on(id, (d) => {
        let into = d.fill.sources.find((x) => (held ? paintedAt(x) === s.home : travels(x)))
        if (!into) d.fill.sources.push((into = held ? newPlate(d, s.home) : newPaint(d)))
        strokeList(into)?.push({ ...structuredClone(s), id: newId(), ride: s.ride || r.follow.track || undefined })
      }),
    )
  return (
    <div className="flex flex-col gap-2 border-l-2 border-stone py-1 pl-2">
      {!s.area && (
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
      {s.area && (
        <NumberField
          label="Feather"
          unit="px"
          hint="Half of it lies inside the outline"
          value={s.area.feather ?? 0}
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
      {!s.area && (
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
      {s.from && (
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
      {copies(s.mode) && (
        <div className="grid grid-cols-[4.9rem_1fr] items-center gap-2">
          <span className="text-quiet">Does</span>
          <Select<Stroke['mode']>
            label="What the stroke does"
            value={s.mode}
            onChange={(v) =>
              change('What a stroke does', (x) => {
                x.mode = v
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
            aria-label={`More for stroke ${number}`}
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
          aria-label={`Delete stroke ${number}`}
          onClick={() => {
            bench.set({ stroke: null })
            void edit(
              'Delete a stroke',
              on(r.id, (d) => dropStroke(d, s.id)),
            )
          }}
        >
          Delete
        </Button>
      </div>
    </div>
  )
}
