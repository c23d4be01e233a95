import { useEffect, useState } from 'react'
import { Button } from '../ui/controls'
import { Sheet } from '../ui/sheet'

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
      ['Shift + arrows', 'move the source by a pixel; or the selected stroke'],
      ['X + drag', 'size (sideways) and hardness (up and down) of the brush'],
      ['[ ]', 'smaller, larger brush'],
      ['P + click', 'pick a colour under the brush'],
      ['Shift + click', 'a straight line from the end of the last stroke'],
      ['A', 'copy an area'],
      ['R', 'repeat the last frame’s strokes here'],
      ['U', 'next unpainted frame'],
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
      </Sheet>
    </>
  )
}
