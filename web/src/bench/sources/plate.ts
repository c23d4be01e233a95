import type { FillSource, Removal } from '../../api/client'
import { newId } from '../../api/treatment'
import type { Kind } from './kinds'

/** A clean plate: one frame, painted on and held. */
export const plate: Kind = {
  word: 'clean plate',
  note: (s) => (s.plate?.whole ? 'whole frame' : ''),
  painted: (s) => s.plate,
  paintedAt: (s) => s.plate!.frame,
  picture: (s) => s.plate?.picture,
}

export function newPlate(r: Removal, frame: number): FillSource {
  const same = r.fill.sources.filter((s) => s.plate?.frame === frame).length
  return {
    id: newId(),
    name: `Clean plate ${frame}${same ? `, ${same + 1}` : ''}`,
    kind: 'plate',
    below: true,
    plate: { frame, strokes: [] },
  }
}
