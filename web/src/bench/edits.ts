import type { Removal } from '../api/client'
import { newId, type Change } from '../api/treatment'
import type { BenchProps } from './props'
import { bench } from './state'

type Edit = (label: string, change: Change) => Promise<void>

/** Begins a removal whose reference frame is the one shown. */
export function startRemoval({ shot, revision }: BenchProps, edit: Edit) {
  const id = newId()
  const taken = new Set(revision.document.removals.map((r) => r.name))
  let n = 1
  while (taken.has(`Removal ${n}`)) n++
  const removal: Removal = {
    id,
    name: `Removal ${n}`,
    range: { first: shot.first, last: shot.last },
    reference: bench.get().frame,
    mark: { outlines: [] },
    follow: { region: [], motion: 'perspective' },
    fill: { strokes: [] },
    settle: { opacity: 1 },
  }
  void edit(`New removal ${n}`, (d) => d.removals.push(removal))
  bench.open(id, 'mark')
  bench.set({ tool: 'outline' })
}

/** Changes one removal of a document, if it is still there. */
export const on = (id: string, change: (r: Removal) => void): Change => (d) => {
  const r = d.removals.find((x) => x.id === id)
  if (r) change(r)
}

/** Removes the selected point, else outline, else stroke. */
export function removeSelected({ revision }: BenchProps, edit: Edit) {
  const s = bench.get()
  const r = revision.document.removals.find((x) => x.id === s.removal)
  if (!r) return
  const outline = r.mark.outlines.find((o) => o.id === s.outline)
  if (s.stage === 'mark' && outline) {
    const whole = s.knot === null || outline.points.length <= 3
    bench.set({ knot: null, ...(whole ? { outline: null } : {}) })
    const { knot } = s
    void edit(whole ? `Delete ${outline.name}` : 'Delete a point', on(r.id, (d) => {
      if (whole) d.mark.outlines = d.mark.outlines.filter((o) => o.id !== outline.id)
      else d.mark.outlines.find((o) => o.id === outline.id)?.points.splice(knot!, 1)
    }))
  } else if (s.stage === 'fill' && s.stroke) {
    const { stroke } = s
    bench.set({ stroke: null })
    void edit('Delete a stroke', on(r.id, (d) => {
      d.fill.strokes = d.fill.strokes.filter((x) => x.id !== stroke)
    }))
  }
}
