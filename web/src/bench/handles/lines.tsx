import type { PointerEvent as ReactPointerEvent } from 'react'
import type { Point } from '../matrix'

/** Follows a pressed pointer until it is let go. */
export function drag(e: ReactPointerEvent, move: (e: PointerEvent) => void, end: (moved: boolean) => void) {
  e.stopPropagation()
  const start = { x: e.clientX, y: e.clientY }
  let moved = false
  const onMove = (m: PointerEvent) => {
    moved ||= Math.hypot(m.clientX - start.x, m.clientY - start.y) > 2
    if (moved) move(m)
  }
  const onUp = () => {
    removeEventListener('pointermove', onMove)
    removeEventListener('pointerup', onUp)
    removeEventListener('pointercancel', onUp)
    end(moved)
  }
  addEventListener('pointermove', onMove)
  addEventListener('pointerup', onUp)
  addEventListener('pointercancel', onUp)
}

/** A line that shows on white and on black: a light core in a dark casing. */
export function Line({
  d,
  on,
  dashed,
  colour,
  ...rest
}: { d: string; on?: boolean; dashed?: boolean; colour?: string } & React.SVGProps<SVGPathElement>) {
  const held = rest.onDoubleClick || rest.onPointerDown
  return (
    <g fill="none" strokeLinejoin="round">
      <path d={d} stroke="#000" strokeOpacity="0.7" strokeWidth="4" />
      <path
        d={d}
        stroke={colour ?? (on ? 'var(--color-fern)' : '#fff')}
        strokeWidth={on ? 2 : 1.6}
        strokeDasharray={dashed ? '5 4' : undefined}
      />
      {held ? <path d={d} stroke="transparent" strokeWidth="12" className="pointer-events-auto" {...rest} /> : null}
    </g>
  )
}

export function Grip({
  p,
  on,
  small,
  square,
  label,
  ...rest
}: { p: Point; on?: boolean; small?: boolean; square?: boolean; label: string } & Omit<
  React.SVGProps<SVGGElement>,
  'p'
>) {
  const r = small ? 3.5 : 5
  const look = { fill: on ? 'var(--color-fern)' : '#fff', stroke: '#000', strokeWidth: 1.8 }
  return (
    <g
      role="img"
      className="pointer-events-auto cursor-move"
      transform={`translate(${p.x} ${p.y})`}
      aria-label={label}
      {...rest}
    >
      <circle r={small ? 8 : 11} fill="transparent" />
      {square ? <rect x={-r} y={-r} width={2 * r} height={2 * r} {...look} /> : <circle r={r} {...look} />}
    </g>
  )
}

/** Words on the picture. */
export function Words({ p, children }: { p: Point; children: React.ReactNode }) {
  return (
    <text x={p.x + 9} y={p.y - 9} className="text-[12px]" fill="#fff" stroke="#000" strokeWidth="3" paintOrder="stroke">
      {children}
    </text>
  )
}
