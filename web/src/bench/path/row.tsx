import { Menu, MenuButton, MenuItems, Switch } from '@headlessui/react'
import {
  memo,
  useEffect,
  useLayoutEffect,
  useRef,
  useState,
  type KeyboardEvent,
  type MouseEvent,
  type PointerEvent,
} from 'react'
import type { Removal, Shot } from '../../api/client'
import { computed } from '../../api/session'
import { useEdit } from '../../api/treatment'
import { Item } from '../../ui/menu'
import { on } from '../edits'
import { stages, standingWords, type RemovalStanding } from '../stages'
import { bench } from '../state'
import { colours, type Colour } from './colours'
import { step } from './order'

// What was put elsewhere by keys, until when: moved in the page it loses the focus, and takes it up again.
let carried = { name: '', until: 0 }

/** Keeps the focus on what keys put elsewhere. */
export function useCarried(name: string) {
  const button = useRef<HTMLButtonElement>(null)
  useLayoutEffect(() => {
    if (carried.name === name && performance.now() < carried.until) button.current?.focus()
  })
  const carry = (e: KeyboardEvent, move: (way: -1 | 1) => void) => {
    if (!e.altKey || (e.key !== 'ArrowUp' && e.key !== 'ArrowDown')) return
    e.preventDefault()
    e.stopPropagation()
    carried = { name, until: performance.now() + 500 }
    move(e.key === 'ArrowUp' ? -1 : 1)
  }
  return { button, carry }
}

/** One removal of the list. There are many: a row is drawn anew only when something of it changes. */
export const Row = memo(function Row({
  shot,
  standing,
  removal: r,
  open,
  picked,
  onPick,
  onGrab,
}: {
  shot: Shot
  removal: Removal
  standing: RemovalStanding | undefined
  open: boolean
  picked: boolean
  /** Ctrl or Shift was held: it is picked beside others. */
  onPick: (r: Removal, e: MouseEvent) => void
  /** It was taken hold of, to be put elsewhere. */
  onGrab: (r: Removal, e: PointerEvent) => void
}) {
  const { edit } = useEdit(shot.id)
  const here = useRef<HTMLDivElement>(null)
  const { button, carry } = useCarried(r.id)
  useEffect(() => {
    if (open) here.current?.scrollIntoView({ block: 'nearest' })
  }, [open])
  return (
    <div
      data-row={r.id}
      ref={here}
      className={`group/row flex h-8 items-center gap-1.5 rounded pr-1 pl-1.5 ${open ? 'bg-slab' : 'hover:bg-soil'} ${picked ? 'outline-1 -outline-offset-1 outline-fern' : ''}`}
    >
      <button
        ref={button}
        type="button"
        aria-expanded={open}
        aria-label={r.name}
        title={`${r.name}. Drag it, or Alt Up and Alt Down, to put it elsewhere: what is lower covers what is above. Ctrl or Shift and click picks several`}
        className="flex min-w-0 flex-1 touch-none items-center gap-2 rounded text-left"
        onClick={(e) => {
          if (e.ctrlKey || e.metaKey || e.shiftKey) return onPick(r, e)
          if (open) bench.open(null)
          else bench.open(r.id, 'mark')
        }}
        onPointerDown={(e) => onGrab(r, e)}
        onKeyDown={(e) =>
          carry(e, (way) => void edit(`Move ${r.name} ${way < 0 ? 'up' : 'down'}`, (d) => step(d, [r.id], way)))
        }
      >
        <Spot shot={shot} removal={r} />
        {r.colour && (
          <span
            aria-label={`Colour ${r.colour}`}
            className="size-2 shrink-0 rounded-full"
            style={{ background: colours[r.colour as Colour] }}
          />
        )}
        <span className={`min-w-0 flex-1 truncate ${r.off ? 'opacity-50' : ''}`}>{r.name}</span>
        <span className="flex shrink-0 gap-1">
          {stages.map((s) => (
            <LeafMark key={s.id} standing={standing?.[s.id]} label={s.name} />
          ))}
        </span>
      </button>
      <Used
        label={`Use ${r.name}`}
        used={!r.off}
        onChange={(v) =>
          void edit(
            v ? `Use ${r.name}` : `Leave out ${r.name}`,
            on(r.id, (d) => use(d, v)),
          )
        }
      />
      <More label={`More for ${r.name}`} faint={!open}>
        <Item onClick={() => bench.set({ frame: r.reference, playing: false })}>Go to its reference frame</Item>
        <Item
          onClick={() => {
            bench.open(r.id, bench.get().removal === r.id ? bench.get().stage : 'mark')
            bench.set({ view: 'alone' })
          }}
        >
          See what it does alone
        </Item>
        <Item
          onClick={() => {
            bench.open(r.id, 'mark')
            bench.set({ tool: 'copy', copying: r.id, playing: false })
          }}
        >
          Copy to other places
        </Item>
        <Item onClick={() => bench.set({ picked: [...bench.get().picked.filter((id) => id !== r.id), r.id] })}>
          Pick it beside others
        </Item>
        <Item
          onClick={() =>
            void edit(`Delete ${r.name}`, (d) => {
              d.removals = d.removals.filter((x) => x.id !== r.id)
            })
          }
        >
          <span className="text-clay">Delete the removal</span>
        </Item>
      </More>
    </div>
  )
})

/** Uses a removal, or leaves it out. */
export function use(r: Removal, v: boolean) {
  if (v) delete r.off
  else r.off = true
}

export function Used({ label, used, onChange }: { label: string; used: boolean; onChange: (v: boolean) => void }) {
  return (
    <Switch
      checked={used}
      onChange={onChange}
      aria-label={label}
      title={used ? 'Part of the result' : 'Left out of the result'}
      className="group inline-flex h-4 w-7 shrink-0 items-center rounded-full bg-stone data-checked:bg-moss"
    >
      <span className="size-3 translate-x-0.5 rounded-full bg-text transition group-data-checked:translate-x-3.5" />
    </Switch>
  )
}

/** What else can be done; faint until its row is pointed at or reached, and no menu before that: lists are long. */
export function More({ label, faint, children }: { label: string; faint?: boolean; children: React.ReactNode }) {
  const [reached, setReached] = useState<'pointed at' | 'focused' | null>(null)
  const button = {
    className: `shrink-0 rounded px-1 py-0.5 text-[13px] text-quiet hover:bg-stone hover:text-text ${faint ? 'opacity-0 group-hover/row:opacity-100 focus-visible:opacity-100 data-open:opacity-100' : ''}`,
    'aria-label': label,
    title: label,
  }
  if (!reached && faint)
    return (
      <button
        {...button}
        type="button"
        aria-haspopup="menu"
        aria-expanded={false}
        onPointerEnter={() => setReached('pointed at')}
        onFocus={() => setReached('focused')}
      >
        More
      </button>
    )
  return (
    <Menu>
      <MenuButton {...button} autoFocus={reached === 'focused'}>
        More
      </MenuButton>
      <MenuItems
        anchor="bottom end"
        className="z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none"
      >
        {children}
      </MenuItems>
    </Menu>
  )
}

/** The marked spot on the reference frame, cut from its picture. */
function Spot({ shot, removal: r }: { shot: Shot; removal: Removal }) {
  const points = r.mark.outlines.flatMap((o) => o.points.map((p) => p.at))
  const size = 24
  const xs = points.map((p) => p[0])
  const ys = points.map((p) => p[1])
  const span = points.length
    ? Math.max(24, Math.max(Math.max(...xs) - Math.min(...xs), Math.max(...ys) - Math.min(...ys)) * 1.8)
    : shot.height
  const x = points.length ? (Math.max(...xs) + Math.min(...xs)) / 2 : shot.width / 2
  const y = points.length ? (Math.max(...ys) + Math.min(...ys)) / 2 : shot.height / 2
  const k = size / span
  return (
    <span
      aria-hidden
      className="size-6 shrink-0 rounded border border-stone bg-soil"
      style={{
        backgroundImage: `url(/api/shots/${shot.id}/frames/${r.reference}/screen?v=${computed()})`,
        backgroundSize: `${shot.width * k}px ${shot.height * k}px`,
        backgroundPosition: `${size / 2 - x * k}px ${size / 2 - y * k}px`,
        backgroundRepeat: 'no-repeat',
      }}
    />
  )
}

/** A stage's standing: empty ring, half leaf, full leaf, or clay where it needs a look; and why. */
export function LeafMark({ standing: s, label }: { standing: RemovalStanding['mark'] | undefined; label: string }) {
  const state = s?.state ?? 'empty'
  const fill = { empty: 'none', begun: 'none', done: 'var(--color-fern)', look: 'var(--color-clay)' }[state]
  const line = state === 'look' ? 'var(--color-clay)' : state === 'empty' ? 'var(--color-stone)' : 'var(--color-fern)'
  const words = `${label}: ${standingWords[state]}${s ? ` (${s.why})` : ''}`
  return (
    <svg viewBox="0 0 12 12" className="size-3" role="img" aria-label={words}>
      <title>{words}</title>
      <path d="M1.5 10.5C1 4 5 1.5 10.5 1.5c0 5.500-3 9-9 9z" fill={fill} stroke={line} strokeWidth="1.3" />
      {state === 'begun' && <path d="M1.5 10.500L8 4C9 6 6 10 1.500 10.500z" fill={line} />}
    </svg>
  )
}
