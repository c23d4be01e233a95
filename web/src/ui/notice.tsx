import { create } from 'zustand'

interface Notice {
  id: number
  text: string
}

const useNotices = create<{ list: Notice[] }>(() => ({ list: [] }))
let next = 1

/** Shows a sentence to the artist for some seconds. */
export function notify(text: string) {
  const id = next++
  useNotices.setState((s) => ({ list: [...s.list.filter((n) => n.text !== text), { id, text }].slice(-3) }))
  setTimeout(() => useNotices.setState((s) => ({ list: s.list.filter((n) => n.id !== id) })), 9000)
}

export function Notices() {
  const list = useNotices((s) => s.list)
  return (
    <div aria-live="polite" className="pointer-events-none fixed inset-x-0 bottom-36 z-50 flex flex-col items-center gap-2">
      {list.map((n) => (
        <p key={n.id} className="pointer-events-auto max-w-xl rounded border border-clay bg-bed px-4 py-2 shadow-lg shadow-black/40">
          {n.text}
        </p>
      ))}
    </div>
  )
}
