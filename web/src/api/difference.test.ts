import jsonpatch from 'fast-json-patch'
import { expect, test } from 'vitest'
import type { Document } from './client'
import { difference } from './difference'

const of = (...ids: string[]) =>
  ({
    removals: ids.map((id) => ({ id, name: id, fill: { sources: [{ id: `${id}s` }] } })),
    tracks: [],
  }) as unknown as Document

// Whatever the orders, and with other changes beside: the patch makes the one of the other, and a move is a move.
test('what makes one document of another', () => {
  let seed = 5
  const dice = (n: number) => (seed = (seed * 48271) % 2147483647) % n
  for (let round = 0; round < 300; round++) {
    const ids = 'abcdefghij'.slice(0, 2 + dice(9)).split('')
    const before = of(...ids)
    const after = structuredClone(before)
    const from = dice(ids.length)
    after.removals.splice(dice(ids.length), 0, ...after.removals.splice(from, 1))
    const alone = difference(before, after)
    expect(alone.length).toBeLessThanOrEqual(1)
    expect(jsonpatch.applyPatch(structuredClone(before), alone).newDocument).toEqual(after)
    if (dice(2)) after.removals.sort(() => dice(3) - 1)
    if (dice(2)) after.removals[dice(ids.length)].name = 'other'
    if (dice(3) === 0) after.removals.splice(dice(ids.length), 1)
    if (dice(3) === 0) after.removals.push(of('new').removals[0])
    const patch = difference(before, after)
    expect(jsonpatch.applyPatch(structuredClone(before), patch).newDocument).toEqual(after)
  }
})
