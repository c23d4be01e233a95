import { Menu, MenuButton, MenuItems } from '@headlessui/react'
import { Text } from './controls'
import { Item } from './menu'

/** What entries of all lists have: they can be renamed, and left out without being deleted. */
interface Entry {
  name: string
  off?: boolean
}

/** The head of an opened entry of a list: its name, and a menu of what can be done with it. */
export function EntryHead<T extends Entry>({
  what,
  entry,
  first,
  change,
  onEarlier,
  onDelete,
  children,
}: {
  what: string
  entry: T
  /** It is the first of its list. */
  first: boolean
  change: (label: string, f: (x: T) => void) => void
  onEarlier: () => void
  onDelete: () => void
  /** What else can be done with it. */
  children?: React.ReactNode
}) {
  const { name, off } = entry
  return (
    <div className="flex gap-1.5">
      <Text
        label={`Name of the ${what}`}
        className="min-w-0 flex-1"
        value={name}
        onDone={(next) =>
          change(`Rename to ${next}`, (x) => {
            x.name = next
          })
        }
      />
      <Menu>
        <MenuButton
          className="rounded px-1.5 py-0.5 text-quiet hover:bg-slab hover:text-text"
          aria-label={`More for ${name}`}
        >
          More
        </MenuButton>
        <MenuItems
          anchor="bottom end"
          className="z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none"
        >
          <Item
            onClick={() =>
              change(off ? `Use ${name}` : `Leave out ${name}`, (x) => {
                x.off = off ? undefined : true
              })
            }
          >
            {off ? 'Use it again' : 'Leave it out'}
          </Item>
          {!first && <Item onClick={onEarlier}>Earlier in the order</Item>}
          {children}
          <Item onClick={onDelete}>Delete</Item>
        </MenuItems>
      </Menu>
    </div>
  )
}
