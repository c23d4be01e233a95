import { Menu, MenuButton, MenuItems } from '@headlessui/react'
import type { Front, Removal } from '../../api/client'
import { newId, useEdit } from '../../api/treatment'
import { Pick } from '../../ui/choice'
import { Button, Check, NumberField } from '../../ui/controls'
import { EntryHead } from '../../ui/entry'
import { Item } from '../../ui/menu'
import { drop, earlier, free, on, onFront } from '../edits'
import { cssOf } from '../fill'
import type { BenchProps } from '../props'
import { bench, useBench } from '../state'
import { More } from './brush'
import { MatteFiles } from './mattes'
import { ShapeList } from './shapes'

type Props = BenchProps & { removal: Removal }

const kinds: Record<Front['by'], { word: string; hint: string }> = {
  outline: { word: 'outline', hint: 'All inside an outline or a strand' },
  colour: { word: 'by colour', hint: 'Inside a loose outline, what has a colour' },
  brightness: { word: 'by brightness', hint: 'Inside a loose outline, what is dark or bright: hair before the sky' },
  matte: { word: 'supplied mattes', hint: 'Numbered pictures, white where something is in front' },
}

/** Guard: what stays in front of the patch. */
/** Within how many pixels the removed thing’s colour is looked for, in the soft edge of a front that is new. */
const usualUnmix = 6

export function GuardStage(props: Props) {
  const { shot, revision, removal: r } = props
  const { edit } = useEdit(shot.id)
  const { part, tool, drawn } = useBench()
  const fronts = r.guard?.fronts ?? []
  const others = revision.document.removals
    .filter((x) => x.id !== r.id)
    .flatMap((x) => (x.guard?.fronts ?? []).filter((f) => f.all && !f.off).map((f) => ({ name: f.name, by: x })))
  const add = (by: Front['by']) => {
    const front: Front = {
      id: newId(),
      name: `Front ${free(
        'Front',
        fronts.map((f) => f.name),
      )}`,
      by,
      unmix: usualUnmix,
      ...(by === 'colour'
        ? { key: { colour: [0.18, 0.18, 0.18], near: 10, far: 25 } }
        : by === 'brightness'
          ? { key: { colour: [0, 0, 0], near: 25, far: 45 } }
          : {}),
    }
    void edit(
      `New ${front.name.toLowerCase()}`,
      on(r.id, (d) => {
        ;((d.guard ??= {}).fronts ??= []).push(structuredClone(front))
      }),
    )
    bench.set({
      part: front.id,
      outline: null,
      knots: [],
      ...(by === 'matte' ? { tool: 'look' } : by === 'colour' ? { tool: 'pick' } : { tool: 'where', drawn: 'curve' }),
    })
  }
  return (
    <>
      <div className="flex gap-1.5">
        <Button
          className="flex-1"
          title="Draw around what passes in front of the patch: it is laid back from the untouched plate"
          onClick={() => add('outline')}
        >
          Outline a front
        </Button>
        <Menu>
          <MenuButton
            className="rounded border border-stone bg-slab px-2 py-1 leading-5 whitespace-nowrap hover:bg-stone"
            aria-label="Add a front"
          >
            Add
          </MenuButton>
          <MenuItems
            anchor="bottom end"
            className="z-40 w-72 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none"
          >
            <Item hint={kinds.colour.hint} onClick={() => add('colour')}>
              Front by colour
            </Item>
            <Item hint={kinds.brightness.hint} onClick={() => add('brightness')}>
              Front by brightness
            </Item>
            <Item hint={kinds.matte.hint} onClick={() => add('matte')}>
              Supplied mattes (files)
            </Item>
            <Item
              hint="The patch never pokes past this outline: a surface’s edge"
              onClick={() => bench.set({ part: 'within', tool: 'where', drawn: 'curve', outline: null, knots: [] })}
            >
              Keep the patch within…
            </Item>
          </MenuItems>
        </Menu>
      </div>
      {tool === 'where' && <Drawing drawn={drawn} />}
      <ul className="flex flex-col gap-0.5" aria-label="Fronts">
        {fronts.map((f, i) => (
          <li key={f.id}>
            <button
              type="button"
              aria-pressed={f.id === part}
              className={`flex w-full items-baseline gap-2 rounded px-2 py-0.5 text-left ${f.id === part ? 'bg-slab' : 'hover:bg-slab'} ${f.off ? 'opacity-50' : ''}`}
              onClick={() => bench.set({ part: f.id === part ? null : f.id, outline: null, knots: [], tool: 'look' })}
            >
              <span className="min-w-0 flex-1 truncate">{f.name}</span>
              <span className="text-[13px] whitespace-nowrap text-quiet">
                {[f.by === 'outline' ? '' : kinds[f.by].word, f.all ? 'of all' : ''].filter(Boolean).join(', ')}
              </span>
            </button>
            {f.id === part && <FrontFields {...props} front={f} first={i === 0} />}
          </li>
        ))}
      </ul>
      {others.length > 0 && (
        <p className="text-[13px] text-quiet">
          Also in front: {others.map((o) => `${o.name} (of ${o.by.name})`).join(', ')}.
        </p>
      )}
      {!!r.guard?.within?.length && (
        <section className="border-t border-rule pt-2" aria-label="Within">
          <button
            type="button"
            className={`w-full rounded px-2 py-0.5 text-left ${part === 'within' ? 'bg-slab' : 'hover:bg-slab'}`}
            aria-pressed={part === 'within'}
            onClick={() => bench.set({ part: part === 'within' ? null : 'within', outline: null, knots: [] })}
          >
            The patch stays within
          </button>
          {part === 'within' && (
            <ShapeList
              {...props}
              owner={{ removal: r.id, within: true }}
              shapes={r.guard.within}
              label="The patch stays within"
            />
          )}
        </section>
      )}
      {fronts.length === 0 && !r.guard?.within?.length && (
        <p className="text-[13px] text-quiet">
          Nothing is in front yet. What crosses the patch is outlined here, softened, and laid back over it.
        </p>
      )}
    </>
  )
}

function Drawing({ drawn }: { drawn: string }) {
  return (
    <div className="flex items-center gap-1.5 text-[13px]">
      <Pick<'curve' | 'strand' | 'box' | 'ellipse'>
        label="What is drawn"
        value={drawn as 'curve'}
        onChange={(v) => bench.set({ drawn: v })}
        options={[
          { value: 'curve', label: 'Outline' },
          { value: 'strand', label: 'Strand' },
          { value: 'box', label: 'Box' },
          { value: 'ellipse', label: 'Ellipse' },
        ]}
      />
    </div>
  )
}

function FrontFields(props: Props & { front: Front; first: boolean }) {
  const { shot, removal: r, front: f, first } = props
  const { edit } = useEdit(shot.id)
  const { tool, view } = useBench()
  const change = (label: string, g: (x: Front, all: Front[]) => void) => void edit(label, onFront(r.id, f.id, g))
  const k = f.key
  return (
    <div className="mt-0.5 mb-1 flex flex-col gap-2 border-l-2 border-stone py-1 pl-2">
      <EntryHead
        what="front"
        entry={f}
        first={first}
        change={change}
        onEarlier={() => change('Earlier in the order', (x, all) => earlier(all, x))}
        onDelete={() => {
          bench.set({ part: null, outline: null })
          change(`Delete ${f.name}`, (x, all) => drop(all, x))
        }}
      />
      <Check
        label="In front of every removal"
        hint="Not only of this one"
        value={!!f.all}
        onChange={(v) =>
          change('In front of all', (x) => {
            x.all = v || undefined
          })
        }
      />
      {k && f.by === 'colour' && (
        <>
          <div className="flex items-center gap-2">
            <span aria-hidden className="size-5 rounded border border-black" style={{ background: cssOf(k.colour) }} />
            <Button
              className="flex-1 py-0.5!"
              on={tool === 'pick'}
              title="Click on the picture: its colour there is in front"
              onClick={() => bench.set({ tool: tool === 'pick' ? 'look' : 'pick' })}
            >
              {tool === 'pick' ? 'Click on its colour' : 'Pick its colour'}
            </Button>
          </div>
          <NumberField
            label="All up to"
            unit="ΔE"
            hint="Colour difference (CIE 1976) up to which it is in front in full"
            value={k.near}
            min={0}
            max={100}
            onDone={(v) =>
              change('Key', (x) => {
                if (x.key) {
                  x.key.near = v
                  x.key.far = Math.max(x.key.far, v + 0.5)
                }
              })
            }
          />
          <NumberField
            label="None from"
            unit="ΔE"
            hint="Colour difference from which on it is not in front"
            value={k.far}
            min={0.5}
            max={150}
            onDone={(v) =>
              change('Key', (x) => {
                if (x.key) {
                  x.key.far = v
                  x.key.near = Math.min(x.key.near, v - 0.5)
                }
              })
            }
          />
        </>
      )}
      {k && f.by === 'brightness' && (
        <>
          <NumberField
            label="All at"
            unit="L*"
            hint="Lightness at which it is in front in full; below the other for dark things, above it for bright ones"
            value={k.near}
            min={0}
            max={100}
            onDone={(v) =>
              change('Key', (x) => {
                if (x.key && v !== x.key.far) x.key.near = v
              })
            }
          />
          <NumberField
            label="None at"
            unit="L*"
            hint="Lightness at which it is not in front"
            value={k.far}
            min={0}
            max={100}
            onDone={(v) =>
              change('Key', (x) => {
                if (x.key && v !== x.key.near) x.key.far = v
              })
            }
          />
        </>
      )}
      {k && (
        <Check
          label="Invert"
          value={!!k.invert}
          onChange={(v) =>
            change('Invert the key', (x) => {
              if (x.key) x.key.invert = v || undefined
            })
          }
        />
      )}
      {f.by === 'matte' && (
        <MatteFiles shot={shot} url={`/api/shots/${shot.id}/removals/${r.id}/fronts/${f.id}/matte`} mattes={f.mattes} />
      )}
      <Button
        className="py-0.5!"
        on={tool === 'where'}
        title={f.by === 'outline' ? 'One more outline or strand of it' : 'Draw a loose outline: only inside it counts'}
        onClick={() =>
          bench.set(tool === 'where' ? { tool: 'look' } : { tool: 'where', drawn: 'curve', outline: null, knots: [] })
        }
      >
        {tool === 'where' ? 'Drawing on the picture' : f.by === 'outline' ? 'Draw more of it' : 'Only inside…'}
      </Button>
      {!!f.shapes?.length && (
        <ShapeList
          {...props}
          owner={{ removal: r.id, front: f.id }}
          shapes={f.shapes}
          label={`Outlines of ${f.name}`}
        />
      )}
      <More
        words="Clean-up and edge colour"
        changed={
          !!f.black ||
          f.white !== undefined ||
          !!f.grow ||
          !!f.blur ||
          (f.unmix ?? 0) !== usualUnmix ||
          f.opacity !== undefined ||
          !!f.combine
        }
      >
        <NumberField
          label="Clip black"
          unit="%"
          hint="Coverage up to this becomes nothing"
          value={(f.black ?? 0) * 100}
          min={0}
          max={99}
          onDone={(v) =>
            change('Clip black', (x) => {
              x.black = Math.min(v / 100, (x.white ?? 1) - 0.01) || undefined
            })
          }
        />
        <NumberField
          label="Clip white"
          unit="%"
          hint="Coverage from this on becomes all"
          value={(f.white ?? 1) * 100}
          min={1}
          max={100}
          onDone={(v) =>
            change('Clip white', (x) => {
              x.white = v === 100 ? undefined : Math.max(v / 100, (x.black ?? 0) + 0.01)
            })
          }
        />
        <NumberField
          label="Grow"
          unit="px"
          value={f.grow ?? 0}
          min={-20}
          max={20}
          step={0.5}
          onDone={(v) =>
            change('Grow the front', (x) => {
              x.grow = v || undefined
            })
          }
        />
        <NumberField
          label="Blur"
          unit="px"
          value={f.blur ?? 0}
          min={0}
          max={20}
          step={0.25}
          onDone={(v) =>
            change('Blur the front', (x) => {
              x.blur = v || undefined
            })
          }
        />
        <NumberField
          label="Opacity"
          unit="%"
          value={(f.opacity ?? 1) * 100}
          min={0}
          max={100}
          onDone={(v) =>
            change('Opacity of the front', (x) => {
              x.opacity = v === 100 ? undefined : v / 100
            })
          }
        />
        <NumberField
          label="Edge colour"
          unit="px"
          hint="Takes the removed thing’s colour out of the soft edge, as it is found within so many pixels; 0 leaves the edge as it is"
          value={f.unmix ?? 0}
          min={0}
          max={40}
          onDone={(v) =>
            change('Correct the edge colour', (x) => {
              x.unmix = v || undefined
            })
          }
        />
        {!first && (
          <Pick<'add' | 'take' | 'keep'>
            label="How it joins the fronts before it"
            value={f.combine ?? 'add'}
            onChange={(v) =>
              change('Combine', (x) => {
                x.combine = v === 'add' ? undefined : v
              })
            }
            options={[
              { value: 'add', label: 'Add' },
              { value: 'take', label: 'Take away', hint: 'From those before it' },
              { value: 'keep', label: 'Overlap' },
            ]}
          />
        )}
      </More>
      <Button
        weight="bare"
        className="self-start px-1! py-0! text-[13px]"
        on={view === 'matte'}
        title="How much of each pixel the patch covers, white on black"
        onClick={() => bench.set({ view: view === 'matte' ? 'result' : 'matte' })}
      >
        Look at the matte
      </Button>
    </div>
  )
}
