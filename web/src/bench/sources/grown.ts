import type { FillSource, Removal } from '../../api/client'
import { newId } from '../../api/treatment'
import { plus, point, vec } from '../handles/curve'
import type { Kind } from './kinds'

/** Clean pixels that are made of what lies around. */
export const grown: Kind = {
  word: 'grown',
  note: (s) => `made on ${s.grown?.frame}`,
  shift: (s, d) => {
    const moved = (all?: number[][][] | null) => all?.map((l) => l.map((p) => vec(plus(point(p), d)))) as never
    if (s.grown) s.grown = { ...s.grown, guides: moved(s.grown.guides), from: moved(s.grown.from) }
  },
}

export function newGrown(r: Removal, frame: number): FillSource {
  const n = r.fill.sources.filter((s) => s.kind === 'grown').length
  return { id: newId(), name: n ? `Grown ${n + 1}` : 'Grown', kind: 'grown', grown: { frame } }
}
