import { useState, type ReactNode } from 'react'

// Which were unfolded last: whoever needs them once needs them for the next one too.
const unfolded = new Set<string>()

/** Settings that are rarely needed, behind their names. */
export function Rare({ words, children }: { words: string; children: ReactNode }) {
  const [open, setOpen] = useState(() => unfolded.has(words))
  return (
    <>
      <button
        type="button"
        aria-expanded={open}
        className="rounded text-left text-[13px] text-quiet underline decoration-stone underline-offset-2 hover:text-text"
        onClick={() => {
          if (open) unfolded.delete(words)
          else unfolded.add(words)
          setOpen(!open)
        }}
      >
        {open ? 'Less' : words}
      </button>
      {open && children}
    </>
  )
}
