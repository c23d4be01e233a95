import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/react'
import { useState } from 'react'
import { answer, api, type Removal } from '../../api/client'
import { Pick } from '../../ui/choice'
import { Button, Check, NumberField, NumberInput } from '../../ui/controls'
import { notify } from '../../ui/notice'
import { keepBrush, places, takeBrush, told, useBrushes } from '../brushes'
import {
  copies,
  cssOf,
  fromOf,
  modes,
  mostSize,
  otherOrigin,
  paintedOn,
  setBrush,
  setOrigin,
  toCode,
  toLight,
} from '../fill'
import { boundsOf } from '../handles/curve'
import type { BenchProps } from '../props'
import { paintedAt, travels } from '../sources/kinds'
import { bench, useBench } from '../state'

const amounts = {
  soften: { label: 'Blur', unit: 'px', hint: 'Standard deviation of the blur', max: 20, step: 0.5, of: 1 },
  smear: {
    label: 'Drags',
    unit: '%',
    hint: 'Share of what is there that is dragged along',
    max: 100,
    step: 1,
    of: 100,
  },
  lift: { label: 'By', unit: 'EV', hint: 'Stops', max: 3, step: 0.05, of: 1 },
  lower: { label: 'By', unit: 'EV', hint: 'Stops', max: 3, step: 0.05, of: 1 },
}

/** How a healing stroke takes on the light of its place. */
export const healed = {
  texture: {
    label: 'Texture',
    unit: '%',
    hint: 'Contrast of what is copied; at 100 it is as strong as the light of its place makes it',
    min: 0,
    max: 300,
    slides: 200,
  },
  light: {
    label: 'Light',
    unit: '%',
    hint: 'How much of the light and colour of its place it takes on',
    min: 0,
    max: 100,
  },
}

/** The brush in hand: what it does, how large it is, where its pixels come from. */
export function BrushFields(props: BenchProps & { removal: Removal }) {
  const { removal: r } = props
  const { brush: b, sourceId } = useBench()
  const m = b.mode
  const amount = m in amounts ? amounts[m as keyof typeof amounts] : null
  const on = paintedOn(r, sourceId)
  const travelling = !!on && travels(on)
  return (
    <>
      <div
        role="radiogroup"
        aria-label="What the brush does"
        className="grid grid-cols-4 gap-px overflow-hidden rounded border border-stone bg-stone"
      >
        {modes.map((x) => (
          <button
            key={x.value}
            type="button"
            role="radio"
            aria-checked={x.value === m}
            title={x.hint}
            className={`bg-soil py-1 leading-5 ${x.value === m ? 'bg-slab! text-fern' : 'text-quiet hover:text-text'}`}
            onClick={() => setBrush({ mode: x.value })}
          >
            {x.label}
          </button>
        ))}
      </div>
      <NumberField
        label="Size"
        unit="px"
        hint="Diameter ([ and ], or drag sideways with X held)"
        value={b.size}
        min={2}
        max={mostSize}
        slides={300}
        onMove={(size) => setBrush({ size })}
        onDone={(size) => setBrush({ size })}
      />
      <NumberField
        label="Hardness"
        unit="%"
        hint="Share of the radius that is fully covered (drag up and down with X held)"
        value={b.hardness * 100}
        min={0}
        max={100}
        onDone={(v) => setBrush({ hardness: v / 100 })}
      />
      <NumberField
        label="Opacity"
        unit="%"
        value={b.opacity * 100}
        min={1}
        max={100}
        onDone={(v) => setBrush({ opacity: v / 100 })}
      />
      {amount && (
        <NumberField
          {...amount}
          min={0}
          value={b.amounts[m as keyof typeof amounts] * amount.of}
          onDone={(v) => setBrush({ amounts: { ...b.amounts, [m]: v / amount.of } })}
        />
      )}
      {m === 'heal' && (
        <>
          <NumberField {...healed.texture} value={b.texture * 100} onDone={(v) => setBrush({ texture: v / 100 })} />
          <NumberField {...healed.light} value={b.light * 100} onDone={(v) => setBrush({ light: v / 100 })} />
        </>
      )}
      {m === 'colour' && (
        <div className="flex items-center gap-2">
          <span className="flex-1 text-quiet">Colour</span>
          <input
            type="color"
            aria-label="Colour of the paint"
            title="Or hold P and click on the picture"
            className="h-7 w-12 rounded border border-stone bg-soil"
            value={`#${b.colour.map((c) => toCode(c).toString(16).padStart(2, '0')).join('')}`}
            onChange={(e) =>
              setBrush({
                colour: [1, 3, 5].map((i) => toLight(parseInt(e.target.value.slice(i, i + 2), 16))) as [
                  number,
                  number,
                  number,
                ],
              })
            }
          />
          <span
            aria-hidden
            className="size-5 rounded-full border border-black"
            style={{ background: cssOf(b.colour) }}
          />
        </div>
      )}
      {copies(m) && <OriginFields {...props} />}
      {travelling && (
        <div className="flex items-center gap-2">
          <span className="flex-1 text-quiet">New strokes</span>
          <Pick<'this' | 'all'>
            label="Frames of new strokes"
            value={b.lasts}
            onChange={(lasts) => setBrush({ lasts })}
            options={[
              { value: 'this', label: 'This frame' },
              { value: 'all', label: 'All frames' },
            ]}
          />
        </div>
      )}
      <KeptBrushes />
      <More
        words="More of the brush"
        changed={
          b.flow < 1 || b.roundness < 1 || b.jitter > 0 || b.channels !== 'rgb' || b.still || b.sized === 'screen'
        }
      >
        <NumberField
          label="Flow"
          unit="%"
          hint="How much each dab adds; below 100 a stroke builds up"
          value={b.flow * 100}
          min={1}
          max={100}
          onDone={(v) => setBrush({ flow: v / 100 })}
        />
        <NumberField
          label="Spacing"
          unit="%"
          hint="Between dabs, of the size"
          value={b.spacing * 100}
          min={2}
          max={200}
          onDone={(v) => setBrush({ spacing: v / 100 })}
        />
        <NumberField
          label="Roundness"
          unit="%"
          value={b.roundness * 100}
          min={5}
          max={100}
          onDone={(v) => setBrush({ roundness: v / 100 })}
        />
        <NumberField
          label="Angle"
          unit="°"
          hint="Of the long axis"
          value={b.angle}
          min={-90}
          max={90}
          onDone={(angle) => setBrush({ angle })}
        />
        <NumberField
          label="Jitter"
          unit="%"
          hint="How far dabs stray, of the size"
          value={b.jitter * 100}
          min={0}
          max={200}
          onDone={(v) => setBrush({ jitter: v / 100 })}
        />
        <div
          className="flex flex-wrap items-center gap-3"
          title="What follows the pressure of the pen; the shape follows how it leans"
        >
          <span className="flex-1 text-quiet">Pen</span>
          {(['size', 'opacity', 'flow', 'shape'] as const).map((p) => (
            <Check
              key={p}
              label={p[0].toUpperCase() + p.slice(1)}
              value={b.pen.includes(p)}
              onChange={(v) => setBrush({ pen: v ? [...b.pen, p] : b.pen.filter((x) => x !== p) })}
            />
          ))}
        </div>
        <div className="flex items-center gap-3" title="Channels that are painted">
          <span className="flex-1 text-quiet">Channels</span>
          {(['r', 'g', 'b'] as const).map((c) => (
            <Check
              key={c}
              label={{ r: 'Red', g: 'Green', b: 'Blue' }[c]}
              value={b.channels.includes(c)}
              onChange={(v) => {
                const next = ['r', 'g', 'b'].filter((x) => (x === c ? v : b.channels.includes(x))).join('')
                if (next) setBrush({ channels: next })
              }}
            />
          ))}
        </div>
        <Check
          label="Size in pixels of the screen"
          hint="It stays as large on the screen when you come closer; else as large on the picture"
          value={b.sized === 'screen'}
          onChange={(v) => setBrush({ sized: v ? 'screen' : 'picture' })}
        />
        <Check
          label="Strokes stay on the screen"
          hint="They are not carried by the track"
          value={b.still}
          onChange={(still) => setBrush({ still })}
        />
      </More>
    </>
  )
}

/** Brushes that were kept, each with the key that takes it up. */
function KeptBrushes() {
  const kept = useBrushes((s) => s.kept)
  return (
    <div className="flex items-center gap-1" role="group" aria-label="Kept brushes">
      <span className="flex-1 text-quiet">Kept</span>
      {places.map((p) => (
        <button
          key={p}
          type="button"
          aria-label={`Kept brush ${p}`}
          title={
            kept[p]
              ? `${told(kept[p])} (${p}); Shift keeps the brush in hand instead`
              : `Nothing yet: click to keep the brush in hand on ${p}`
          }
          className={`w-9 rounded border border-stone py-0.5 text-center text-[13px] hover:bg-stone ${kept[p] ? '' : 'text-quiet'}`}
          onClick={(e) => (e.shiftKey || !kept[p] ? keepBrush(p) : takeBrush(p))}
        >
          {kept[p] ? Math.round(kept[p].size) : '+'}
        </button>
      ))}
    </div>
  )
}

/** Where copied pixels come from. */
function OriginFields({ shot, removal: r, motions }: BenchProps & { removal: Removal }) {
  const { origin: o, other, loan, frame, sourceId } = useBench()
  const [busy, setBusy] = useState(false)
  const painted = paintedOn(r, sourceId)
  const held = painted ? paintedAt(painted) : undefined
  const at = held ?? frame
  const borrow = (n: number | null) => {
    const b = r.mark.outlines.length ? boundsOf(r.mark.outlines[0].points) : null
    const home = r.mark.outlines[0]?.home ?? at
    const m = motions.between(r.follow.track, home, at)
    const c = b ? { x: (b.left + b.right) / 2, y: (b.top + b.bottom) / 2 } : { x: shot.width / 2, y: shot.height / 2 }
    const middle = m ? m.apply(c) : c
    setOrigin(
      n === null
        ? { frame: null, offset: null, spot: null, turn: 0, scale: 1, middle: null }
        : { frame: n, offset: { x: 0, y: 0 }, spot: null, middle, turn: 0, scale: 1, crisp: false },
    )
    bench.set({ loan: { ...loan, as: n === null ? 'hidden' : 'through' } })
  }
  const align = () => {
    setBusy(true)
    answer(
      api.POST('/api/shots/{id}/align', {
        params: { path: { id: shot.id } },
        body: { removal: r.id, frame: at, from: fromOf(o, o.offset ?? { x: 0, y: 0 }) },
      }),
    )
      .then((found) => {
        setOrigin({
          offset: { x: found.from.offset[0], y: found.from.offset[1] },
          turn: found.from.turn ?? 0,
          scale: found.from.scale ?? 1,
          crisp: false,
        })
        notify(
          `Lined up: moved by ${found.moved.toFixed(2)} px; ${Math.round(found.agree * 100)} % of what is around agrees, within ${found.residual.toFixed(2)} px.`,
        )
      })
      .catch((e: Error) => notify(e.message))
      .finally(() => setBusy(false))
  }
  const place = o.offset ?? { x: 0, y: 0 }
  return (
    <div className="flex flex-col gap-2 border-l-2 border-stone pl-2">
      {o.offset ? (
        <div
          className="flex items-center gap-1.5"
          title="From the painted pixel to the copied one (Shift and the arrow keys, or drag with S held)"
        >
          <span className="flex-1 text-quiet">Source at</span>
          <NumberInput
            label="Source, x"
            className="w-16"
            value={place.x}
            min={-8000}
            max={8000}
            onDone={(v) => setOrigin({ offset: { x: v, y: place.y } })}
          />
          <NumberInput
            label="Source, y"
            className="w-16"
            value={place.y}
            min={-8000}
            max={8000}
            onDone={(v) => setOrigin({ offset: { x: place.x, y: v } })}
          />
          <span className="text-quiet">px</span>
        </div>
      ) : (
        <p className="text-[13px] text-quiet">
          {o.spot
            ? 'The next stroke fixes how far the source is from the brush.'
            : 'Hold S and click where clean pixels are.'}
        </p>
      )}
      <div
        className="flex items-center gap-1.5"
        title="Another frame lends its pixels, brought into place by the track"
      >
        <span className="flex-1 text-quiet">
          {o.frame === null ? 'Copied from its own frame' : 'Copied from frame'}
        </span>
        {o.frame === null ? (
          <>
            <NumberInput
              label="Copied from frame"
              className="w-16"
              value={null}
              min={shot.first}
              max={shot.last}
              onDone={(v) => borrow(Math.round(v))}
            />
            <Button
              weight="bare"
              className="px-1! py-0!"
              title="The frame that is shown lends its pixels"
              disabled={held === undefined || frame === at}
              onClick={() => {
                borrow(frame)
                bench.set({ frame: at, playing: false })
              }}
            >
              This one
            </Button>
          </>
        ) : (
          <>
            <NumberInput
              label="Copied from frame"
              className="w-16"
              value={o.frame}
              min={shot.first}
              max={shot.last}
              onDone={(v) => borrow(Math.round(v))}
            />
            <Button weight="bare" className="px-1! py-0!" onClick={() => borrow(null)}>
              Give back
            </Button>
          </>
        )}
      </div>
      {o.frame !== null && (
        <>
          <Pick<'hidden' | 'through' | 'difference'>
            label="How the frame on loan is shown"
            value={loan.as}
            onChange={(as) => bench.set({ loan: { ...loan, as } })}
            options={[
              { value: 'hidden', label: 'Hidden' },
              { value: 'through', label: 'Through' },
              { value: 'difference', label: 'Difference' },
            ]}
          />
          {loan.as === 'through' && (
            <NumberField
              label="Shows"
              unit="%"
              value={loan.share * 100}
              min={0}
              max={100}
              onMove={(v) => bench.set({ loan: { ...loan, share: v / 100 } })}
              onDone={(v) => bench.set({ loan: { ...loan, share: v / 100 } })}
            />
          )}
          <Button disabled={busy} title="Refines how it lies on the pixels around the outlines" onClick={align}>
            {busy ? 'Lining up…' : 'Line up by itself'}
          </Button>
        </>
      )}
      <div className="grid grid-cols-2 gap-1.5">
        <Propose
          shot={shot.id}
          removal={r.id}
          frame={at}
          onFound={(p) => setOrigin({ offset: p, spot: null, frame: null })}
        />
        <Button
          className="py-0.5!"
          title={`Go over to ${other ? 'the source that was in hand before' : 'a second source, and back'} (Y)`}
          onClick={otherOrigin}
        >
          The other source
        </Button>
      </div>
      <More
        words="More of the source"
        changed={o.turn !== 0 || o.scale !== 1 || o.mirror || o.stays || !o.crisp || o.plain}
      >
        <div className="grid grid-cols-[auto_1fr_auto_1fr_auto] items-center gap-1.5">
          <span className="text-quiet">Turn</span>
          <NumberInput
            label="Turn of the source"
            value={o.turn}
            min={-180}
            max={180}
            onDone={(turn) => setOrigin({ turn })}
          />
          <span className="text-quiet">Scale</span>
          <NumberInput
            label="Scale of the source"
            value={o.scale * 100}
            min={5}
            max={1000}
            onDone={(v) => setOrigin({ scale: v / 100 })}
          />
          <span className="text-quiet">%</span>
        </div>
        <Check label="Mirrored" hint="Left for right" value={o.mirror} onChange={(mirror) => setOrigin({ mirror })} />
        <Check
          label="Stays put: each stroke begins at the same source"
          value={o.stays}
          onChange={(stays) => setOrigin({ stays })}
        />
        <Check
          label="Whole pixels, crisp grain"
          hint="The source is not mixed from its neighbours"
          value={o.crisp}
          onChange={(crisp) => setOrigin({ crisp })}
        />
        <Check label="Only the untouched plate, no paint" value={o.plain} onChange={(plain) => setOrigin({ plain })} />
      </More>
    </div>
  )
}

/** What is seldom needed, behind its name; a dot says that something in it is not as usual. */
export function More({ words, changed, children }: { words: string; changed: boolean; children: React.ReactNode }) {
  return (
    <Disclosure as="div">
      <DisclosureButton className="rounded text-[13px] text-quiet underline decoration-stone underline-offset-2 hover:text-text">
        {words}
        {changed && <span className="text-fern no-underline"> •</span>}
      </DisclosureButton>
      <DisclosurePanel className="mt-2 flex flex-col gap-2">{children}</DisclosurePanel>
    </Disclosure>
  )
}

/** Asks for a place that looks most like what is around the outlines. */
export function Propose({
  shot,
  removal,
  frame,
  onFound,
}: {
  shot: string
  removal: string
  frame: number
  onFound: (offset: { x: number; y: number }) => void
}) {
  const [busy, setBusy] = useState(false)
  return (
    <Button
      className="py-0.5!"
      disabled={busy}
      title="Looks for a place whose surroundings are most like those of the thing; another may still be better"
      onClick={() => {
        setBusy(true)
        answer(
          api.GET('/api/shots/{id}/removals/{removal}/beside', {
            params: { path: { id: shot, removal }, query: { frame } },
          }),
        )
          .then((found) => onFound({ x: found.offset[0], y: found.offset[1] }))
          .catch((e: Error) => notify(e.message))
          .finally(() => setBusy(false))
      }}
    >
      {busy ? 'Looking…' : 'Propose a place'}
    </Button>
  )
}
