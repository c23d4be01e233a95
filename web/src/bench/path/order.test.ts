import { expect, test } from 'vitest'
import type { Document, Removal } from '../../api/client'
import { arrange, gather, runsOf, step } from './order'

const of = (...all: string[]) =>
  ({
    removals: all.map((x) => {
      const [id, group] = x.split(':')
      return (group ? { id, group } : { id }) as Removal
    }),
  }) as Document
const told = (d: Document) => d.removals.map((r) => (r.group ? `${r.id}:${r.group}` : r.id)).join(' ')

test('removals are put before another one, and join or leave groups', () => {
  const moved = (ids: string[], before: string | null, ...all: string[]) => {
    const d = of(...all)
    arrange(d, ids, before)
    return told(d)
  }
  expect(moved(['c'], 'a', 'a', 'b', 'c')).toBe('c a b')
  expect(moved(['a', 'c'], null, 'a', 'b', 'c', 'd')).toBe('b d a c')
  expect(moved(['b'], 'b', 'a', 'b', 'c')).toBe('a b c')
  expect(moved(['c'], 'b', 'a:g', 'b:g', 'c')).toBe('a:g c:g b:g')
  expect(moved(['a'], null, 'a:g', 'b:g', 'c')).toBe('b:g c a')
  expect(moved(['a', 'b'], null, 'a:g', 'b:g', 'c')).toBe('c a:g b:g')
  expect(moved(['b'], 'a', 'a:g', 'b:g', 'c')).toBe('b:g a:g c')
  expect(moved(['a'], 'd', 'a', 'b:g', 'c:g', 'd')).toBe('b:g c:g a d')
  expect(moved(['d'], 'b', 'a', 'b:g', 'c:g', 'd')).toBe('a d b:g c:g')
})

test('a step goes past one, and stops at the ends', () => {
  const d = of('a', 'b', 'c')
  step(d, ['b'], -1)
  expect(told(d)).toBe('b a c')
  step(d, ['b'], -1)
  expect(told(d)).toBe('b a c')
  step(d, ['b'], 1)
  step(d, ['b'], 1)
  expect(told(d)).toBe('a c b')
  step(d, ['b'], 1)
  expect(told(d)).toBe('a c b')
})

test('groups are in one piece', () => {
  const d = of('a', 'b', 'c', 'd', 'e')
  gather(d, ['b', 'd'], ' Wall ')
  expect(told(d)).toBe('a b:Wall d:Wall c e')
  expect(runsOf(d.removals).map((r) => r.removals.length)).toEqual([1, 2, 1, 1])
  gather(d, ['e'], 'Wall')
  expect(told(d)).toBe('a b:Wall d:Wall e:Wall c')
  gather(d, ['d'], '')
  expect(told(d)).toBe('a b:Wall e:Wall d c')
  // Whatever is done to them, nobody is lost and no group is in two pieces.
  let seed = 3
  const dice = (n: number) => (seed = (seed * 48271) % 2147483647) % n
  const all = of(...'abcdefghij'.split(''))
  for (let i = 0; i < 400; i++) {
    const some = all.removals.map((r) => r.id).filter(() => dice(3) === 0)
    const group = all.removals[dice(10)].group
    const whole = group ? all.removals.filter((r) => r.group === group).map((r) => r.id) : some
    const what = dice(4)
    if (what < 2) gather(all, some, ['', 'x', 'y'][dice(3)])
    else if (what < 3) step(all, whole, dice(2) ? 1 : -1)
    expect(
      all.removals
        .map((r) => r.id)
        .sort()
        .join(''),
    ).toBe('abcdefghij')
  }
  gather(all, [], 'x')
  const named = runsOf(all.removals).flatMap((r) => r.group ?? [])
  expect(new Set(named).size).toBe(named.length)
})
