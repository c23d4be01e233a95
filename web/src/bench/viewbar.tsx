import { Popover, PopoverButton, PopoverPanel } from '@headlessui/react'
import { Pick, Select } from '../ui/choice'
import { Button, Check } from '../ui/controls'
import type { Shot } from '../api/client'
import { useCube } from './cube'
import type { BenchProps } from './props'
import { Help } from './help'
import { RenderRoom } from './render'
import { ShownThrough } from './shownthrough'
import { bench, useBench, type Channel, type View } from './state'

/** What to show of the picture, above it. */
export function ViewBar({ shot, revision, standings, motion, motions }: BenchProps) {
  const { view, gain, locked, beside, zoom, handles, removal, lockTo, setOpen } = useBench()
  const canLock = ((motions.of(lockTo ?? undefined) ?? motion)?.samples.size ?? 0) > 1
  return (
    <div className="flex min-w-0 items-center gap-1 border-b border-rule bg-bed px-2 py-1.5">
      <Pick<View>
        label="What to show"
        value={view}
        onChange={(v) => bench.set({ view: v })}
        options={[
          { value: 'plate', label: 'Plate', hint: 'The untouched frames (Q)' },
          ...(removal
            ? [
                {
                  value: 'patch' as const,
                  label: 'Patch',
                  hint: 'The open removal’s paint, not cut by its outlines nor settled (W)',
                },
              ]
            : []),
          { value: 'result', label: 'Result', hint: 'The plate with every patch laid on it (E)' },
          { value: 'difference', label: 'Difference', hint: `Result less plate, ${gain} times as strong (D)` },
        ]}
      />
      <Looks />
      <Button
        on={locked && !beside}
        disabled={!canLock && !locked}
        title="Move the footage so that the followed surface stands still (L)"
        onClick={() => bench.set({ locked: !locked, beside: false })}
      >
        Locked
      </Button>
      <Judging revision={revision} canLock={canLock} />
      <Exposure shot={shot} />
      <Button
        on={setOpen}
        title="What was filmed, in space: the lens, the camera's path, and cards to paint on (T)"
        onClick={() => bench.set({ setOpen: !setOpen, tool: 'look', straight: false })}
      >
        The set
      </Button>
      <span className="flex-1" />
      <Button
        on={handles}
        title="Show or hide everything that lies on the picture (H)"
        onClick={() => bench.set({ handles: !handles })}
      >
        Handles
      </Button>
      <Button
        weight="bare"
        className="w-16 px-1!"
        title="Fit the picture into the room there is (0)"
        onClick={() => bench.set({ zoom: null, centre: null })}
      >
        {zoom === null ? 'Fit' : `${Math.round(zoom * 100)} %`}
      </Button>
      <Help />
      <RenderRoom shot={shot} revision={revision} standings={standings} />
    </div>
  )
}

/** A button that opens a panel below it; green while something in it is not as it is at first. */
function Opens({
  words,
  title,
  changed,
  wide,
  children,
}: {
  words: string
  title: string
  changed: boolean
  wide: string
  children: React.ReactNode
}) {
  return (
    <Popover className="relative">
      <PopoverButton
        className={`rounded border bg-slab px-2.5 py-1 leading-5 whitespace-nowrap hover:bg-stone ${changed ? 'border-fern text-fern' : 'border-stone'}`}
        title={title}
      >
        {words}
      </PopoverButton>
      <PopoverPanel
        anchor={{ to: 'bottom start', gap: 4 }}
        className={`z-40 flex ${wide} flex-col gap-2.5 rounded border border-stone bg-bed p-3 shadow-lg shadow-black/50 focus:outline-none`}
      >
        {children}
      </PopoverPanel>
    </Popover>
  )
}

/** The channel that is shown, and how bright: for looking only. */
function Exposure({ shot }: { shot: Shot }) {
  const { channel, exposure } = useBench()
  const { cube } = useCube(shot.id)
  const stops = `${exposure > 0 ? '+' : exposure < 0 ? '−' : ''}${Math.abs(exposure).toFixed(1)}`
  const names = (['colour', 'red', 'green', 'blue', 'luma'] as const).map((value) => ({
    value,
    label: value[0].toUpperCase() + value.slice(1),
  }))
  return (
    <Opens
      words={`${names.find((n) => n.value === channel)?.label}, ${stops} EV`}
      title="Channel (C), exposure (, and .) and what the picture is shown through, for looking only"
      changed={channel !== 'colour' || exposure !== 0 || !!cube?.hash}
      wide="w-96"
    >
      <Pick<Channel> label="Channel (C)" value={channel} onChange={(c) => bench.set({ channel: c })} options={names} />
      <label
        className="grid grid-cols-[4.5rem_minmax(0,1fr)_3.8rem_auto] items-center gap-2"
        title="In stops: brighter or darker, for looking only; double click for 0"
      >
        <span className="text-quiet">Exposure</span>
        <input
          type="range"
          aria-label="View exposure"
          min={-6}
          max={6}
          step={0.5}
          value={exposure}
          onChange={(e) => bench.set({ exposure: Number(e.target.value) })}
          onDoubleClick={() => bench.set({ exposure: 0 })}
        />
        <span className="text-right font-mono text-[13px]">{stops} EV</span>
        <Button weight="bare" className="py-0!" disabled={!exposure} onClick={() => bench.set({ exposure: 0 })}>
          None
        </Button>
      </label>
      <ShownThrough shot={shot} />
    </Opens>
  )
}

const looks: Partial<Record<View, string>> = {
  alone: 'Patch alone',
  matte: 'Mattes',
  tint: 'Mattes over the plate',
  light: 'Light field',
  grain: 'Grain taken out',
  seen: 'Never seen, and at odds',
  marked: 'What is marked',
  gathered: 'What was gathered',
  found: 'Gathered, of what is marked',
}

/** Those that explain one removal. */
const ofOne = new Set<View>(['light', 'grain', 'seen'])

/** Rarer ways of looking: at what a patch is made of, at before and after, at a few frames over and over. */
function Looks() {
  const { view, split, gain, loop, frame, removal } = useBench()
  const other = !!looks[view]
  return (
    <Opens words="Looks" title="More ways of looking" changed={other || split !== null || loop !== null} wide="w-72">
      <div className="flex flex-col gap-0.5" role="group" aria-label="More to show">
        {(Object.keys(looks) as View[]).map((v) => (
          <button
            key={v}
            type="button"
            aria-pressed={view === v}
            disabled={!removal && ofOne.has(v)}
            className={`rounded px-2 py-0.5 text-left disabled:opacity-40 ${view === v ? 'bg-stone' : 'hover:bg-slab'}`}
            onClick={() => bench.set({ view: view === v ? 'result' : v })}
          >
            {looks[v]}
          </button>
        ))}
      </div>
      <Check
        label="Before and after, split"
        hint="Left of the line the plate, right of it what is shown; drag the line (S puts it on and off)"
        value={split !== null}
        onChange={(v) => bench.set({ split: v ? 0.5 : null })}
      />
      <Check
        label="Only the frames around this one"
        hint="Twelve on either side are played in a loop (K)"
        value={loop !== null}
        onChange={(v) => bench.set({ loop: v ? { first: frame - 12, last: frame + 12 } : null })}
      />
      <label
        className="grid grid-cols-[5rem_minmax(0,1fr)_3rem] items-center gap-2"
        title="How strongly a difference is shown"
      >
        <span className="text-quiet">Difference</span>
        <input
          type="range"
          aria-label="Strength of the difference"
          min={1}
          max={32}
          step={1}
          value={gain}
          onChange={(e) => bench.set({ gain: Number(e.target.value) })}
        />
        <span className="text-right font-mono text-[13px]">{gain} ×</span>
      </label>
    </Opens>
  )
}

/** What helps to judge a track: what the picture is locked to, and what lies on it. */
function Judging({ revision, canLock }: { revision: BenchProps['revision']; canLock: boolean }) {
  const { beside, lockTo, lockBy, through, aid, ghosts, drives } = useBench()
  const any = beside || lockTo !== null || lockBy !== 'whole' || through > 0 || aid !== 'none' || ghosts || drives
  return (
    <Opens words="Judge track" title="What helps to judge a track" changed={any} wide="w-72">
      <Button
        on={beside}
        disabled={!canLock && !beside}
        title="Free and locked, side by side (B)"
        onClick={() => bench.set({ beside: !beside })}
      >
        Free and locked, side by side
      </Button>
      <div className="grid grid-cols-[5rem_1fr] items-center gap-2">
        <span className="text-quiet">Lock to</span>
        <Select<string>
          label="What the picture is locked to"
          value={lockTo ?? ''}
          onChange={(v) => bench.set({ lockTo: v || null })}
          options={[
            { value: '', label: 'Its own track' },
            ...revision.document.tracks.map((t) => ({ value: t.id, label: t.name })),
          ]}
        />
        <span className="text-quiet">Locks</span>
        <Select<'whole' | 'position' | 'flat'>
          label="How much of the motion is taken out"
          value={lockBy}
          onChange={(v) => bench.set({ lockBy: v })}
          options={[
            { value: 'whole', label: 'All motion' },
            { value: 'position', label: 'Position only', hint: 'keeps the picture sharpest' },
            { value: 'flat', label: 'All, a card seen flat', hint: 'as one sees it from straight ahead' },
          ]}
        />
        <span className="text-quiet">On it</span>
        <Select<'none' | 'grid' | 'test'>
          label="What lies on the surface"
          value={aid}
          onChange={(v) => bench.set({ aid: v })}
          options={[
            { value: 'none', label: 'Nothing' },
            { value: 'grid', label: 'A grid' },
            { value: 'test', label: 'A test picture' },
          ]}
        />
      </div>
      <label
        className="grid grid-cols-[5rem_1fr_3rem] items-center gap-2"
        title="The reference frame, shown through the locked picture: where it doubles, the track slips"
      >
        <span className="text-quiet">Reference</span>
        <input
          type="range"
          aria-label="Reference frame through the locked picture"
          min={0}
          max={1}
          step={0.05}
          value={through}
          onChange={(e) => bench.set({ through: Number(e.target.value) })}
        />
        <span className="text-right font-mono text-[13px]">{Math.round(through * 100)} %</span>
      </label>
      <Check label="The way of the surface" value={ghosts} onChange={(v) => bench.set({ ghosts: v })} />
      <Check
        label="What drives the track, and what is left out"
        value={drives}
        onChange={(v) => bench.set({ drives: v })}
      />
    </Opens>
  )
}
