import jsonpatch, { type Operation } from 'fast-json-patch'
import type { Document } from './client'

/**
 * What makes one document of another, as a JSON Patch (RFC 6902). Removals that only change places are moved: told by
 * their places alone, each would be said to have become another one.
 */
export function difference(before: Document, after: Document): Operation[] {
  const wanted = after.removals.map((r) => r.id)
  const order = before.removals.map((r) => r.id)
  const same = (a: string[], b: string[]) => a.length === b.length && a.every((id, i) => id === b[i])
  if (same(order, wanted) || !same([...order].sort(), [...wanted].sort())) return jsonpatch.compare(before, after)
  const out: Operation[] = []
  const removals = [...before.removals]
  const move = (from: number, to: number) => {
    out.push({ op: 'move', from: `/removals/${from}`, path: `/removals/${to}` })
    removals.splice(to, 0, ...removals.splice(from, 1))
    order.splice(to, 0, ...order.splice(from, 1))
  }
  // Most of the time one removal goes past others, up or down.
  const first = wanted.findIndex((id, i) => id !== order[i])
  const to = wanted.indexOf(order[first])
  if (
    same(
      wanted.filter((id) => id !== order[first]),
      order.filter((id) => id !== order[first]),
    )
  )
    move(first, to)
  wanted.forEach((id, i) => {
    const at = order.indexOf(id)
    if (at !== i) move(at, i)
  })
  return [...out, ...jsonpatch.compare({ ...before, removals }, after)]
}
