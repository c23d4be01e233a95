import {
  useCallback,
  useLayoutEffect,
  useRef,
  useState,
  type MouseEvent,
  type PointerEvent as ReactPointerEvent,
} from 'react'
import type { Removal } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { Select } from '../../ui/choice'
import { Button, Find, NumberInput, Text } from '../../ui/controls'
import { Item } from '../../ui/menu'
import { drag } from '../handles/lines'
import { still } from '../motion'
import type { BenchProps } from '../props'
import { stages, type RemovalStanding } from '../stages'
import { bench, useBench } from '../state'
import { colours, type Colour } from './colours'
import { arrange, gather, runsOf, step } from './order'
import { LeafMark, More, Row, use, useCarried, Used } from './row'

type Which = 'all' | 'look' | 'undone' | 'here' | 'out'

/** Whether a removal is among those that are wanted. */
function among(which: Which, r: Removal, s: RemovalStanding | undefined, frame: number): boolean {
  switch (which) {
    case 'all':
      return true
    case 'look':
      return stages.some(({ id }) => s?.[id].state === 'look') || !!s?.bare.length
    case 'undone':
      return stages.some(({ id }) => id !== 'guard' && id !== 'settle' && s?.[id].state !== 'done')
    case 'here':
      return r.range.first <= frame && frame <= r.range.last
    case 'out':
      return !!r.off
  }
}

/** All removals, in the order in which they are laid over each other: the last one lies on top. */
export function List(props: BenchProps) {
  const { shot, revision, standings } = props
  const { edit } = useEdit(shot.id)
  const { removal: open, picked, folded, frame } = useBench()
  const [find, setFind] = useState('')
  const [which, setWhich] = useState<Which>('all')
  const [before, setBefore] = useState<string | null | undefined>(undefined) // where what is dragged would go
  const { removals } = revision.document
  const wanted = find.trim().toLowerCase()
  const shown = removals.filter(
    (r) => (!wanted || r.name.toLowerCase().includes(wanted)) && among(which, r, standings.get(r.id), frame),
  )
  const chosen = picked.filter((id) => removals.some((r) => r.id === id))

  const pick = (id: string) => (e: MouseEvent) => {
    if (e.shiftKey && chosen.length) {
      const [a, b] = [shown.findIndex((r) => r.id === chosen.at(-1)), shown.findIndex((r) => r.id === id)].sort(
        (x, y) => x - y,
      )
      const between = shown.slice(Math.max(a, 0), b + 1).map((r) => r.id)
      bench.set({ picked: [...new Set([...chosen, ...between, id])] })
    } else bench.set({ picked: chosen.includes(id) ? chosen.filter((x) => x !== id) : [...chosen, id] })
  }

  /** Takes hold of removals: where they are let go they are put. */
  const grab = (ids: string[], name: string) => (e: ReactPointerEvent) => {
    if (e.button !== 0 || e.ctrlKey || e.metaKey || e.shiftKey) return
    const list = e.currentTarget.closest('ol[data-list]')
    const y = e.clientY
    let to: string | null | undefined
    drag(
      e,
      (m) => {
        if (Math.abs(m.clientY - y) < 6 || !list) return
        const rows = [...list.querySelectorAll<HTMLElement>('[data-row]')]
        const next = rows.find((row) => {
          const box = row.getBoundingClientRect()
          return m.clientY < box.top + box.height / 2
        })
        to = next?.dataset.row ?? null
        setBefore(to)
      },
      (moved) => {
        setBefore(undefined)
        if (!moved || to === undefined) return
        const at = to
        // The click that ends a drag opens nothing.
        const swallow = (c: Event) => c.stopPropagation()
        addEventListener('click', swallow, true)
        setTimeout(() => removeEventListener('click', swallow, true))
        void edit(`Move ${name}`, (d) => arrange(d, ids, at))
      },
    )
  }
  const those = (id: string) => (chosen.includes(id) ? chosen : [id])

  // Rows are given the same functions always, which do what is so now.
  const now = useRef({ pick, grab, those })
  useLayoutEffect(() => {
    now.current = { pick, grab, those }
  })
  const onPick = useCallback((r: Removal, e: MouseEvent) => now.current.pick(r.id)(e), [])
  const onGrab = useCallback((r: Removal, e: ReactPointerEvent) => {
    const ids = now.current.those(r.id)
    now.current.grab(ids, ids.length > 1 ? `${ids.length} removals` : r.name)(e)
  }, [])

  return (
    <>
      {removals.length > 1 && (
        <div className="flex gap-1.5 px-2 pt-2">
          <Find label="Find by name" hint="Find by name" className="flex-1" value={find} onChange={setFind} />
          <Select<Which>
            label="Which removals are listed"
            value={which}
            onChange={setWhich}
            options={[
              { value: 'all', label: `All ${removals.length}` },
              { value: 'look', label: 'Needs a look' },
              { value: 'undone', label: 'Not done' },
              { value: 'here', label: 'On this frame' },
              { value: 'out', label: 'Left out' },
            ]}
          />
        </div>
      )}
      {chosen.length > 0 && <Picked {...props} ids={chosen} />}
      <div className="min-h-0 flex-1 overflow-y-auto px-2 py-1.5">
        {wanted && <Outlines removals={removals} wanted={wanted} />}
        <ol data-list className="flex flex-col gap-0.5">
          {runsOf(shown).flatMap((run) => {
            const isFolded = run.group !== null && folded.includes(run.group)
            const rows = run.removals.map((r) => (
              <li key={r.id} className="relative">
                {before === r.id && <Here />}
                <Row
                  shot={shot}
                  removal={r}
                  standing={standings.get(r.id)}
                  open={r.id === open}
                  picked={chosen.includes(r.id)}
                  onPick={onPick}
                  onGrab={onGrab}
                />
              </li>
            ))
            if (run.group === null) return rows
            const name = run.group
            return [
              <li key={`group ${name} ${run.removals[0].id}`} className="rounded border border-rule">
                {before === run.removals[0].id && isFolded && <Here />}
                <Group
                  {...props}
                  name={name}
                  members={removals.filter((r) => r.group === name)}
                  folded={isFolded}
                  onGrab={grab(
                    removals.filter((r) => r.group === name).map((r) => r.id),
                    name,
                  )}
                />
                {!isFolded && <ol className="flex flex-col gap-0.5 pb-0.5 pl-2">{rows}</ol>}
              </li>,
            ]
          })}
          {before === null && (
            <li className="relative">
              <Here />
            </li>
          )}
        </ol>
        {removals.length === 0 && (
          <p className="px-2 py-3 text-quiet">
            Nothing is removed yet. Go to a frame on which the thing is large, sharp and evenly lit, and begin a removal
            there: it becomes the reference frame.
          </p>
        )}
        {removals.length > 0 && shown.length === 0 && <p className="px-2 py-1 text-quiet">None of them.</p>}
      </div>
    </>
  )
}

/** Where what is dragged would go. */
function Here() {
  return <span aria-hidden className="absolute -top-0.5 right-0 left-0 z-10 h-0.5 rounded bg-fern" />
}

/** Outlines whose names were looked for. */
function Outlines({ removals, wanted }: { removals: Removal[]; wanted: string }) {
  const found = removals.flatMap((r) =>
    r.mark.outlines.filter((o) => o.name.toLowerCase().includes(wanted)).map((o) => ({ r, o })),
  )
  if (!found.length) return null
  return (
    <ul className="mb-2 flex flex-col gap-0.5 text-[13px]" aria-label="Found">
      {found.map(({ r, o }) => (
        <li key={o.id}>
          <button
            type="button"
            className="w-full truncate rounded px-2 py-0.5 text-left hover:bg-slab"
            onClick={() => {
              bench.open(r.id, 'mark')
              bench.set({ outline: o.id, knots: [] })
            }}
          >
            {o.name} <span className="text-quiet">of {r.name}</span>
          </button>
        </li>
      ))}
    </ul>
  )
}

/** A group's own line: its name folds and unfolds it, its switch is that of all its removals. */
function Group({
  shot,
  standings,
  name,
  members,
  folded,
  onGrab,
}: BenchProps & { name: string; members: Removal[]; folded: boolean; onGrab: (e: ReactPointerEvent) => void }) {
  const { edit } = useEdit(shot.id)
  const { button, carry } = useCarried(`group ${name}`)
  const [renaming, setRenaming] = useState(false)
  const ids = members.map((r) => r.id)
  const all = bench.get().folded
  const rename = (to: string) => {
    if (folded) bench.set({ folded: [...all.filter((x) => x !== name), to] })
    void edit(`Rename to ${to}`, (d) => gather(d, ids, to))
  }
  // Of all its removals the state that asks for most.
  const worst = stages.map((s) => {
    const states = members.map((r) => standings.get(r.id)?.[s.id])
    const rank = ['look', 'empty', 'begun', 'done']
    return {
      ...s,
      standing: states.sort((a, b) => rank.indexOf(a?.state ?? 'empty') - rank.indexOf(b?.state ?? 'empty'))[0],
    }
  })
  return (
    <div className="flex h-8 items-center gap-1.5 pr-1 pl-2" data-row={folded ? ids[0] : undefined}>
      {renaming ? (
        <Text
          label="Name of the group"
          className="min-w-0 flex-1"
          value={name}
          focused
          onLeave={() => setRenaming(false)}
          onDone={rename}
        />
      ) : (
        <button
          ref={button}
          type="button"
          aria-expanded={!folded}
          title={folded ? 'Show its removals' : 'Fold it; drag it, or Alt Up and Alt Down, to put all of it elsewhere'}
          className="flex min-w-0 flex-1 touch-none items-baseline gap-2 rounded text-left font-semibold"
          onClick={() => bench.set({ folded: folded ? all.filter((x) => x !== name) : [...all, name] })}
          onPointerDown={onGrab}
          onKeyDown={(e) => carry(e, (way) => void edit(`Move ${name}`, (d) => step(d, ids, way)))}
        >
          <span className="truncate">{name}</span>
          <span className="shrink-0 text-[13px] font-normal text-quiet">
            {members.length}
            {folded ? ', folded' : ''}
          </span>
        </button>
      )}
      {folded && (
        <span className="flex shrink-0 gap-1">
          {worst.map((s) => (
            <LeafMark key={s.id} standing={s.standing} label={s.name} />
          ))}
        </span>
      )}
      <Used
        label={`Use all of ${name}`}
        used={members.some((r) => !r.off)}
        onChange={(v) =>
          void edit(v ? `Use ${name}` : `Leave out ${name}`, (d) =>
            d.removals.filter((r) => ids.includes(r.id)).forEach((r) => use(r, v)),
          )
        }
      />
      <More label={`More for the group ${name}`}>
        <Item onClick={() => bench.set({ picked: ids })}>Pick all of it</Item>
        <Item onClick={() => setRenaming(true)}>Rename the group</Item>
        <Item onClick={() => void edit(`No group ${name}`, (d) => gather(d, ids, ''))}>Make it no group</Item>
      </More>
    </div>
  )
}

/** What can be done with all that are picked at once. */
function Picked({ shot, revision, ids }: BenchProps & { ids: string[] }) {
  const { edit } = useEdit(shot.id)
  const { tracks } = revision.document
  const chosen = revision.document.removals.filter((r) => ids.includes(r.id))
  const all = (label: string, change: (r: Removal) => void) =>
    void edit(`${label}, ${ids.length} removals`, (d) => d.removals.filter((r) => ids.includes(r.id)).forEach(change))
  /** What they have in common; nothing where they differ. */
  const common = <T,>(of: (r: Removal) => T): T | undefined => {
    const first = of(chosen[0])
    return chosen.every((r) => of(r) === first) ? first : undefined
  }
  const feather = common((r) => r.mark.outlines[0]?.feather ?? 0)
  return (
    <section aria-label="Picked removals" className="mx-2 mt-2 flex flex-col gap-1.5 rounded border border-fern/50 p-2">
      <div className="flex items-center gap-1">
        <span className="flex-1">{ids.length === 1 ? '1 picked' : `${ids.length} picked`}</span>
        <Used
          label="Use the picked removals"
          used={chosen.some((r) => !r.off)}
          onChange={(v) => all(v ? 'Use' : 'Leave out', (r) => use(r, v))}
        />
        <Button
          weight="bare"
          className="py-0!"
          onClick={() => {
            bench.set({ picked: [] })
            void edit(`Delete ${ids.length} removals`, (d) => {
              d.removals = d.removals.filter((r) => !ids.includes(r.id))
            })
          }}
        >
          Delete
        </Button>
        <Button weight="bare" className="py-0!" title="Pick none" onClick={() => bench.set({ picked: [] })}>
          Let go
        </Button>
      </div>
      <div className="flex items-center gap-1.5">
        <span className="w-14 text-quiet">Group</span>
        <Text
          label="Group of the picked removals"
          className="min-w-0 flex-1"
          value={common((r) => r.group ?? '') ?? ''}
          onDone={(name) => void edit(`Group ${name}`, (d) => gather(d, ids, name))}
        />
        {chosen.some((r) => r.group) && (
          <Button weight="bare" className="py-0!" onClick={() => void edit('No group', (d) => gather(d, ids, ''))}>
            None
          </Button>
        )}
      </div>
      <div className="flex items-center gap-1.5" role="group" aria-label="Colour of the picked removals">
        <span className="w-14 text-quiet">Colour</span>
        {(Object.keys(colours) as Colour[]).map((c) => (
          <button
            key={c}
            type="button"
            aria-label={c}
            aria-pressed={common((r) => r.colour) === c}
            title={c}
            className="size-5 rounded-full border-2 border-transparent aria-pressed:border-text"
            style={{ background: colours[c] }}
            onClick={() => all('Colour', (r) => (r.colour = c))}
          />
        ))}
        <Button weight="bare" className="py-0!" onClick={() => all('No colour', (r) => delete r.colour)}>
          None
        </Button>
      </div>
      <div className="flex items-center gap-1.5">
        <span className="w-14 text-quiet">Track</span>
        <div className="min-w-0 flex-1">
          <Select<string>
            label="Track of the picked removals"
            value={common((r) => r.follow.track ?? '') ?? 'several'}
            onChange={(v) => v !== 'several' && all('Choose a track', (r) => (r.follow.track = v || undefined))}
            options={[
              ...(common((r) => r.follow.track ?? '') === undefined ? [{ value: 'several', label: 'Several' }] : []),
              { value: still, label: 'Still', hint: 'the camera does not move' },
              ...tracks.map((t) => ({ value: t.id, label: t.name })),
              { value: '', label: 'None yet' },
            ]}
          />
        </div>
      </div>
      <div className="flex items-center gap-1.5" title="Of all their outlines; the first one's is shown">
        <span className="w-14 text-quiet">Feather</span>
        <NumberInput
          label="Feather of the picked removals"
          className="w-16"
          value={feather ?? 0}
          min={0}
          max={200}
          onDone={(v) => all('Feather', (r) => r.mark.outlines.forEach((o) => (o.feather = v)))}
        />
        <span className="text-quiet">px{feather === undefined ? ', they differ' : ''}</span>
      </div>
    </section>
  )
}
