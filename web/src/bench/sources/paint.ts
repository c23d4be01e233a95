import type { FillSource, Removal } from '../../api/client'
import { newId } from '../../api/treatment'
import type { Kind } from './kinds'

/** Strokes that are painted on every frame anew. */
export const paint: Kind = {
  word: 'travelling paint',
  painted: (s) => s.paint,
  travels: true,
}

export function newPaint(r: Removal): FillSource {
  const n = r.fill.sources.filter((s) => s.kind === 'paint').length
  return {
    id: newId(),
    name: n ? `Travelling paint ${n + 1}` : 'Travelling paint',
    kind: 'paint',
    below: true,
    paint: { strokes: [] },
  }
}
