import { Button } from '../ui/controls'
import type { BenchProps } from './props'
import { bareOn, stages } from './stages'
import { bench, useBench } from './state'

/** On a frame that a removal should change and no patch of it reaches: which, why, and where to mend it. */
export function Unreached({ revision, standings }: BenchProps) {
  const { frame, removal: open, view, playing } = useBench()
  if (playing || view === 'plate') return null
  for (const r of revision.document.removals) {
    if ((open && r.id !== open) || !r.fill.sources.length) continue // before anything is painted that is no news
    const bare = bareOn(standings.get(r.id), frame)
    if (!bare) continue
    return (
      <p
        role="status"
        className="absolute inset-x-0 bottom-2 mx-auto flex w-fit max-w-[90%] items-center gap-2 rounded border border-stone bg-bed/95 px-3 py-1 text-[13px]"
      >
        <span className="min-w-0">
          No patch of {r.name} here: {bare.why}.
        </span>
        <Button weight="bare" className="py-0! whitespace-nowrap" onClick={() => bench.open(r.id, bare.stage)}>
          Go to {stages.find((s) => s.id === bare.stage)?.name}
        </Button>
      </p>
    )
  }
  return null
}
