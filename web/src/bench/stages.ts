import { kinds, strokesOf } from './sources/kinds'
import type { Document, Removal } from '../api/client'
import type { Stage } from './state'

export type Standing = 'empty' | 'begun' | 'done' | 'look'

export const stages: { id: Stage; name: string; asks: string; key: string }[] = [
  { id: 'mark', name: 'Mark', asks: 'What goes?', key: '1' },
  { id: 'follow', name: 'Follow', asks: 'How does the surface move?', key: '2' },
  { id: 'fill', name: 'Fill', asks: 'Where do clean pixels come from?', key: '3' },
  { id: 'settle', name: 'Settle', asks: 'What makes them sit?', key: '4' },
  { id: 'guard', name: 'Guard', asks: 'What stays in front?', key: '5' },
]

export const standingWords: Record<Standing, string> = {
  empty: 'nothing yet',
  begun: 'begun',
  done: 'done',
  look: 'needs a look',
}

/** How far a stage of a removal is, from the document alone. */
export function standing(d: Document, r: Removal, stage: Stage, stale: string[]): Standing {
  switch (stage) {
    case 'mark':
      return r.mark.outlines.length || r.mark.mattes?.some((m) => !m.off && (m.alpha || m.mattes?.length))
        ? 'done'
        : 'empty'
    case 'follow': {
      if (r.follow.track === 'still') return 'done'
      const t = d.tracks.find((x) => x.id === r.follow.track)
      if (!t) return 'empty'
      if (stale.includes(t.id)) return 'look'
      return t.data || t.points?.some((p) => p.path) ? 'done' : 'begun'
    }
    case 'fill':
      return r.fill.sources.some((f) => !f.off && (kinds[f.kind].gives(f) || strokesOf(f).some((x) => !x.off)))
        ? 'done'
        : r.fill.sources.length
          ? 'begun'
          : 'empty'
    case 'settle':
      return r.settle.opacity === 0
        ? 'look'
        : Object.entries(r.settle).some(
              ([k, v]) => k !== 'opacity' && v && !(v as { off?: boolean }).off && (v as unknown[]).length !== 0,
            ) || r.settle.opacity < 1
          ? 'done'
          : 'empty'
    case 'guard': {
      const fronts = (r.guard?.fronts ?? []).filter((f) => !f.off)
      if (fronts.some((f) => !f.shapes?.length && !f.mattes?.length && f.by !== 'colour' && f.by !== 'brightness'))
        return 'begun'
      return fronts.length || r.guard?.within?.length ? 'done' : 'empty'
    }
  }
}
