import { create } from 'zustand'

interface Notice {
  id: number
  text: string
  choice?: Choice
}

/** What can be done about it. */
export interface Choice {
  words: string
  press: () => void
}

const useNotices = create<{ list: Notice[]; done: { text: string; left: boolean } | null }>(() => ({
  list: [],
  done: null,
}))
let next = 1
let pointer = 0
addEventListener('pointermove', (e) => (pointer = e.clientX), { passive: true })

/** Says for two seconds what was just done, at the side of the screen where the pointer is. */
export function mention(text: string) {
  const done = { text, left: pointer < innerWidth / 2 }
  useNotices.setState({ done })
  setTimeout(() => useNotices.setState((s) => (s.done === done ? { done: null } : s)), 2000)
}

/** Shows a sentence to the artist for some seconds. */
export function notify(text: string, choice?: Choice) {
  const id = next++
  useNotices.setState((s) => ({ list: [...s.list.filter((n) => n.text !== text), { id, text, choice }].slice(-3) }))
  setTimeout(() => useNotices.setState((s) => ({ list: s.list.filter((n) => n.id !== id) })), choice ? 30_000 : 9000)
}

export function Notices() {
  const { list, done } = useNotices()
  return (
    <>
      <p
        role="status"
        className={`pointer-events-none fixed z-50 max-w-xs rounded bg-bed/95 text-[13px] ${done?.left ? 'bottom-4 left-4' : 'right-4 bottom-52'} ${done ? 'border border-stone px-3 py-1.5' : ''}`}
      >
        {done?.text}
      </p>
      <div
        aria-live="polite"
        className="pointer-events-none fixed inset-x-0 bottom-52 z-50 flex flex-col items-center gap-2"
      >
        {list.map((n) => (
          <p
            key={n.id}
            // What lies under it can be touched through it, but for its button.
            className="max-w-xl rounded border border-clay bg-bed px-4 py-2 shadow-lg shadow-black/40"
          >
            {n.text}
            {n.choice && (
              <button
                type="button"
                className="pointer-events-auto ml-3 rounded border border-stone bg-slab px-2 hover:bg-stone"
                onClick={() => {
                  n.choice!.press()
                  useNotices.setState((s) => ({ list: s.list.filter((x) => x.id !== n.id) }))
                }}
              >
                {n.choice.words}
              </button>
            )}
          </p>
        ))}
      </div>
    </>
  )
}
