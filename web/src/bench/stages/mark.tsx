import type { Removal } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { Button, NumberField, Text } from '../../ui/controls'
import type { BenchProps } from '../props'
import { on } from '../edits'
import { bench, useBench } from '../state'

/** Mark: the outlines of what goes. */
export function MarkStage({ shot, removal: r }: BenchProps & { removal: Removal }) {
  const { edit } = useEdit(shot.id)
  const { tool, outline: selected } = useBench()
  const outline = r.mark.outlines.find((o) => o.id === selected)
  return (
    <>
      <Button on={tool === 'outline'} title="Click for corners, drag for curves; Enter or the first point closes (O)" onClick={() => bench.set({ tool: tool === 'outline' ? 'look' : 'outline', outline: null, knot: null })}>
        {tool === 'outline' ? 'Drawing an outline' : 'Draw an outline'}
      </Button>
      {tool === 'outline' && <p className="text-[13px] text-quiet">Click to set corners, press and drag for curves. Click the first point, or press Enter, to close. Draw it with room around the thing.</p>}
      <ul className="flex flex-col gap-1">
        {r.mark.outlines.map((o) => (
          <li key={o.id}>
            <button
              type="button"
              aria-pressed={o.id === selected}
              className={`flex w-full items-center justify-between rounded px-2 py-1 text-left ${o.id === selected ? 'bg-slab' : 'hover:bg-slab'}`}
              onClick={() => bench.set({ outline: o.id === selected ? null : o.id, knot: null, tool: 'look' })}
            >
              <span className="truncate">{o.name}</span>
              <span className="text-[13px] text-quiet">{o.points.length} points</span>
            </button>
          </li>
        ))}
      </ul>
      {outline && (
        <>
          <Text label="Name of the outline" value={outline.name} onDone={(name) => void edit(`Rename to ${name}`, on(r.id, (d) => { const o = d.mark.outlines.find((x) => x.id === outline.id); if (o) o.name = name }))} />
          <NumberField
            label="Feather" unit="px" hint="How far outside the outline the patch fades to nothing" value={outline.feather ?? 0} min={0} max={60} step={0.5}
            onDone={(v) => void edit('Feather', on(r.id, (d) => { const o = d.mark.outlines.find((x) => x.id === outline.id); if (o) o.feather = v }))}
          />
          <p className="text-[13px] text-quiet">Drag points and handles. Double click the line for a new point, a point to make it smooth or sharp. Delete removes.</p>
        </>
      )}
    </>
  )
}
