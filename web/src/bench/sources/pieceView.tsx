import { useState, type PointerEvent as ReactPointerEvent } from 'react'
import type { FillSource } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { onSource } from '../fill'
import { minus, pathOf, plus, point, vec } from '../handles/curve'
import { drag, Grip, Line, Words } from '../handles/lines'
import { pointerAt, within } from '../props'
import type { HandleProps, View } from './views'

export const pieceView: View = {
  add: [
    { words: 'Supplied piece (file)', hint: 'A picture, with or without alpha, laid by its corners', file: 'piece' },
  ],
  Handle: PieceHandle,
}

/** A piece's corners, and the whole of it. */
function PieceHandle({ shot, removal: r, motions, source, placement, seen }: HandleProps & { source: FillSource }) {
  const { edit } = useEdit(shot.id)
  const [draft, setDraft] = useState<number[][] | null>(null)
  const m = motions.between(r.follow.track, source.piece?.frame ?? seen, seen)
  const here = within(placement, m)
  const corners = draft ?? source.piece?.corners ?? []
  if (!m || corners.length !== 4) return null
  const root = (e: ReactPointerEvent) => (e.target as Element).closest('svg')!
  const begin = (e: ReactPointerEvent, which: number[]) => {
    if (e.button !== 0) return
    const start = pointerAt(e, root(e), here)
    let next = corners
    drag(
      e,
      (p) => {
        const d = minus(pointerAt(p, root(e), here), start)
        setDraft((next = corners.map((c, i) => (which.includes(i) ? vec(plus(point(c), d)) : c))))
      },
      (did) => {
        if (did)
          void edit(
            'Place a piece',
            onSource(r.id, source.id, (s) => {
              if (s.piece) s.piece.corners = next
            }),
          ).finally(() => setDraft(null))
        else setDraft(null)
      },
    )
  }
  const d = pathOf(
    corners.map((at) => ({ at })),
    here,
  )
  return (
    <g>
      <path
        d={d}
        fill="transparent"
        className="pointer-events-auto cursor-move"
        aria-label="The piece"
        onPointerDown={(e) => begin(e, [0, 1, 2, 3])}
      />
      <Line on d={d} />
      {corners.map((c, i) => (
        <Grip
          key={i}
          square
          p={here.toRoom(point(c))}
          label={`Corner ${i + 1} of the piece`}
          onPointerDown={(e) => begin(e, [i])}
        />
      ))}
      <Words p={here.toRoom(point(corners[0]))}>{source.name}</Words>
    </g>
  )
}
