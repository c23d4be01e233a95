import { useRef } from 'react'
import type { Removal, Revision, Schemas, Shot } from '../../api/client'
import { newId, useEdit } from '../../api/treatment'
import { Pick } from '../../ui/choice'
import { Button, Check, NumberField } from '../../ui/controls'
import { EntryHead } from '../../ui/entry'
import { send } from '../../ui/files'
import { notify } from '../../ui/notice'
import { drop, earlier, free, on } from '../edits'
import { bench, useBench } from '../state'

type Matte = Schemas['MarkMatte']

/** How the edge of a matte is moved and softened: field, word, hint, range. */
const edges: ['grow' | 'feather' | 'featherIn', string, string, number, number][] = [
  ['grow', 'Grow', 'Moves the edge outwards, or inwards', -30, 30],
  ['feather', 'Feather', 'Fades outside the edge and never thins the inside', 0, 60],
  ['featherIn', 'Inside', 'Fades inside the edge', 0, 60],
]

/** Pictures that say how much of each pixel something covers, one for each frame: which there are, and a way to bring them in. */
export function MatteFiles({
  shot,
  url,
  mattes,
}: {
  shot: Shot
  /** Where they are sent to. */
  url: string
  mattes: { frame: number }[] | undefined
}) {
  const { adopt } = useEdit(shot.id)
  const file = useRef<HTMLInputElement>(null)
  const bringIn = async (files: FileList | null) => {
    for (const one of [...(files ?? [])].sort((a, b) => a.name.localeCompare(b.name))) {
      try {
        adopt((await send(`${url}?name=${encodeURIComponent(one.name)}`, one)) as Revision)
      } catch (e) {
        notify((e as Error).message)
        return
      }
    }
  }
  return (
    <>
      <Button
        className="py-0.5!"
        title="PNG, TIFF or OpenEXR, as large as the plate, with the frame’s number in the name"
        onClick={() => file.current?.click()}
      >
        Bring in mattes…
      </Button>
      <input
        ref={file}
        type="file"
        multiple
        accept=".png,.tif,.tiff,.exr"
        className="hidden"
        aria-label="Matte files"
        onChange={(e) => {
          void bringIn(e.target.files)
          e.target.value = ''
        }}
      />
      <p className="text-[13px] text-quiet">
        {mattes?.length
          ? `${mattes.length} ${mattes.length === 1 ? 'frame' : 'frames'}, ${mattes[0].frame} to ${mattes[mattes.length - 1].frame}`
          : 'No mattes yet.'}
      </p>
    </>
  )
}

/** What is marked by pictures: supplied mattes, or the plate’s own alpha. */
export function MarkMattes({ shot, removal: r }: { shot: Shot; removal: Removal }) {
  const { edit } = useEdit(shot.id)
  const { part } = useBench()
  const mattes = r.mark.mattes ?? []
  const add = (alpha: boolean) => {
    const word = alpha ? 'Alpha' : 'Matte'
    const matte: Matte = {
      id: newId(),
      name: `${word} ${free(
        word,
        mattes.map((m) => m.name),
      )}`,
      ...(alpha ? { alpha } : {}),
    }
    void edit(
      `New ${matte.name.toLowerCase()}`,
      on(r.id, (x) => {
        ;(x.mark.mattes ??= []).push(structuredClone(matte))
      }),
    )
    bench.set({ part: matte.id, outline: null, knots: [], tool: 'look' })
  }
  return (
    <>
      <div className="flex gap-1.5">
        <Button
          className="flex-1 py-0.5!"
          title="What goes is white in pictures that somebody made: one for each frame; they ride on nothing"
          onClick={() => add(false)}
        >
          Supplied mattes…
        </Button>
        {shot.alpha && (
          <Button className="flex-1 py-0.5!" title="What goes is opaque in the plate" onClick={() => add(true)}>
            The plate’s alpha
          </Button>
        )}
      </div>
      {mattes.length > 0 && (
        <ul className="flex flex-col gap-1" aria-label="Mattes">
          {mattes.map((m, i) => (
            <li key={m.id}>
              <button
                type="button"
                aria-pressed={m.id === part}
                className={`flex w-full items-baseline gap-2 rounded px-2 py-1 text-left ${m.id === part ? 'bg-slab' : 'hover:bg-slab'} ${m.off ? 'opacity-50' : ''}`}
                onClick={() => bench.set({ part: m.id === part ? null : m.id, outline: null, knots: [], tool: 'look' })}
              >
                <span className="min-w-0 flex-1 truncate">{m.name}</span>
                <span className="text-[13px] text-quiet">
                  {[
                    m.combine === 'take' ? 'taken away' : m.combine === 'keep' ? 'overlap' : '',
                    m.alpha ? 'of the plate' : `${m.mattes?.length ?? 0} frames`,
                  ]
                    .filter(Boolean)
                    .join(', ')}
                </span>
              </button>
              {m.id === part && <MatteFields shot={shot} removal={r} matte={m} first={i === 0} />}
            </li>
          ))}
        </ul>
      )}
    </>
  )
}

function MatteFields({
  shot,
  removal: r,
  matte: m,
  first,
}: {
  shot: Shot
  removal: Removal
  matte: Matte
  first: boolean
}) {
  const { edit } = useEdit(shot.id)
  const change = (label: string, f: (x: Matte, all: Matte[]) => void) =>
    void edit(
      label,
      on(r.id, (x) => {
        const all = x.mark.mattes ?? []
        const it = all.find((k) => k.id === m.id)
        if (it) f(it, all)
      }),
    )
  return (
    <div className="mt-1 mb-1 flex flex-col gap-2 border-l-2 border-stone py-1 pl-2">
      <EntryHead
        what="matte"
        entry={m}
        first={first}
        change={change}
        onEarlier={() => change('Earlier in the order', (x, all) => earlier(all, x))}
        onDelete={() => {
          bench.set({ part: null })
          change(`Delete ${m.name}`, (x, all) => drop(all, x))
        }}
      />
      {!m.alpha && (
        <MatteFiles shot={shot} url={`/api/shots/${shot.id}/removals/${r.id}/mattes/${m.id}`} mattes={m.mattes} />
      )}
      <Pick<'add' | 'take' | 'keep'>
        label="How it joins what is marked before it"
        value={m.combine ?? 'add'}
        onChange={(v) =>
          change('Combine', (x) => {
            x.combine = v === 'add' ? undefined : v
          })
        }
        options={[
          { value: 'add', label: 'Add', hint: 'As well' },
          { value: 'take', label: 'Take away', hint: 'From what is marked before it' },
          { value: 'keep', label: 'Overlap', hint: 'Keep only what lies in both' },
        ]}
      />
      <Check
        label="Invert"
        value={!!m.invert}
        onChange={(v) =>
          change('Invert', (x) => {
            x.invert = v || undefined
          })
        }
      />
      {edges.map(([field, label, hint, min, max]) => (
        <NumberField
          key={field}
          label={label}
          unit="px"
          hint={hint}
          value={m[field] ?? 0}
          min={min}
          max={max}
          step={0.5}
          onDone={(v) => change(label, (x) => void (x[field] = v || undefined))}
        />
      ))}
      <NumberField
        label="Opacity"
        unit="%"
        value={Math.round((m.opacity ?? 1) * 100)}
        min={0}
        max={100}
        onDone={(v) =>
          change('Opacity', (x) => {
            x.opacity = v === 100 ? undefined : v / 100
          })
        }
      />
    </div>
  )
}
