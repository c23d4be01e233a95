import type { Document, Removal } from '../../api/client'

/** Removals that lie after each other in a group of that name; those of none stand alone. */
export interface Run {
  group: string | null
  removals: Removal[]
}

/** The removals in their order, those of a group together. */
export function runsOf(removals: Removal[]): Run[] {
  const out: Run[] = []
  for (const r of removals) {
    const last = out.at(-1)
    if (r.group && last?.group === r.group) last.removals.push(r)
    else out.push({ group: r.group ?? null, removals: [r] })
  }
  return out
}

/** Moves removals, in their order, before another one, or to the end. What comes to lie within a group joins it; what leaves one is of none. */
export function arrange(d: Document, ids: string[], before: string | null) {
  const moved = d.removals.filter((r) => ids.includes(r.id))
  if (before !== null && ids.includes(before)) {
    // Dropped on themselves: before whatever follows them.
    const at = d.removals.findIndex((r) => r.id === before)
    before = d.removals.slice(at).find((r) => !ids.includes(r.id))?.id ?? null
  }
  const rest = d.removals.filter((r) => !ids.includes(r.id))
  const found = before === null ? -1 : rest.findIndex((r) => r.id === before)
  const at = found < 0 ? rest.length : found
  d.removals = [...rest.slice(0, at), ...moved, ...rest.slice(at)]
  const [above, below] = [rest[at - 1]?.group, rest[at]?.group]
  for (const r of moved) {
    if (above && above === below) r.group = above
    else if (r.group && r.group !== above && r.group !== below && rest.some((x) => x.group === r.group)) delete r.group
  }
}

/** Moves removals by one place, past a group as a whole where they are not of it. */
export function step(d: Document, ids: string[], way: -1 | 1) {
  const order = d.removals.map((r) => r.id)
  const places = ids.map((id) => order.indexOf(id)).filter((i) => i >= 0)
  if (places.length === 0) return
  if (way < 0) {
    const at = Math.min(...places) - 1
    if (at >= 0) arrange(d, ids, order[at])
  } else {
    const at = Math.max(...places) + 2
    if (at <= order.length) arrange(d, ids, order[at] ?? null)
  }
}

/** Makes removals a group of that name, with those that are of it already; no name takes them out of theirs. */
export function gather(d: Document, ids: string[], name: string) {
  const wanted = name.trim().slice(0, 100)
  const all = new Set([...ids, ...(wanted ? d.removals.filter((r) => r.group === wanted).map((r) => r.id) : [])])
  for (const r of d.removals)
    if (ids.includes(r.id)) {
      if (wanted) r.group = wanted
      else delete r.group
    }
  if (!wanted) {
    // Whoever stays in the group stays together: those that left go behind it.
    d.removals = together(d.removals)
    return
  }
  const first = d.removals.findIndex((r) => all.has(r.id))
  const members = d.removals.filter((r) => all.has(r.id))
  const rest = d.removals.filter((r) => !all.has(r.id))
  d.removals = together([...rest.slice(0, first), ...members, ...rest.slice(first)])
}

/** The same with every group in one piece, where its first removal is. */
function together(removals: Removal[]): Removal[] {
  const out: Removal[] = []
  for (const r of removals) {
    if (out.includes(r)) continue
    out.push(...(r.group ? removals.filter((x) => x.group === r.group) : [r]))
  }
  return out
}
