import { expect, test } from 'vitest'
import { addressOf, begins, checked, placeOf } from './place'
import { initial } from './state'

const shot = { id: 'a', first: 1001, last: 1072, width: 960, height: 540 }

test('the address says where one is, and is read back', () => {
  for (const s of [
    { frame: 1031, removal: 'x1', stage: 'fill', view: 'result' },
    { frame: 1001, removal: null, stage: 'mark', view: 'plate' },
    { frame: 1072, removal: 'a b&c', stage: 'guard', view: 'light' },
  ] as const) {
    const back = begins(shot, ['x1', 'a b&c'], addressOf(s), {})
    expect(back).toMatchObject(s)
  }
})

test('what is no longer there is not begun with', () => {
  expect(begins(shot, [], '?frame=99999&removal=gone&stage=fill&view=patch', {})).toMatchObject({
    frame: 1072,
    removal: null,
    stage: 'mark',
    view: 'result',
    tool: 'look',
  })
  expect(begins(shot, [], '', {})).toMatchObject({ frame: 1001, centre: null })
  expect(placeOf('?frame=x&stage=dance&view=7')).toEqual({ removal: null })
  // The address goes before what was kept.
  expect(
    begins(shot, ['r', 'q'], '?frame=1010&removal=q', { frame: 1050, removal: 'r', stage: 'fill', zoom: 2 }),
  ).toMatchObject({
    frame: 1010,
    removal: 'q',
    zoom: 2,
  })
  expect(begins(shot, ['r'], '', { removal: 'r', stage: 'fill', tool: 'region' }).tool).toBe('brush')
})

test('what was kept comes back as it was, and nothing of another kind', () => {
  const was = { ...initial, folded: ['Wall'], zoom: 3, brush: { ...initial.brush, size: 80 } }
  const back = checked(JSON.parse(JSON.stringify(was)) as Record<string, unknown>)
  expect(back).toMatchObject({ folded: ['Wall'], zoom: 3, brush: was.brush, origin: was.origin })
  expect(checked({ frame: 'a', brush: [], folded: {}, exposure: null, strange: 1 })).toEqual({})
  // What an older page did not know of a brush is as it is at first.
  expect(checked({ brush: { size: 50 } })).toMatchObject({ brush: { ...initial.brush, size: 50 } })
})
