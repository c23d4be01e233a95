import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef } from 'react'
import { answer, api, type Removal, type Settle } from '../../api/client'
import { isOpen, useTasks } from '../../api/tasks'
import { useEdit } from '../../api/treatment'
import { Pick, Select } from '../../ui/choice'
import { Button, Check, NumberField, NumberInput } from '../../ui/controls'
import { notify } from '../../ui/notice'
import type { BenchProps } from '../props'
import { on, putKey, valueAt } from '../edits'
import { Running } from '../running'
import { spansOf } from '../stages'
import { bench, useBench } from '../state'
import { More } from './brush'
import { Tones } from './tones'

type Props = BenchProps & { removal: Removal }
type Change = (label: string, f: (s: Settle) => void) => void

/** Settle: light, tone, softness, grain and edge of the patch. */
export function SettleStage(props: Props) {
  const { shot, removal: r } = props
  const { edit } = useEdit(shot.id)
  const change: Change = (label, f) =>
    void edit(
      label,
      on(r.id, (d) => f(d.settle)),
    )
  return (
    <>
      <ByItself {...props} />
      <Light {...props} change={change} />
      <Soft {...props} change={change} />
      <Grain {...props} change={change} />
      <Tones {...props} />
      <Edge {...props} change={change} />
    </>
  )
}

/** One button for light, softness and grain, and what it found. */
function ByItself({ shot, removal: r }: Props) {
  const { edit } = useEdit(shot.id)
  const queries = useQueryClient()
  const task = useTasks(shot.id).find((t) => t.kind === 'settle' && t.subject === r.id)
  const running = task && isOpen(task)
  const state = task?.state
  const before = useRef(state)
  useEffect(() => {
    if (before.current !== 'done' && state === 'done')
      void queries.invalidateQueries({ queryKey: ['measures', shot.id] })
    before.current = state
  }, [state])
  return (
    <>
      <Button
        weight="main"
        disabled={!!running}
        title="Finds out from the plate how the light changes, how soft it is and what its grain is like, and lets the patch take on all three. Each can be changed or switched off below"
        onClick={() =>
          void answer(
            api.POST('/api/shots/{id}/settle/{removal}', { params: { path: { id: shot.id, removal: r.id } } }),
          ).catch((e: Error) => notify(e.message))
        }
      >
        Settle by itself
      </Button>
      {running && <Running task={task} label="Frames measured" />}
      {!running && (task?.problem || task?.found) && (
        <p className={`text-[13px] ${task.state === 'failed' ? 'text-clay' : 'text-quiet'}`} data-testid="settled">
          {task.problem || task.found}
        </p>
      )}
      {!running && !!r.settle.passed?.length && !r.guard?.fronts?.some((f) => !f.off) && (
        <div role="group" aria-label="Something passes" className="rounded border border-clay px-2 py-1.5 text-[13px]">
          <p className="mb-1.5">
            Something passes beside the patch on {spansOf(r.settle.passed)}. Light is taken from before and after there.
          </p>
          <div className="flex flex-wrap gap-1.5">
            <Button onClick={() => bench.set({ frame: r.settle.passed![0].first, playing: false })}>Go there</Button>
            <Button title="Hold it in front of the patch (5)" onClick={() => bench.open(r.id, 'guard')}>
              Guard it
            </Button>
            <Button
              title="It does not go over the patch"
              onClick={() =>
                void edit(
                  'It holds',
                  on(r.id, (d) => {
                    d.settle.passed = undefined
                  }),
                )
              }
            >
              It holds
            </Button>
          </div>
        </div>
      )}
    </>
  )
}

/** A part of the stage that can be switched on and off. */
function Part({
  name,
  hint,
  value,
  onChange,
  words,
  children,
}: {
  name: string
  hint: string
  value: boolean
  onChange: (v: boolean) => void
  words?: string
  children: React.ReactNode
}) {
  return (
    <section className="border-t border-rule pt-2" aria-label={name}>
      <div className="flex items-center gap-2">
        <Check label={name} hint={hint} value={value} onChange={onChange} />
        {value && words && (
          <span className="min-w-0 flex-1 truncate text-right text-[13px] text-quiet" title={words}>
            {words}
          </span>
        )}
      </div>
      {value && <div className="mt-2 flex flex-col gap-2">{children}</div>}
    </section>
  )
}

/** A button that keeps a number on the frame that is shown. */
function KeyHere({
  keys,
  value,
  label,
  change,
}: {
  keys: { frame: number }[] | undefined
  value: number
  label: string
  change: (f: (keys: { frame: number; ease: 'eased' | 'linear'; value: number }[]) => void) => void
}) {
  const frame = useBench((s) => s.frame)
  const here = keys?.some((k) => k.frame === frame)
  return (
    <Button
      weight="bare"
      className="px-1! py-0! text-[13px]"
      disabled={here}
      aria-label={`${here ? 'Keyed here' : 'Key here'}: ${label}`}
      title={`Keep the ${label} on this frame; it changes from key to key`}
      onClick={() => change((list) => putKey(list, { frame, ease: 'eased', value }))}
    >
      {here ? 'Keyed here' : 'Key here'}
    </Button>
  )
}

/** Sets a number: on this frame if it is keyed, else for good. */
function put(
  keys: { frame: number; ease: 'eased' | 'linear'; value: number }[] | undefined,
  frame: number,
  value: number,
  plain: () => void,
) {
  if (keys?.length) putKey(keys, { frame, ease: keys.find((k) => k.frame === frame)?.ease ?? 'eased', value })
  else plain()
}

function Light({ removal: r, change }: Props & { change: Change }) {
  const { frame, view } = useBench()
  const l = r.settle.light
  const strength = valueAt(l?.keys, l?.strength ?? 1, frame)
  return (
    <Part
      name="Light"
      hint="The patch follows the plate’s light: what lies around it is compared with what is held"
      value={!!l && !l.off}
      onChange={(v) =>
        change(v ? 'Follow the light' : 'Leave the light', (s) => {
          if (v) s.light = { ...(s.light ?? { scale: 40, strength: 1, over: 4 }), off: undefined }
          else if (s.light) s.light.off = true
        })
      }
    >
      <NumberField
        label="Strength"
        unit="%"
        value={strength * 100}
        min={0}
        max={200}
        onDone={(v) =>
          change('Strength of the light', (s) =>
            put(s.light?.keys, frame, v / 100, () => {
              if (s.light) s.light.strength = v / 100
            }),
          )
        }
      />
      <div className="-mt-1 flex items-center justify-between">
        <KeyHere
          keys={l?.keys}
          value={strength}
          label="strength of the light"
          change={(f) =>
            change('Key the light', (s) => {
              if (s.light) f((s.light.keys ??= []))
            })
          }
        />
        <Button
          weight="bare"
          className="px-1! py-0! text-[13px]"
          on={view === 'light'}
          title="By how much the patch is lightened or darkened: middle grey for not at all"
          onClick={() => bench.set({ view: view === 'light' ? 'result' : 'light' })}
        >
          Look at it
        </Button>
      </div>
      <More words="How it is measured" changed={!!l?.luma || (l?.over ?? 0) !== 4 || !!l?.level}>
        <NumberField
          label="Scale"
          unit="px"
          hint="Width of the areas that are compared: smaller ones follow shadows, larger ones are surer"
          value={l?.scale ?? 40}
          min={4}
          max={200}
          onDone={(v) =>
            change('Scale of the light', (s) => {
              if (s.light) s.light.scale = v
            })
          }
        />
        <NumberField
          label="Shape over"
          unit="fr"
          hint="Frames before and after over which the light’s shape is averaged"
          value={l?.over ?? 0}
          min={0}
          max={24}
          onDone={(v) =>
            change('Average the light', (s) => {
              if (s.light) s.light.over = Math.round(v) || undefined
            })
          }
        />
        <NumberField
          label="Level over"
          unit="fr"
          hint="Frames before and after over which its level is averaged: 0 lets the patch flicker as the plate does"
          value={l?.level ?? 0}
          min={0}
          max={24}
          onDone={(v) =>
            change('Average the light', (s) => {
              if (s.light) s.light.level = Math.round(v) || undefined
            })
          }
        />
        <Check
          label="Brightness only"
          hint="All channels change alike"
          value={!!l?.luma}
          onChange={(v) =>
            change('Brightness only', (s) => {
              if (s.light) s.light.luma = v || undefined
            })
          }
        />
      </More>
    </Part>
  )
}

function Soft({ removal: r, change }: Props & { change: Change }) {
  const frame = useBench((s) => s.frame)
  const f = r.settle.softness
  const by = valueAt(f?.keys, f?.by ?? 0, frame)
  return (
    <Part
      name="Softness"
      hint="The patch goes in and out of focus, and smears with the move, as the plate does"
      value={!!f && !f.off}
      onChange={(v) =>
        change(v ? 'Match the softness' : 'Leave the softness', (s) => {
          if (v) s.softness = { ...(s.softness ?? { match: true, over: 3 }), off: undefined }
          else if (s.softness) s.softness.off = true
        })
      }
    >
      <Check
        label="As soft as the plate around it"
        hint="Measured on every frame"
        value={!!f?.match}
        onChange={(v) =>
          change('Match the softness', (s) => {
            if (s.softness) s.softness.match = v || undefined
          })
        }
      />
      <NumberField
        label="Blur"
        unit="px"
        hint="By hand, besides what is measured"
        value={by}
        min={0}
        max={20}
        step={0.1}
        onDone={(v) =>
          change('Blur of the patch', (s) =>
            put(s.softness?.keys, frame, v, () => {
              if (s.softness) s.softness.by = v || undefined
            }),
          )
        }
      />
      <div className="-mt-1">
        <KeyHere
          keys={f?.keys}
          value={by}
          label="blur"
          change={(g) =>
            change('Key the blur', (s) => {
              if (s.softness) g((s.softness.keys ??= []))
            })
          }
        />
      </div>
      <NumberField
        label="Shutter"
        unit="°"
        hint="The patch is smeared by the track’s own motion; 0 leaves it. 180° is usual"
        value={f?.shutter ?? 0}
        min={0}
        max={360}
        step={5}
        onDone={(v) =>
          change('Shutter', (s) => {
            if (s.softness) s.softness.shutter = v || undefined
          })
        }
      />
      <More words="Sharpen, and averaging" changed={!!f?.sharpen}>
        <NumberField
          label="Sharpen"
          unit=""
          hint="Amount of an unsharp mask: gives back texture that carrying took"
          value={f?.sharpen ?? 0}
          min={0}
          max={2}
          step={0.05}
          onDone={(v) =>
            change('Sharpen', (s) => {
              if (s.softness) s.softness.sharpen = v || undefined
            })
          }
        />
        <NumberField
          label="Radius"
          unit="px"
          value={f?.radius ?? 1}
          min={0.3}
          max={10}
          step={0.1}
          onDone={(v) =>
            change('Radius of the sharpening', (s) => {
              if (s.softness) s.softness.radius = v
            })
          }
        />
        <NumberField
          label="Over"
          unit="fr"
          hint="Frames before and after over which the measure is averaged"
          value={f?.over ?? 0}
          min={0}
          max={24}
          onDone={(v) =>
            change('Average the softness', (s) => {
              if (s.softness) s.softness.over = Math.round(v) || undefined
            })
          }
        />
      </More>
    </Part>
  )
}

const three = ['Red', 'Green', 'Blue'] as const

function Three({
  words,
  hint,
  value,
  max,
  onDone,
}: {
  words: string
  hint: string
  value: number[]
  max: number
  onDone: (v: [number, number, number]) => void
}) {
  return (
    <div className="flex items-center gap-1.5 text-[13px]" title={hint}>
      <span className="flex-1 text-quiet">{words}</span>
      {three.map((c, i) => (
        <NumberInput
          key={c}
          label={`${words}, ${c.toLowerCase()}`}
          className="w-13"
          value={Math.round(value[i] * 100)}
          min={0}
          max={max}
          onDone={(v) => {
            const next = [...value] as [number, number, number]
            next[i] = v / 100
            onDone(next)
          }}
        />
      ))}
      <span className="text-quiet">%</span>
    </div>
  )
}

function Grain({ removal: r, change }: Props & { change: Change }) {
  const { view } = useBench()
  const g = r.settle.grain
  const kind = g?.kind ?? 'none'
  const calm = g?.calm
  return (
    <Part
      name="Grain"
      hint="Takes the still grain out of what is held, and lays moving grain on it"
      value={!!g && !g.off}
      words={g?.model?.words}
      onChange={(v) =>
        change(v ? 'Lay grain' : 'Leave the grain', (s) => {
          if (v) s.grain = { ...(s.grain ?? { calm: { strength: [1, 1, 1], over: 4 } }), off: undefined }
          else if (s.grain) s.grain.off = true
        })
      }
    >
      <div className="flex items-center gap-2">
        <span className="flex-1 text-quiet">Laid on it</span>
        <Select<'none' | 'made' | 'carried'>
          label="Grain that is laid"
          value={kind}
          onChange={(v) => {
            if (v !== 'none' && !g?.model) {
              notify('The plate’s grain is not known yet: “Settle by itself” measures it')
              return
            }
            change('Kind of grain', (s) => {
              if (s.grain) {
                s.grain.kind = v === 'none' ? undefined : v
                if (v === 'carried') s.grain.from ??= [60, 0]
              }
            })
          }}
          options={[
            { value: 'none', label: 'None' },
            { value: 'made', label: 'Made', hint: 'after the plate’s own' },
            { value: 'carried', label: 'Carried', hint: 'the plate’s, from beside' },
          ]}
        />
      </div>
      {kind !== 'none' && (
        <Three
          words="Amount"
          hint="Of the measured strength"
          value={g?.amount ?? [1, 1, 1]}
          max={400}
          onDone={(v) =>
            change('Amount of grain', (s) => {
              if (s.grain) s.grain.amount = v.every((x) => x === 1) ? undefined : v
            })
          }
        />
      )}
      {kind === 'carried' && g?.from && (
        <div className="flex items-center gap-1.5 text-[13px]" title="From each pixel to the one whose grain it gets">
          <span className="flex-1 text-quiet">From</span>
          {[0, 1].map((i) => (
            <NumberInput
              key={i}
              label={`Grain from, ${'xy'[i]}`}
              className="w-16"
              value={g.from![i]}
              min={-4000}
              max={4000}
              onDone={(v) =>
                change('Where grain comes from', (s) => {
                  if (s.grain?.from) s.grain.from[i] = Math.round(v)
                })
              }
            />
          ))}
          <span className="text-quiet">px</span>
        </div>
      )}
      <Check
        label="Take it out of the frames painted on"
        value={!!calm}
        onChange={(v) =>
          change(v ? 'Take grain out' : 'Keep still grain', (s) => {
            if (s.grain) s.grain.calm = v ? { strength: [1, 1, 1], over: 4 } : undefined
          })
        }
      />
      {calm && (
        <More words="How it is taken out" changed={calm.strength.some((v) => v !== 1) || calm.over !== 4}>
          <Three
            words="Share"
            hint="Of each channel’s grain that is taken out"
            value={calm.strength}
            max={100}
            onDone={(v) =>
              change('Take grain out', (s) => {
                if (s.grain?.calm) s.grain.calm.strength = v
              })
            }
          />
          <NumberField
            label="Over"
            unit="fr"
            hint="Frames before and after, brought into place by the track, that help; 0 for the frame alone"
            value={calm.over ?? 0}
            min={0}
            max={12}
            onDone={(v) =>
              change('Take grain out', (s) => {
                if (s.grain?.calm) s.grain.calm.over = Math.round(v) || undefined
              })
            }
          />
          <Button
            className="py-0.5!"
            on={view === 'grain'}
            title="What is taken out, eight times as strong"
            onClick={() => bench.set({ view: view === 'grain' ? 'result' : 'grain' })}
          >
            Look at what is taken out
          </Button>
        </More>
      )}
    </Part>
  )
}

function Edge({ removal: r, change }: Props & { change: Change }) {
  const frame = useBench((s) => s.frame)
  const s = r.settle
  const through = valueAt(s.dissolve, 1, frame)
  const dissolve = () =>
    change('Dissolve in and out', (x) => {
      const { first, last } = r.range
      const n = Math.min(12, Math.floor((last - first) / 2))
      x.dissolve = [
        { frame: first, ease: 'linear', value: 0 },
        { frame: first + n, ease: 'linear', value: 1 },
        ...(last - n > first + n ? [{ frame: last - n, ease: 'linear' as const, value: 1 }] : []),
        { frame: last, ease: 'linear', value: 0 },
      ]
    })
  return (
    <section className="flex flex-col gap-2 border-t border-rule pt-2" aria-label="Edge">
      <span>Edge</span>
      <NumberField
        label="Feather"
        unit="px"
        hint="Added to the feather of every outline"
        value={s.feather ?? 0}
        min={0}
        max={60}
        step={0.5}
        onDone={(v) =>
          change('Feather the patch', (x) => {
            x.feather = v
          })
        }
      />
      <NumberField
        label="Opacity"
        unit="%"
        hint={s.dissolve?.length ? 'On this frame: it is keyed' : undefined}
        value={(s.dissolve?.length ? through : s.opacity) * 100}
        min={0}
        max={100}
        onDone={(v) =>
          change('Opacity of the patch', (x) =>
            put(x.dissolve, frame, v / 100, () => {
              x.opacity = v / 100
            }),
          )
        }
      />
      <div className="-mt-1 flex items-center justify-between">
        <KeyHere
          keys={s.dissolve}
          value={through}
          label="opacity"
          change={(f) => change('Key the opacity', (x) => f((x.dissolve ??= [])))}
        />
        {s.dissolve?.length ? (
          <Button
            weight="bare"
            className="px-1! py-0! text-[13px]"
            onClick={() =>
              change('No dissolve', (x) => {
                x.dissolve = undefined
              })
            }
          >
            No dissolve
          </Button>
        ) : (
          <Button
            weight="bare"
            className="px-1! py-0! text-[13px]"
            title="The patch comes in over its first 12 frames and goes out over its last 12"
            onClick={dissolve}
          >
            12-frame dissolve
          </Button>
        )}
      </div>
      <More
        words="Seam, size and how it is laid"
        changed={!!s.featherIn || !!s.grow || !!s.seam || (!!s.lay && s.lay !== 'normal')}
      >
        <NumberField
          label="Blend"
          unit="px"
          hint="A blended seam: so far inwards the patch takes on the colour of the plate around it. Paint a little beyond the outline"
          value={s.seam ?? 0}
          min={0}
          max={120}
          onDone={(v) =>
            change('Blend the seam', (x) => {
              x.seam = v || undefined
            })
          }
        />
        <NumberField
          label="Inside"
          unit="px"
          hint="Added to the feather inside every outline"
          value={s.featherIn ?? 0}
          min={0}
          max={60}
          step={0.5}
          onDone={(v) =>
            change('Feather inside', (x) => {
              x.featherIn = v || undefined
            })
          }
        />
        <NumberField
          label="Grow"
          unit="px"
          hint="Moves every outline’s edge"
          value={s.grow ?? 0}
          min={-30}
          max={30}
          step={0.5}
          onDone={(v) =>
            change('Grow', (x) => {
              x.grow = v || undefined
            })
          }
        />
        <Pick<'normal' | 'darken' | 'lighten'>
          label="How the patch is laid"
          value={s.lay ?? 'normal'}
          onChange={(v) =>
            change('How it is laid', (x) => {
              x.lay = v === 'normal' ? undefined : v
            })
          }
          options={[
            { value: 'normal', label: 'Normal' },
            { value: 'darken', label: 'Only darken', hint: 'Only where it is darker than the plate' },
            { value: 'lighten', label: 'Only lighten', hint: 'Only where it is lighter' },
          ]}
        />
      </More>
    </section>
  )
}
