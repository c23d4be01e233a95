import type { FillSource, Removal } from '../../api/client'
import { newId } from '../../api/treatment'
import type { Kind } from './kinds'

/** The frame's own pixels, evened out. */
export const evened: Kind = { word: 'evened out' }

export function newEvened(r: Removal): FillSource {
  const n = r.fill.sources.filter((s) => s.kind === 'evened').length
  return {
    id: newId(),
    name: n ? `Evened out ${n + 1}` : 'Evened out',
    kind: 'evened',
    evened: { takes: 'coarse', scale: 8, amount: 1 },
  }
}
