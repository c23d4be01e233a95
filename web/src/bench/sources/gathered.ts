import type { FillSource, Removal } from '../../api/client'
import { newId } from '../../api/treatment'
import type { Kind } from './kinds'

/** Clean pixels from the frames around. */
export const gathered: Kind = {
  word: 'through time',
  note: (s) => (s.gathered?.live ? 'on every frame' : `made on ${s.gathered?.frame}`),
}

export function newGathered(r: Removal, frame: number): FillSource {
  const n = r.fill.sources.filter((s) => s.kind === 'gathered').length
  return {
    id: newId(),
    name: n ? `Through time ${n + 1}` : 'Through time',
    kind: 'gathered',
    gathered: { frame, over: 36 },
  }
}
