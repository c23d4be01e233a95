import { Menu, MenuButton, MenuItems } from '@headlessui/react'
import { Text } from './controls'

/** The head of an opened entry of a list: its name, and a menu of what can be done with it. */
export function EntryHead({
  what,
  name,
  onRename,
  children,
}: {
  what: string
  name: string
  onRename: (name: string) => void
  children: React.ReactNode
}) {
  return (
    <div className="flex gap-1.5">
      <Text label={`Name of the ${what}`} className="min-w-0 flex-1" value={name} onDone={onRename} />
      <Menu>
        <MenuButton
          className="rounded px-1.5 py-0.5 text-quiet hover:bg-slab hover:text-text"
          aria-label={`More for ${name}`}
        >
          ···
        </MenuButton>
        <MenuItems
          anchor="bottom end"
          className="z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none"
        >
          {children}
        </MenuItems>
      </Menu>
    </div>
  )
}
