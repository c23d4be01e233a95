import { Menu, MenuButton, MenuItems } from '@headlessui/react'
import { useRef } from 'react'
import type { FillSource, Removal, Revision } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { Pick } from '../../ui/choice'
import { Button, Check, NumberField, NumberInput } from '../../ui/controls'
import { EntryHead } from '../../ui/entry'
import { bringIn } from '../../ui/files'
import { Item } from '../../ui/menu'
import { on } from '../edits'
import { onSource, paintedOn, selectedOf } from '../fill'
import { kinds, paintable, paintedAt, pictureOf } from '../sources/kinds'
import { views } from '../sources/views'
import type { BenchProps } from '../props'
import { bench, useBench } from '../state'
import { BrushFields, More } from './brush'
import { Strokes } from './strokes'

/** Fill: where clean pixels come from, and painting them. */
export function FillStage(props: BenchProps & { removal: Removal }) {
  const { shot, removal: r } = props
  const { edit } = useEdit(shot.id)
  const { tool, sourceId, frame, strokes } = useBench()
  const on1 = paintedOn(r, sourceId)
  const chosen = r.fill.sources.find((s) => s.id === sourceId) ?? null
  const painted = !chosen || paintable(chosen)
  const at = on1 ? paintedAt(on1) : undefined
  const away = at !== undefined && at !== frame && painted
  return (
    <>
      {r.fill.copied && (
        <div role="group" aria-label="Copied" className="rounded border border-clay px-2 py-1.5 text-[13px]">
          <p className="mb-1.5">
            Copied from {r.fill.copied}; where its pixels come from was proposed. See whether it holds on this place.
          </p>
          <Button
            onClick={() =>
              void edit(
                'It holds here',
                on(r.id, (d) => {
                  d.fill.copied = undefined
                }),
              )
            }
          >
            It holds here
          </Button>
        </div>
      )}
      <div className="flex gap-1.5">
        {painted &&
          (away ? (
            <Button
              weight="main"
              className="flex-1"
              title="Go to the frame that the paint lies on (J)"
              onClick={() => bench.set({ frame: at, playing: false, view: 'patch', tool: 'brush', strokes: [] })}
            >
              Hold frame {at} to paint
            </Button>
          ) : (
            <Button
              on={tool === 'brush'}
              className="flex-1"
              title={`Paint ${on1 ? `on ${on1.name}` : 'on this frame'} (F)`}
              onClick={() =>
                bench.set(
                  tool === 'brush' ? { tool: 'look' } : { tool: 'brush', view: 'patch', playing: false, strokes: [] },
                )
              }
            >
              {tool === 'brush' ? 'Painting' : 'Paint'}
            </Button>
          ))}
        {painted && !away && (
          <Button
            on={tool === 'area'}
            title="Draw an outline whose inside is copied from elsewhere: slide its source to a clean place (A)"
            onClick={() =>
              bench.set(
                tool === 'area'
                  ? { tool: 'look' }
                  : { tool: 'area', drawn: 'curve', view: 'patch', playing: false, strokes: [] },
              )
            }
          >
            Copy an area
          </Button>
        )}
        <AddSource {...props} />
      </div>
      {r.fill.sources.length === 0 && (
        // As high as the line of the source that the first stroke makes: the tools stay under the hand.
        <p className="px-2 py-0.5 text-quiet">None yet; a stroke makes a clean plate</p>
      )}
      {r.fill.sources.length > 0 && (
        <ul className="flex flex-col gap-0.5" aria-label="Sources of clean pixels">
          {r.fill.sources.map((s, i) => (
            <li key={s.id}>
              <button
                type="button"
                aria-pressed={s.id === sourceId}
                className={`flex w-full items-baseline gap-2 rounded px-2 py-0.5 text-left ${s.id === sourceId ? 'bg-slab' : 'hover:bg-slab'} ${s.off ? 'opacity-50' : ''}`}
                onClick={() =>
                  bench.set({
                    sourceId: s.id === sourceId ? null : s.id,
                    strokes: [],
                    outline: null,
                    knots: [],
                    tool: s.id !== sourceId && paintable(s) && tool === 'brush' ? 'brush' : 'look',
                  })
                }
              >
                <span className={`min-w-0 flex-1 truncate ${s === on1 && painted ? 'text-fern' : ''}`}>{s.name}</span>
                <span className="text-[13px] whitespace-nowrap text-quiet">
                  {pictureOf(s)
                    ? 'supplied'
                    : (kinds[s.kind].note?.(s) ??
                      (kinds[s.kind].word === s.name.toLowerCase() ? '' : kinds[s.kind].word))}
                </span>
              </button>
              {s.id === sourceId && <SourceFields {...props} source={s} first={i === 0} />}
            </li>
          ))}
        </ul>
      )}
      {painted && !selectedOf(r, strokes).length && <BrushFields {...props} />}
      <Strokes {...props} onPaint={on1} edit={edit} />
    </>
  )
}

/** Whether sources of a kind look at the removals below at first. */
const looksBelow = (s: FillSource) => !!s.plate || !!s.paint || !!s.neighbour

// Files come last.
const ways = Object.values(views)
  .flatMap((v) => v.add)
  .sort((a, b) => Number('file' in a) - Number('file' in b))

/** Other places that clean pixels can come from. */
function AddSource({ shot, removal: r }: BenchProps & { removal: Removal }) {
  const { edit, adopt } = useEdit(shot.id)
  const frame = useBench((s) => s.frame)
  const file = useRef<HTMLInputElement>(null)
  const kind = useRef('')
  const add = (s: FillSource, label: string, then: object = {}) => {
    void edit(
      label,
      on(r.id, (d) => {
        d.fill.sources.push(structuredClone(s))
      }),
    )
    bench.set({ sourceId: s.id, strokes: [], ...then })
  }
  const ask = (as: string) => {
    kind.current = as
    file.current?.click()
  }
  const address = () => `/api/shots/${shot.id}/removals/${r.id}/picture?frame=${frame}&kind=${kind.current}`
  return (
    <>
      <Menu>
        <MenuButton
          className="rounded border border-stone bg-slab px-2 py-1 leading-5 whitespace-nowrap hover:bg-stone"
          aria-label="Add a source"
          title="More places that clean pixels can come from"
        >
          Add
        </MenuButton>
        <MenuItems
          anchor="bottom end"
          className="z-40 w-72 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none"
        >
          {ways.map((way) => (
            <Item
              key={way.words}
              hint={way.hint}
              onClick={() => ('file' in way ? ask(way.file) : add(way.make(r, frame), way.label, way.then))}
            >
              {way.words}
            </Item>
          ))}
        </MenuItems>
      </Menu>
      <input
        ref={file}
        type="file"
        accept=".png,.tif,.tiff,.exr"
        className="hidden"
        aria-label="Picture file"
        onChange={(e) =>
          void bringIn(e, address(), 'Bring it in as it is').then((rev) => {
            if (!rev) return
            adopt(rev as Revision)
            const made = (rev as Revision).document.removals.find((x) => x.id === r.id)?.fill.sources.at(-1)
            bench.set({ sourceId: made?.id ?? null, strokes: [], tool: 'look' })
          })
        }
      />
    </>
  )
}

/** All about one source but its strokes. */
function SourceFields(props: BenchProps & { removal: Removal; source: FillSource; first: boolean }) {
  const { shot, removal: r, source: s, first } = props
  const { Fields, Actions } = views[s.kind]
  const { edit } = useEdit(shot.id)
  const { tool, outline } = useBench()
  const change = (label: string, f: (x: FillSource) => void) => void edit(label, onSource(r.id, s.id, f))
  const range = s.range ?? r.range
  const bends = !!props.motions.of(r.follow.track)?.track.bends
  return (
    <div className="mt-0.5 mb-1 flex flex-col gap-2 border-l-2 border-stone py-1 pl-2">
      <EntryHead
        what="source"
        entry={s}
        first={first}
        change={change}
        onEarlier={() =>
          void edit(
            'Earlier in the order',
            on(r.id, (d) => {
              const i = d.fill.sources.findIndex((x) => x.id === s.id)
              if (i > 0) d.fill.sources.splice(i - 1, 2, d.fill.sources[i], d.fill.sources[i - 1])
            }),
          )
        }
        onDelete={() => {
          bench.set({ sourceId: null, strokes: [], outline: null })
          void edit(
            `Delete ${s.name}`,
            on(r.id, (d) => {
              d.fill.sources = d.fill.sources.filter((x) => x.id !== s.id)
            }),
          )
        }}
      >
        {Actions && <Actions {...props} source={s} />}
      </EntryHead>
      {Fields && <Fields {...props} source={s} change={change} />}
      <More
        words="When and where it counts"
        changed={
          s.opacity !== undefined ||
          !!s.range ||
          !!s.where?.length ||
          !!s.lay ||
          !!s.below !== looksBelow(s) ||
          !!s.giveWay
        }
      >
        <NumberField
          label="Opacity"
          unit="%"
          value={(s.opacity ?? 1) * 100}
          min={0}
          max={100}
          onDone={(v) =>
            change('Opacity of a source', (x) => {
              x.opacity = v === 100 ? undefined : v / 100
            })
          }
        />
        <div className="flex items-center gap-2 text-[13px]" title="Frames on which it counts in full">
          <span className="flex-1 text-quiet">Frames</span>
          <NumberInput
            label="First frame of the source"
            className="w-16"
            value={range.first}
            min={shot.first}
            max={range.last}
            onDone={(v) =>
              change('Range of a source', (x) => {
                x.range = { ...range, first: Math.round(v) }
              })
            }
          />
          <span className="text-quiet">to</span>
          <NumberInput
            label="Last frame of the source"
            className="w-16"
            value={range.last}
            min={range.first}
            max={shot.last}
            onDone={(v) =>
              change('Range of a source', (x) => {
                x.range = { ...range, last: Math.round(v) }
              })
            }
          />
        </div>
        <div
          className="flex items-center gap-2 text-[13px]"
          title="It comes in over so many frames before its range, and goes out after it"
        >
          <span className="flex-1 text-quiet">Dissolve</span>
          <NumberInput
            label="Frames to come in"
            className="w-12"
            value={s.rise ?? 0}
            min={0}
            max={200}
            onDone={(v) =>
              change('Dissolve', (x) => {
                x.rise = Math.round(v) || undefined
                x.range ??= range
              })
            }
          />
          <NumberInput
            label="Frames to go out"
            className="w-12"
            value={s.fall ?? 0}
            min={0}
            max={200}
            onDone={(v) =>
              change('Dissolve', (x) => {
                x.fall = Math.round(v) || undefined
                x.range ??= range
              })
            }
          />
          <Button
            weight="bare"
            className="py-0!"
            title="12 frames each way"
            onClick={() =>
              change('Dissolve', (x) => {
                x.rise = 12
                x.fall = 12
                x.range ??= range
              })
            }
          >
            12 each
          </Button>
        </div>
        <Check
          label="Looks at the removals below"
          hint="What it copies, gathers or is made of is the result of the removals below this one, not the untouched plate"
          value={!!s.below}
          onChange={(v) =>
            change(v ? 'Look at the removals below' : 'Look at the plate', (x) => {
              x.below = v || undefined
            })
          }
        />
        {bends && (
          <Check
            label="Gives way where the surface is lost"
            hint="Where the surface that bends is covered, turned away or not found, the source below shows instead, or the plate"
            value={!!s.giveWay}
            onChange={(v) =>
              change(v ? 'Give way where the surface is lost' : 'Stay where the surface is lost', (x) => {
                x.giveWay = v || undefined
              })
            }
          />
        )}
        <Pick<'all' | 'darken' | 'lighten'>
          label="Where it is laid"
          value={s.lay ?? 'all'}
          onChange={(v) =>
            change('How a source is laid', (x) => {
              x.lay = v === 'all' ? undefined : v
            })
          }
          options={[
            { value: 'all', label: 'All of it' },
            { value: 'darken', label: 'If darker', hint: 'Only where it is darker than what lies below' },
            { value: 'lighten', label: 'If lighter', hint: 'Only where it is lighter than what lies below' },
          ]}
        />
        <div className="flex items-center gap-1.5 text-[13px]">
          <Button
            className="py-0.5!"
            on={tool === 'where'}
            title="Draw an outline: the source counts only inside"
            onClick={() =>
              bench.set(
                tool === 'where' ? { tool: 'look' } : { tool: 'where', drawn: 'curve', outline: null, knots: [] },
              )
            }
          >
            Only inside…
          </Button>
          <span className="text-quiet">
            {s.where?.length ? `${s.where.length} ${s.where.length === 1 ? 'outline' : 'outlines'}` : 'everywhere'}
          </span>
          {outline && s.where?.some((w) => w.id === outline) && (
            <Button
              weight="bare"
              className="py-0!"
              onClick={() => {
                bench.set({ outline: null })
                change('Delete an outline', (x) => {
                  x.where = x.where?.filter((w) => w.id !== outline)
                })
              }}
            >
              Delete it
            </Button>
          )}
        </div>
      </More>
    </div>
  )
}
