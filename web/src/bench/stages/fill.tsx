import type { Removal } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { Button, NumberField } from '../../ui/controls'
import type { BenchProps } from '../props'
import { on } from '../edits'
import { bench, useBench } from '../state'

/** Fill: paint on the held reference frame. */
export function FillStage({ shot, removal: r }: BenchProps & { removal: Removal }) {
  const { edit } = useEdit(shot.id)
  const { brush, tool, source, offset, stroke, frame } = useBench()
  const remove = (id: string) => void edit('Delete a stroke', on(r.id, (d) => { d.fill.strokes = d.fill.strokes.filter((x) => x.id !== id) }))
  return (
    <>
      {frame !== r.fill.frame ? (
        <Button weight="main" title="Go to the frame that the paint lies on (J)" onClick={() => bench.set({ frame: r.fill.frame, playing: false, view: 'patch', tool: 'brush' })}>
          Hold frame {r.fill.frame} to paint
        </Button>
      ) : (
        <Button on={tool === 'brush'} onClick={() => bench.set({ tool: tool === 'brush' ? 'look' : 'brush', view: 'patch' })}>{tool === 'brush' ? 'Painting' : 'Paint'}</Button>
      )}
      <p className="text-[13px] text-quiet">
        {source ? 'The next stroke fixes how far the source is from the brush.' : offset ? `Copies from ${offset.x} px, ${offset.y} px away.` : 'Hold S and click where clean pixels are, then paint over the thing.'}
      </p>
      <NumberField label="Size" unit="px" hint="Diameter at full pressure ([ and ])" value={brush.size} min={2} max={300} onMove={(size) => bench.set({ brush: { ...brush, size } })} onDone={(size) => bench.set({ brush: { ...brush, size } })} />
      <NumberField label="Hardness" unit="%" hint="Share of the radius that is fully covered" value={brush.hardness * 100} min={0} max={100} onDone={(v) => bench.set({ brush: { ...brush, hardness: v / 100 } })} />
      <NumberField label="Opacity" unit="%" value={brush.opacity * 100} min={1} max={100} onDone={(v) => bench.set({ brush: { ...brush, opacity: v / 100 } })} />
      {r.fill.strokes.length > 0 && (
        <ol className="max-h-40 overflow-y-auto rounded border border-rule" aria-label="Strokes">
          {r.fill.strokes.map((s, i) => (
            <li key={s.id} className={`flex items-center gap-1 pl-2 ${s.id === stroke ? 'bg-slab' : ''}`}>
              <button type="button" aria-pressed={s.id === stroke} className="flex-1 rounded py-0.5 text-left text-[13px]" onClick={() => bench.set({ stroke: s.id === stroke ? null : s.id })}>
                Stroke {i + 1}<span className="text-quiet">, {s.size} px, from {s.offset[0]}, {s.offset[1]}</span>
              </button>
              <Button weight="bare" className="py-0!" aria-label={`Delete stroke ${i + 1}`} onClick={() => remove(s.id)}>Delete</Button>
            </li>
          ))}
        </ol>
      )}
    </>
  )
}
