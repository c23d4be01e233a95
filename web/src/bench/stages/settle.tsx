import type { Removal } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { NumberField } from '../../ui/controls'
import type { BenchProps } from '../props'
import { on } from '../edits'

/** Settle: edge and opacity of the patch. */
export function SettleStage({ shot, removal: r }: BenchProps & { removal: Removal }) {
  const { edit } = useEdit(shot.id)
  return (
    <>
      <NumberField label="Feather" unit="px" hint="Added to the feather of every outline" value={r.settle.feather ?? 0} min={0} max={60} step={0.5} onDone={(v) => void edit('Feather the patch', on(r.id, (d) => { d.settle.feather = v }))} />
      <NumberField label="Opacity" unit="%" value={r.settle.opacity * 100} min={0} max={100} onDone={(v) => void edit('Opacity of the patch', on(r.id, (d) => { d.settle.opacity = v / 100 }))} />
    </>
  )
}
