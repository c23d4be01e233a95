import { vec } from '../handles/curve'
import type { Kind } from './kinds'

/** A supplied picture, laid on the surface by its corners. */
export const piece: Kind = {
  word: 'piece',
  picture: (s) => s.piece?.picture ?? undefined,
  shift: (s, d) => {
    if (s.piece) s.piece.corners = s.piece.corners.map((c) => vec({ x: c[0] + d.x, y: c[1] + d.y }))
  },
}
