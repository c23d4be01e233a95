import type { FillSource, Removal } from '../../api/client'
import { newId } from '../../api/treatment'
import type { Kind } from './kinds'

/** A flat tone, or a gradient. */
export const tone: Kind = {
  word: 'tone',
  note: (s) => (s.tone?.rim ? 'from the rim' : ''),
  keys: (s) => s.tone?.keys ?? [],
}

export function newTone(r: Removal, frame: number): FillSource {
  const n = r.fill.sources.filter((s) => s.kind === 'tone').length
  return { id: newId(), name: n ? `Tone ${n + 1}` : 'Tone', kind: 'tone', tone: { frame, rim: true } }
}

type Key = NonNullable<NonNullable<FillSource['tone']>['keys']>[number]

/** Sets the tone of a frame, picked by hand: a key there, or the only one. */
export function setTone(s: FillSource, frame: number, end: 'one' | 'other', light: number[]) {
  const t = s.tone
  if (!t) return
  t.rim = undefined
  const keys: Key[] = (t.keys ??= [])
  let key = keys.length === 1 ? keys[0] : keys.find((k) => k.frame === frame)
  if (!key) {
    const fresh: Key = { frame, ease: 'eased', one: light, other: light }
    const i = keys.findIndex((k) => k.frame > frame)
    keys.splice(i < 0 ? keys.length : i, 0, fresh)
    key = fresh
  }
  key[end] = light
  if (end === 'one' && !t.ends) key.other = light
}
