import { describe, expect, it } from 'vitest'
import { nextOf } from './keys'

describe('the next of some frames', () => {
  it('is the nearest one before or after, and not the one shown', () => {
    expect(nextOf([1040, 1010, 1020], 1020, 1)).toBe(1040)
    expect(nextOf([1040, 1010, 1020], 1020, -1)).toBe(1010)
    expect(nextOf([1010, 1020], 1020, 1)).toBeUndefined()
    expect(nextOf([], 1, -1)).toBeUndefined()
  })
})
