import { useState } from 'react'
import type { Removal, Shape } from '../../api/client'
import { pathOf } from './curve'
import { placed, usePoses } from './poses'
import { identity } from '../mapping'
import { colours, type Colour } from '../path/colours'
import { drawnIn, within, type BenchProps, type Placement } from '../props'
import { useLens } from '../set/queries'
import { bench, useBench } from '../state'

type Props = BenchProps & { placement: Placement; seen: number }

/** The outlines of all removals but the open one, faintly: a name where the pointer is, and a click opens it. */
export function Others(props: Props) {
  const { revision, seen } = props
  const open = useBench((s) => s.removal)
  const tool = useBench((s) => s.tool)
  const [on, setOn] = useState<{ name: string; x: number; y: number } | null>(null)
  const there = revision.document.removals.filter(
    (r) => r.id !== open && r.range.first <= seen && seen <= r.range.last && r.mark.outlines.length,
  )
  if (!there.length) return null
  return (
    <>
      <svg className="pointer-events-none absolute inset-0 h-full w-full" data-testid="others">
        {there.map((r) => (
          <Other key={r.id} {...props} removal={r} reached={tool === 'look'} onOver={setOn} />
        ))}
      </svg>
      {on && tool === 'look' && (
        <span
          className="pointer-events-none absolute z-10 -translate-x-1/2 rounded bg-black/75 px-1.5 text-[13px] whitespace-nowrap"
          style={{ left: on.x, top: on.y + 18 }}
        >
          {on.name}
        </span>
      )}
    </>
  )
}

function Other({
  shot,
  revision,
  motions,
  placement,
  seen,
  removal: r,
  reached,
  onOver,
}: Props & {
  removal: Removal
  reached: boolean
  onOver: (on: { name: string; x: number; y: number } | null) => void
}) {
  const { pose } = usePoses(shot.id, revision, { removal: r.id }, r.mark.outlines, seen)
  const lens = useLens(shot.id, revision)
  const colour = r.colour ? colours[r.colour as Colour] : '#fff'
  const line = (s: Shape) => {
    const p = pose(s)
    const on = !s.off && (!s.range || (seen >= s.range.first && seen <= s.range.last))
    if (!p || !on) return null
    const ride = p.shifts ? identity : motions.between(s.ride || r.follow.track || '', s.home, seen)
    if (!ride && seen !== s.home) return null
    const at = drawnIn(placed(p), within(placement, ride ?? identity), s.straight ? lens : null)
    return pathOf(...at, s.kind === 'outline')
  }
  const lines = r.mark.outlines.flatMap((s) => {
    const d = line(s)
    return d ? [{ d, closed: s.kind === 'outline', id: s.id }] : []
  })
  const reach = {
    className: reached ? 'cursor-pointer' : '',
    style: { pointerEvents: reached ? ('all' as const) : ('none' as const) },
    onPointerDown: (e: React.PointerEvent) => {
      if (e.button !== 0 || e.shiftKey) return
      e.stopPropagation()
      if (e.ctrlKey || e.metaKey) {
        const { picked } = bench.get()
        bench.set({ picked: picked.includes(r.id) ? picked.filter((id) => id !== r.id) : [...picked, r.id] })
        return
      }
      // The stage stays: who looks at how they settle goes on doing so.
      const { stage, removal } = bench.get()
      bench.open(r.id, removal ? stage : 'mark')
      onOver(null)
    },
    onPointerMove: (e: React.PointerEvent) => {
      const box = (e.currentTarget as Element).closest('svg')!.getBoundingClientRect()
      onOver({ name: r.name, x: e.clientX - box.left, y: e.clientY - box.top })
    },
    onPointerLeave: () => onOver(null),
  }
  return (
    <g fill="none" strokeLinejoin="round" opacity={r.off ? 0.25 : 0.5}>
      {lines.map(({ d, closed, id }) => (
        <g key={id}>
          <path d={d} stroke="#000" strokeOpacity="0.6" strokeWidth="3" />
          <path d={d} stroke={colour} strokeWidth="1.2" />
          <path d={d} stroke="transparent" strokeWidth="9" fill={closed ? 'transparent' : 'none'} {...reach} />
        </g>
      ))}
    </g>
  )
}
