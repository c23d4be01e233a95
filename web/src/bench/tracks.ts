import type { Document, Track } from '../api/client'
import { newId } from '../api/treatment'
import { free } from './edits'

/** A new track, with nothing measured yet. */
export function newTrack(d: Document, kind: Track['kind'], home: number): Track {
  const word = { plane: 'Surface', points: 'Points', given: 'Track', card: 'Card' }[kind]
  return {
    id: newId(),
    name: `${word} ${free(
      word,
      d.tracks.map((t) => t.name),
    )}`,
    kind,
    home,
    motion: 'perspective',
  }
}

/** What rides on a track, by name: it cannot be deleted as long as something does. */
export function ridersOf(d: Document, id: string): string[] {
  return [
    ...d.removals.filter((r) => r.follow.track === id).map((r) => r.name),
    ...d.removals.flatMap((r) =>
      r.fill.sources.filter((s) => s.gathered?.track === id).map((s) => `${s.name} of ${r.name}`),
    ),
    ...d.removals.flatMap((r) =>
      r.mark.outlines
        .filter((s) => s.ride === id || s.points.some((k) => k.follows?.track === id))
        .map((s) => `${s.name} of ${r.name}`),
    ),
    ...d.tracks
      .filter((t) => t.over === id || t.bends?.along === id || t.exclusions?.some((s) => s.ride === id))
      .map((t) => t.name),
  ]
}
