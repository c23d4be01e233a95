import { answer, api, type Schemas, type Shot } from '../../api/client'
import { notify } from '../../ui/notice'
import type { Point } from '../matrix'
import { pointerAt, type BenchProps, type Placement } from '../props'
import { bench, type View } from '../state'

export type Picked = Schemas['Picked']

/** The light at a place of a frame, and how far colours around it are apart, as a view shows it; of none, the plate. */
export const pickAt = (
  { shot, revision }: { shot: Shot; revision: BenchProps['revision'] },
  frame: number,
  p: Point,
  radius: number,
  of?: { view: View; removal: string },
): Promise<Picked> =>
  answer(
    api.GET('/api/shots/{id}/frames/{frame}/light', {
      params: {
        path: { id: shot.id, frame },
        query: {
          revision: revision.number,
          x: p.x,
          y: p.y,
          radius,
          ...(of && of.view !== 'plate' ? { view: of.view === 'patch' ? 'patch' : 'result', removal: of.removal } : {}),
        },
      },
    }),
  )

/** A click takes the light of the plate there. */
export function PickColour({
  shot,
  revision,
  placement,
  seen,
  onPick,
}: {
  shot: Shot
  revision: BenchProps['revision']
  placement: Placement
  seen: number
  onPick: (picked: Picked) => void
}) {
  return (
    <svg
      className="absolute inset-0 h-full w-full cursor-crosshair"
      data-testid="pick"
      onPointerDown={(e) => {
        if (e.button !== 0) return
        e.stopPropagation()
        bench.set({ tool: 'look' })
        pickAt({ shot, revision }, seen, pointerAt(e, e.currentTarget, placement), 2.5)
          .then(onPick)
          .catch((x: Error) => notify(x.message))
      }}
    />
  )
}
