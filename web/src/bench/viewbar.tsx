import { Pick, Select } from '../ui/choice'
import { Button } from '../ui/controls'
import type { BenchProps } from './props'
import { Help } from './help'
import { RenderRoom } from './render'
import { bench, useBench, type Channel, type View } from './state'

/** What to show of the picture, above it. */
export function ViewBar({ shot, revision, motion }: BenchProps) {
  const { view, locked, channel, exposure, zoom, handles, removal } = useBench()
  const canLock = motion.samples.size > 1
  return (
    <div className="flex items-center gap-2 border-b border-rule bg-bed px-3 py-1.5">
      <Pick<View>
        label="What to show"
        value={view}
        onChange={(v) => bench.set({ view: v })}
        options={[
          { value: 'plate', label: 'Plate', hint: 'The untouched frames (Q)' },
          ...(removal ? [{ value: 'patch' as const, label: 'Patch', hint: 'The open removal’s paint, not cut by its outlines (W)' }] : []),
          { value: 'result', label: 'Result', hint: 'The plate with every patch laid on it (E)' },
          { value: 'difference', label: 'Difference', hint: 'Result less plate, four times as strong (D)' },
        ]}
      />
      <Button on={locked} disabled={!canLock && !locked} title="Move the footage so that the followed surface stands still (L)" onClick={() => bench.set({ locked: !locked })}>
        Locked
      </Button>
      <Select<Channel>
        label="Channel (C)"
        value={channel}
        onChange={(c) => bench.set({ channel: c })}
        options={(['colour', 'red', 'green', 'blue', 'luma'] as const).map((value) => ({ value, label: value[0].toUpperCase() + value.slice(1) }))}
      />
      <label className="flex items-center gap-2" title="Brighter or darker, for looking only; double click for 0">
        <span className="text-quiet">Exposure</span>
        <input
          type="range" min={-4} max={4} step={0.25} value={exposure} className="w-20"
          onChange={(e) => bench.set({ exposure: Number(e.target.value) })}
          onDoubleClick={() => bench.set({ exposure: 0 })}
        />
        <span className="w-[4.7rem] font-mono text-[13px]">{exposure > 0 ? '+' : ''}{exposure.toFixed(2)} EV</span>
      </label>
      <span className="flex-1" />
      <Button on={handles} title="Show or hide everything that lies on the picture (H)" onClick={() => bench.set({ handles: !handles })}>
        Handles
      </Button>
      <Button weight="bare" title="Fit the picture into the room there is (0)" onClick={() => bench.set({ zoom: null, centre: { x: shot.width / 2, y: shot.height / 2 } })}>
        {zoom === null ? 'Fit' : `${Math.round(zoom * 100)} %`}
      </Button>
      <Help />
      <RenderRoom shot={shot} revision={revision} />
    </div>
  )
}
