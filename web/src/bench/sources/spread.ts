import type { FillSource, Removal } from '../../api/client'
import { newId } from '../../api/treatment'
import type { Kind } from './kinds'

/** Clean pixels that go on from the rim. */
export const spread: Kind = {
  word: 'spread',
  note: (s) => (s.spread?.live ? 'on every frame' : `made on ${s.spread?.frame}`),
}

export function newSpread(r: Removal, frame: number): FillSource {
  const n = r.fill.sources.filter((s) => s.kind === 'spread').length
  return {
    id: newId(),
    name: n ? `Spread from the edge ${n + 1}` : 'Spread from the edge',
    kind: 'spread',
    spread: { frame },
  }
}
