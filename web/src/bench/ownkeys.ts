import { create } from 'zustand'

/** What the keys do that can be changed, by the key that does it at first. */
export const actions: [string, string][] = [
  ['1', 'Mark'],
  ['2', 'Follow'],
  ['3', 'Fill'],
  ['4', 'Settle'],
  ['5', 'Guard'],
  ['n', 'new removal'],
  ['o', 'draw a shape or a region'],
  ['q', 'plate'],
  ['w', 'patch'],
  ['e', 'result'],
  ['d', 'difference'],
  ['v', 'the plate, as long as it is held'],
  ['s', 'source, held while painting; before and after'],
  ['m', 'mattes'],
  ['l', 'locked or free'],
  ['b', 'free and locked side by side'],
  ['c', 'next channel'],
  [',', 'darker'],
  ['.', 'brighter'],
  ['h', 'all that lies on the picture'],
  ['t', 'the set'],
  ['0', 'fit'],
  ['+', 'closer'],
  ['-', 'farther'],
  ['k', 'play only the frames around this one'],
  ['j', 'go to the reference frame, or the one painted on'],
  ['f', 'take the brush, put it down'],
  ['x', 'size and hardness of the brush, held'],
  ['[', 'smaller brush'],
  [']', 'larger brush'],
  ['p', 'pick a colour, held'],
  ['a', 'copy an area'],
  ['r', 'repeat the last frame’s strokes'],
  ['u', 'next unpainted frame'],
  ['y', 'the other source'],
  ['6', 'first kept brush'],
  ['7', 'second kept brush'],
  ['8', 'third kept brush'],
  ['9', 'fourth kept brush'],
]

/** Keys that were changed: the key that does something at first, and the one that does it now. */
export type OwnKeys = Record<string, string>

const first = new Set(actions.map(([key]) => key))
const taken = new Set(['?', '=']) // by what cannot be changed

/** What a key that is pressed means, as the key that does it at first; empty for one that was given away. */
export function meant(own: OwnKeys, pressed: string): string {
  const key = pressed.length === 1 ? pressed.toLowerCase() : pressed
  const by = Object.keys(own).find((k) => own[k] === key)
  if (by) return by
  return own[key] && own[key] !== key ? '' : pressed
}

/** The keys with one changed, or in words why it cannot be. */
export function changed(own: OwnKeys, action: string, pressed: string): OwnKeys | string {
  const key = pressed.toLowerCase()
  if (!first.has(action)) return `Nothing is done by ${action}.`
  if ([...key].length !== 1 || key === ' ' || taken.has(key)) return 'Choose a letter, a digit or a sign.'
  const holder = actions.find(([k]) => k !== action && (own[k] ?? k) === key)
  if (holder) return `${key.toUpperCase()} is for: ${holder[1]}. Change that first.`
  const next = { ...own }
  if (key === action) delete next[action]
  else next[action] = key
  return next
}

/**
 * Reads keys that were saved; throws in words what is wrong with them. Of an older program, which had fewer, one may be for
 * what a new one does at first: then it stays what it was made, and the new one has none until it is given one.
 */
export function readKeys(text: string, older = false): OwnKeys {
  let all: unknown
  try {
    all = JSON.parse(text)
  } catch {
    throw new Error('This is no JSON.')
  }
  const keys = (all as { keys?: unknown } | null)?.keys
  if (!keys || typeof keys !== 'object' || Array.isArray(keys)) throw new Error('It holds no "keys".')
  const out: OwnKeys = {}
  for (const [action, key] of Object.entries(keys)) {
    if (!first.has(action)) throw new Error(`Nothing is done by ${action}.`)
    if (typeof key !== 'string') throw new Error(`${action} has no key.`)
    if ([...key].length !== 1 || key === ' ' || taken.has(key)) throw new Error(`${action} cannot be ${key}.`)
    if (key.toLowerCase() !== action) out[action] = key.toLowerCase()
  }
  const now = actions.map(([k]) => out[k] ?? k)
  const twice = now.find((k, i) => now.indexOf(k) !== i)
  if (twice && !older) throw new Error(`${twice.toUpperCase()} would do two things.`)
  return out
}

export const written = (own: OwnKeys) => `${JSON.stringify({ keys: own }, null, 2)}\n`

const name = 'jardin-keys'

export const useOwnKeys = create<{ own: OwnKeys }>(() => {
  try {
    return { own: readKeys(localStorage.getItem(name) ?? '{"keys":{}}', true) }
  } catch {
    return { own: {} } // what cannot be read is not kept
  }
})

export function keepKeys(own: OwnKeys) {
  useOwnKeys.setState({ own })
  localStorage.setItem(name, written(own))
}
