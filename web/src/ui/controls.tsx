import { attempt, dropAttempts } from '../api/treatment'
import { useEffect, useId, useRef, useState, type ButtonHTMLAttributes, type ReactNode } from 'react'

type Weight = 'plain' | 'main' | 'bare'

const weights: Record<Weight, string> = {
  plain: 'bg-slab hover:bg-stone border-stone',
  main: 'bg-moss hover:bg-[#4d7344] border-fern/40 text-white',
  bare: 'border-transparent hover:bg-slab text-quiet hover:text-text',
}

export function Button({
  weight = 'plain',
  on,
  className = '',
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { weight?: Weight; on?: boolean }) {
  return (
    <button
      type="button"
      aria-pressed={on}
      className={`rounded border px-2.5 py-1 leading-5 whitespace-nowrap disabled:opacity-40 ${weights[weight]} ${on ? 'border-fern! text-fern' : ''} ${className}`}
      {...rest}
    />
  )
}

/** A choice between yes and no. */
export function Check({
  label,
  hint,
  value,
  onChange,
}: {
  label: string
  hint?: string
  value: boolean
  onChange: (v: boolean) => void
}) {
  return (
    <label className="flex items-center gap-2" title={hint}>
      <input
        type="checkbox"
        checked={value}
        onChange={(e) => onChange(e.target.checked)}
        className="size-4 accent-fern"
      />
      {label}
    </label>
  )
}

/** A name and its value on one line. */
export function Field({ label, hint, children }: { label: string; hint?: string; children: ReactNode }) {
  return (
    <label className="grid grid-cols-[5.5rem_1fr] items-center gap-2" title={hint}>
      <span className="text-quiet">{label}</span>
      {children}
    </label>
  )
}

export const inputStyle = 'min-w-0 rounded border border-stone bg-soil px-2 py-1 leading-5'

/** A few letters by which a list is made shorter as they are typed. */
export function Find({
  label,
  hint,
  value,
  onChange,
  className = '',
}: {
  label: string
  hint: string
  value: string
  onChange: (v: string) => void
  className?: string
}) {
  return (
    <input
      aria-label={label}
      placeholder={hint}
      className={`${inputStyle} ${className}`}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      onKeyDown={(e) => e.stopPropagation()}
    />
  )
}

/** A line of text, given back when it is left or Enter is pressed. */
export function Text({
  value,
  onDone,
  label,
  className = '',
  focused,
  onLeave,
}: {
  value: string
  onDone: (v: string) => void
  label: string
  className?: string
  /** It is there to be typed in at once. */
  focused?: boolean
  onLeave?: () => void
}) {
  const [draft, setDraft] = useState(value)
  useEffect(() => setDraft(value), [value])
  const done = () => {
    const v = draft.trim()
    if (v && v !== value) onDone(v)
    else setDraft(value)
    onLeave?.()
  }
  return (
    <input
      autoFocus={focused}
      aria-label={label}
      className={`${inputStyle} ${className}`}
      value={draft}
      onChange={(e) => setDraft(e.target.value)}
      onBlur={done}
      onKeyDown={(e) => {
        if (e.key === 'Enter') e.currentTarget.blur()
        if (e.key === 'Escape') setDraft(value)
        e.stopPropagation()
      }}
    />
  )
}

/** A number in a field, given back when it is left or Enter is pressed. */
export function NumberInput({
  id,
  label,
  value,
  min,
  max,
  onDone,
  className = '',
}: {
  id?: string
  label?: string
  /** None is shown as an empty field. */
  value: number | null
  min: number
  max: number
  onDone: (v: number) => void
  className?: string
}) {
  const [draft, setDraft] = useState<string | null>(null)
  return (
    <input
      id={id}
      aria-label={label}
      inputMode="decimal"
      className={`${inputStyle} text-right font-mono text-[13px] ${className}`}
      value={draft ?? (value === null ? '' : String(Math.round(value * 1000) / 1000))}
      onChange={(e) => setDraft(e.target.value)}
      onBlur={() => {
        const v = Number(draft)
        if (draft && Number.isFinite(v)) {
          const kept = Math.min(max, Math.max(min, v))
          if (kept !== value) onDone(kept)
        }
        setDraft(null)
      }}
      onKeyDown={(e) => {
        if (e.key === 'Enter') e.currentTarget.blur()
        e.stopPropagation()
      }}
    />
  )
}

interface NumberProps {
  label: string
  unit: string
  hint?: string
  value: number
  min: number
  max: number
  step?: number
  /** As far as the slider goes, where a number may be larger. */
  slides?: number
  /** Told while the slider moves; without it the change that onDone makes is tried. */
  onMove?: (v: number) => void
  /** Told when a value is settled on. */
  onDone: (v: number) => void
}

/** A number with its unit: a slider for the hand, a field for the exact value. */
export function NumberField({ label, unit, hint, value, min, max, step = 1, slides, onMove, onDone }: NumberProps) {
  const id = useId()
  const [draft, setDraft] = useState<number | null>(null)
  const before = useRef(value) // when the slider was taken: what is tried shows as the value meanwhile
  const settle = () => {
    if (draft !== null && draft !== before.current) onDone(draft)
    else if (draft !== null) dropAttempts()
    setDraft(null)
  }
  return (
    <div className="grid grid-cols-[4.9rem_1fr_3.2rem_1.1rem] items-center gap-2" title={hint}>
      <label htmlFor={id} className="text-quiet">
        {label}
      </label>
      <input
        type="range"
        aria-label={`${label}, slider`}
        min={min}
        max={slides ?? max}
        step={step}
        value={Math.min(draft ?? value, slides ?? max)}
        onChange={(e) => {
          const v = Number(e.target.value)
          if (draft === null) before.current = value
          setDraft(v)
          if (onMove) onMove(v)
          else attempt(() => onDone(v))
        }}
        onPointerUp={(e) => {
          // Arrows step frames again; leaving it settles it, once.
          if (document.activeElement === e.currentTarget) e.currentTarget.blur()
          else settle()
        }}
        onKeyUp={settle}
        onBlur={settle}
        className="min-w-0"
      />
      <NumberInput id={id} value={draft ?? value} min={min} max={max} onDone={onDone} />
      <span className="text-quiet">{unit}</span>
    </div>
  )
}
