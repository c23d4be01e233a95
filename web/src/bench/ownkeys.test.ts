import { expect, test } from 'vitest'
import { actions, changed, meant, readKeys, written, type OwnKeys } from './ownkeys'

test('a key that was given away does nothing, the one it was given to does it', () => {
  const own = changed({}, 'q', 'Z') as OwnKeys
  expect(own).toEqual({ q: 'z' })
  expect([meant(own, 'z'), meant(own, 'Z'), meant(own, 'q'), meant(own, 'w'), meant(own, 'ArrowLeft')]).toEqual([
    'q',
    'q',
    '',
    'w',
    'ArrowLeft',
  ])
  // Once q is free, another may have it; and all can be taken back.
  const more = changed(own, 'w', 'q') as OwnKeys
  expect([meant(more, 'q'), meant(more, 'w'), meant(more, 'z')]).toEqual(['w', '', 'q'])
  expect(changed(more, 'q', 'q')).toMatch(/Q is for: patch/)
  expect(changed(changed(more, 'w', 'w') as OwnKeys, 'q', 'q')).toEqual({})
  expect(changed({}, 'q', ' ')).toMatch(/letter/)
  expect(changed({}, 'q', 'Enter')).toMatch(/letter/)
  expect(changed({}, 'q', 'w')).toMatch(/W is for: patch/)
})

test('keys leave and come in as JSON, and nonsense is refused', () => {
  let own: OwnKeys = {}
  let seed = 11
  const dice = (n: number) => (seed = (seed * 48271) % 2147483647) % n
  for (let i = 0; i < 300; i++) {
    const next = changed(own, actions[dice(actions.length)][0], 'abcdefghijklmnopqrstuvwxyz0123456789;#'[dice(38)])
    if (typeof next !== 'string') own = next
    // Whatever was changed: each key does one thing.
    const now = actions.map(([k]) => own[k] ?? k)
    expect(new Set(now).size).toBe(actions.length)
    for (const [k] of actions) expect(meant(own, own[k] ?? k)).toBe(k)
  }
  expect(readKeys(written(own))).toEqual(own)
  for (const bad of [
    '',
    '[]',
    '{}',
    '{"keys":[]}',
    '{"keys":{"q":5}}',
    '{"keys":{"q":"zz"}}',
    '{"keys":{"Enter":"a"}}',
  ])
    expect(() => readKeys(bad)).toThrow()
  expect(() => readKeys('{"keys":{"q":"w"}}')).toThrow(/two things/)
})
