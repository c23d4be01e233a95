import { useEffect, useRef, useState } from 'react'
import { Button } from '../ui/controls'
import { Sheet } from '../ui/sheet'
import { actions, changed, keepKeys, readKeys, useOwnKeys, written, type OwnKeys } from './ownkeys'

const keys: [string, [string, string][]][] = [
  [
    'Frames',
    [
      ['Left, Right', 'one frame back, on'],
      ['Home, End', 'first, last frame'],
      ['Up, Down', 'the key before, the next key of the open removal'],
      ['Page Up, Page Down', 'the frame before, the next frame that needs a look'],
      ['Space', 'play in a loop, stop'],
      ['J', 'go to the reference frame; in Fill, to the frame that is painted on'],
    ],
  ],
  [
    'Looking',
    [
      ['Q W E D', 'plate, patch, result, difference'],
      ['L', 'locked or free'],
      ['B', 'free and locked side by side'],
      ['C', 'next channel'],
      [', .', 'darker, brighter by half a stop, for looking only'],
      ['0', 'fit'],
      ['+ −, wheel', 'closer, farther'],
      ['drag', 'move the picture (with Space held while a tool is in hand)'],
      ['H', 'hide or show all that lies on the picture'],
      ['S', 'before and after, split (not while painting)'],
      ['M', 'mattes: white on black, over the plate, off'],
      ['K', 'play only the frames around this one'],
    ],
  ],
  [
    'Working',
    [
      ['1 2 3 4 5', 'Mark, Follow, Fill, Settle, Guard'],
      ['N', 'new removal'],
      ['click an outline', 'open the removal that lies there; with Ctrl pick it beside others'],
      ['Alt + Up, Down', 'in the list: put a removal or a group elsewhere'],
      ['O', 'draw a shape (Mark, Guard) or a region (Follow)'],
      ['Shift + click', 'select several points'],
      ['Shift + drag', 'select the points in a box'],
      ['Ctrl A', 'select all points of the outline'],
      ['Shift + arrows', 'move selected points by a pixel'],
      ['Alt + drag', 'copy a key on the ribbon'],
      ['V', 'the untouched plate, as long as it is held'],
      ['Delete', 'remove what is selected: key, points, shape or stroke'],
      ['Escape', 'put the tool down'],
      ['Ctrl Z, Ctrl Shift Z', 'undo, redo'],
    ],
  ],
  [
    'Painting (Fill)',
    [
      ['F', 'take the brush, put it down'],
      ['S + click or drag', 'choose the source'],
      ['S + drag, of a loan', 'move the frame on loan; with Shift turn it, with Alt scale it'],
      ['Shift + arrows', 'move the source by a pixel; or the selected strokes'],
      ['X + drag', 'size (sideways) and hardness (up and down) of the brush'],
      ['[ ]', 'smaller, larger brush'],
      ['P + click', 'pick a colour under the brush'],
      ['Shift + click', 'a straight line from the end of the last stroke'],
      ['A', 'copy an area'],
      ['R', 'repeat the last frame’s strokes here'],
      ['U', 'next unpainted frame'],
      ['Y', 'the other source, and back'],
      ['6 7 8 9', 'a brush that was kept; with Shift keep the one in hand'],
      ['Shift + click, Ctrl A', 'select several strokes, all'],
    ],
  ],
]

/** All keys, behind "?". */
export function Help() {
  const [open, setOpen] = useState(false)
  useEffect(() => {
    const show = (e: KeyboardEvent) => e.key === '?' && !(e.target instanceof HTMLInputElement) && setOpen(true)
    addEventListener('keydown', show)
    return () => removeEventListener('keydown', show)
  }, [])
  return (
    <>
      <Button weight="bare" title="All keys (?)" onClick={() => setOpen(true)}>
        Keys
      </Button>
      <Sheet title="Keys" open={open} onClose={() => setOpen(false)}>
        {keys.map(([title, list]) => (
          <section key={title} className="mb-4">
            <h3 className="mb-1 text-quiet">{title}</h3>
            <dl className="grid grid-cols-[11rem_1fr] gap-y-1">
              {list.map(([k, what]) => (
                <div key={k} className="contents">
                  <dt className="font-mono text-[13px] text-fern">{k}</dt>
                  <dd>{what}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
        <OwnKeysFields />
      </Sheet>
    </>
  )
}

/** The keys that can be changed, each with what it does. */
function OwnKeysFields() {
  const { own } = useOwnKeys()
  const [asking, setAsking] = useState<string | null>(null)
  const [problem, setProblem] = useState('')
  const file = useRef<HTMLInputElement>(null)
  const take = (next: OwnKeys | string) => {
    setAsking(null)
    if (typeof next === 'string') return setProblem(next)
    setProblem('')
    keepKeys(next)
  }
  return (
    <section aria-label="Your own keys">
      <h3 className="mb-1 text-quiet">Your own keys</h3>
      <p className="mb-2 text-[13px] text-quiet">
        Press a key’s button, then the key that is to do it. Kept by this browser.
      </p>
      <ul className="grid grid-cols-2 gap-x-4 gap-y-0.5">
        {actions.map(([action, what]) => (
          <li key={action} className="flex items-baseline gap-2">
            <button
              type="button"
              aria-label={`${asking === action ? 'Press a key' : (own[action] ?? action).toUpperCase()}: ${what}`}
              className={`min-w-8 shrink-0 rounded border px-1 font-mono text-[13px] ${asking === action ? 'border-fern' : 'border-stone'} ${own[action] ? 'text-fern' : ''}`}
              onClick={() => setAsking(asking === action ? null : action)}
              onBlur={() => setAsking((now) => (now === action ? null : now))}
              onKeyDown={(e) => {
                if (asking !== action || e.key === 'Tab' || e.key === 'Shift') return
                e.preventDefault()
                e.stopPropagation()
                if (e.key === 'Escape') setAsking(null)
                else take(changed(own, action, e.key))
              }}
            >
              {asking === action ? 'Press a key' : (own[action] ?? action).toUpperCase()}
            </button>
            <span className="min-w-0 text-[13px]">{what}</span>
          </li>
        ))}
      </ul>
      {problem && (
        <p role="alert" className="mt-2 text-clay">
          {problem}
        </p>
      )}
      <div className="mt-3 flex gap-2">
        <Button disabled={!Object.keys(own).length} onClick={() => take({})}>
          As at first
        </Button>
        <a
          className="rounded border border-stone bg-slab px-2.5 py-1 leading-5 hover:bg-stone"
          download="jardin-keys.json"
          href={`data:application/json,${encodeURIComponent(written(own))}`}
        >
          Save as JSON
        </a>
        <Button onClick={() => file.current?.click()}>Bring in JSON</Button>
        <input
          ref={file}
          type="file"
          accept=".json"
          className="hidden"
          aria-label="Keys file"
          onChange={(e) => {
            const chosen = e.target.files?.[0]
            e.target.value = ''
            void chosen?.text().then((text) => {
              try {
                take(readKeys(text))
              } catch (wrong) {
                setProblem(`${chosen.name}: ${(wrong as Error).message}`)
              }
            })
          }}
        />
      </div>
    </section>
  )
}
