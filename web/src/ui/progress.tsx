/** How far long work is. */
export function Progress({ done, total, label }: { done: number; total: number; label: string }) {
  const share = Math.min(1, done / Math.max(1, total))
  return (
    <div
      role="progressbar"
      aria-label={label}
      aria-valuemin={0}
      aria-valuemax={total}
      aria-valuenow={done}
      className="h-1.5 min-w-0 flex-1 overflow-hidden rounded-full bg-stone"
    >
      <div className="h-full bg-fern" style={{ width: `${share * 100}%` }} />
    </div>
  )
}
