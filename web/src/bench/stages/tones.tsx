import type { Grade, Removal, Tone } from '../../api/client'
import { newId, useEdit } from '../../api/treatment'
import { Button, NumberField, NumberInput } from '../../ui/controls'
import { EntryHead } from '../../ui/entry'
import { Item } from '../../ui/menu'
import { drop, earlier, free, on, putKey } from '../edits'
import type { BenchProps } from '../props'
import { bench, useBench } from '../state'
import { More } from './brush'
import { ShapeList } from './shapes'

const plain = (): Grade => ({ slope: [1, 1, 1], offset: [0, 0, 0], power: [1, 1, 1], saturation: 1 })

/** A tone's grade on a frame: straight between keys, for fields; the server eases. */
function gradeAt(t: Tone, frame: number): Grade {
  const keys = t.keys ?? []
  if (keys.length === 0) return t.grade
  const after = keys.findIndex((k) => k.frame >= frame)
  if (after < 0) return keys[keys.length - 1].grade
  if (after === 0 || keys[after].frame === frame) return keys[after].grade
  const [a, b] = [keys[after - 1], keys[after]]
  const u = (frame - a.frame) / (b.frame - a.frame)
  const mix = (x = 0, y = 0) => x + (y - x) * u
  const each = (x: number[], y: number[]) => x.map((v, i) => mix(v, y[i])) as [number, number, number]
  return {
    slope: each(a.grade.slope, b.grade.slope),
    offset: each(a.grade.offset, b.grade.offset),
    power: each(a.grade.power, b.grade.power),
    saturation: mix(a.grade.saturation, b.grade.saturation),
    exposure: mix(a.grade.exposure, b.grade.exposure),
    warmth: mix(a.grade.warmth, b.grade.warmth),
    green: mix(a.grade.green, b.grade.green),
  }
}

/** Changes of tone by hand, in order. */
export function Tones(props: BenchProps & { removal: Removal }) {
  const { shot, removal: r } = props
  const { edit } = useEdit(shot.id)
  const part = useBench((s) => s.part)
  const tones = r.settle.tones ?? []
  const add = () => {
    const tone: Tone = {
      id: newId(),
      name: `Tone ${free(
        'Tone',
        tones.map((t) => t.name),
      )}`,
      grade: plain(),
    }
    void edit(
      `New ${tone.name.toLowerCase()}`,
      on(r.id, (d) => {
        ;(d.settle.tones ??= []).push(structuredClone(tone))
      }),
    )
    bench.set({ part: tone.id, outline: null, knots: [] })
  }
  return (
    <section className="flex flex-col gap-1 border-t border-rule pt-2" aria-label="Tone">
      <div className="flex items-center justify-between">
        <span>Tone</span>
        <Button
          weight="bare"
          className="px-1! py-0! text-[13px]"
          title="A change of brightness and colour by hand, for the whole patch or a part of it"
          onClick={add}
        >
          Add a tone
        </Button>
      </div>
      <ul className="flex flex-col gap-0.5" aria-label="Tones">
        {tones.map((t, i) => (
          <li key={t.id}>
            <button
              type="button"
              aria-pressed={t.id === part}
              className={`flex w-full items-baseline gap-2 rounded px-2 py-0.5 text-left ${t.id === part ? 'bg-slab' : 'hover:bg-slab'} ${t.off ? 'opacity-50' : ''}`}
              onClick={() => bench.set({ part: t.id === part ? null : t.id, outline: null, knots: [], tool: 'look' })}
            >
              <span className="min-w-0 flex-1 truncate">{t.name}</span>
              <span className="text-[13px] text-quiet">
                {[t.keys?.length ? 'keyed' : '', t.where?.length ? 'inside' : ''].filter(Boolean).join(', ')}
              </span>
            </button>
            {t.id === part && <ToneFields {...props} tone={t} first={i === 0} />}
          </li>
        ))}
      </ul>
    </section>
  )
}

function ToneFields(props: BenchProps & { removal: Removal; tone: Tone; first: boolean }) {
  const { shot, removal: r, tone: t, first } = props
  const { edit } = useEdit(shot.id)
  const { frame, tool } = useBench()
  const change = (label: string, f: (x: Tone, all: Tone[]) => void) =>
    void edit(
      label,
      on(r.id, (d) => {
        const all = d.settle.tones ?? []
        const x = all.find((y) => y.id === t.id)
        if (x) f(x, all)
      }),
    )
  const g = gradeAt(t, frame)
  const set = (label: string, f: (g: Grade) => void) =>
    change(label, (x) => {
      if (x.keys?.length) {
        const next = structuredClone(gradeAt(x, frame))
        f(next)
        putKey(x.keys, { frame, ease: x.keys.find((k) => k.frame === frame)?.ease ?? 'eased', grade: next })
      } else f(x.grade)
    })
  const keyed = t.keys?.some((k) => k.frame === frame)
  const out = (as: string) => `/api/shots/${shot.id}/removals/${r.id}/tones/${t.id}?frame=${frame}&as=${as}`
  const triple = (words: string, hint: string, of: 'slope' | 'offset' | 'power', low: number, high: number) => (
    <div className="flex items-center gap-1.5 text-[13px]" title={hint}>
      <span className="flex-1 text-quiet">{words}</span>
      {(['red', 'green', 'blue'] as const).map((c, i) => (
        <NumberInput
          key={c}
          label={`${words}, ${c}`}
          className="w-14"
          value={g[of][i]}
          min={low}
          max={high}
          onDone={(v) =>
            set(words, (x) => {
              x[of][i] = v
            })
          }
        />
      ))}
    </div>
  )
  return (
    <div className="mt-0.5 mb-1 flex flex-col gap-2 border-l-2 border-stone py-1 pl-2">
      <EntryHead
        what="tone"
        entry={t}
        first={first}
        change={change}
        onEarlier={() => change('Earlier in the order', (x, all) => earlier(all, x))}
        onDelete={() => {
          bench.set({ part: null, outline: null })
          change(`Delete ${t.name}`, (x, all) => drop(all, x))
        }}
      >
        <Item
          hint="ASC CDL, as on this frame"
          onClick={() => {
            location.href = out('cc')
          }}
        >
          Save as .cc
        </Item>
        <Item
          hint="ASC CDL, as on this frame"
          onClick={() => {
            location.href = out('cdl')
          }}
        >
          Save as .cdl
        </Item>
      </EntryHead>
      <NumberField
        label="Exposure"
        unit="EV"
        value={g.exposure ?? 0}
        min={-3}
        max={3}
        step={0.05}
        onDone={(v) =>
          set('Exposure', (x) => {
            x.exposure = v || undefined
          })
        }
      />
      <NumberField
        label="Warmth"
        unit="EV"
        hint="Stops that red gains on blue"
        value={g.warmth ?? 0}
        min={-2}
        max={2}
        step={0.05}
        onDone={(v) =>
          set('Warmth', (x) => {
            x.warmth = v || undefined
          })
        }
      />
      <NumberField
        label="Green"
        unit="EV"
        hint="Stops that green gains on red and blue"
        value={g.green ?? 0}
        min={-2}
        max={2}
        step={0.05}
        onDone={(v) =>
          set('Green', (x) => {
            x.green = v || undefined
          })
        }
      />
      <NumberField
        label="Saturation"
        unit=""
        value={g.saturation}
        min={0}
        max={2}
        step={0.05}
        onDone={(v) =>
          set('Saturation', (x) => {
            x.saturation = v
          })
        }
      />
      <More
        words="Slope, offset, power"
        changed={[...g.slope, ...g.power].some((v) => v !== 1) || g.offset.some((v) => v !== 0)}
      >
        {triple('Slope', 'Light is multiplied by it', 'slope', 0, 100)}
        {triple('Offset', 'Added to light', 'offset', -10, 10)}
        {triple('Power', 'Light is raised to it', 'power', 0.01, 100)}
      </More>
      <div className="flex gap-1.5">
        <Button
          className="flex-1 py-0.5!"
          disabled={keyed}
          title="Keep the tone on this frame; it changes from key to key"
          onClick={() =>
            change('Key the tone', (x) =>
              putKey((x.keys ??= []), { frame, ease: 'eased', grade: structuredClone(gradeAt(t, frame)) }),
            )
          }
        >
          Key here
        </Button>
        <Button
          className="flex-1 py-0.5!"
          on={tool === 'where'}
          title="Draw an outline: the tone counts only inside"
          onClick={() =>
            bench.set(tool === 'where' ? { tool: 'look' } : { tool: 'where', drawn: 'curve', outline: null, knots: [] })
          }
        >
          Only inside…
        </Button>
      </div>
      {!!t.where?.length && (
        <ShapeList {...props} owner={{ removal: r.id, tone: t.id }} shapes={t.where} label="Where the tone counts" />
      )}
    </div>
  )
}
