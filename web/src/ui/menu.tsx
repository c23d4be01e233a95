import { MenuItem } from '@headlessui/react'

/** A line of a menu, with words on what it does where its name does not say it. */
export function Item({ onClick, hint, children }: { onClick: () => void; hint?: string; children: React.ReactNode }) {
  return (
    <MenuItem>
      <button
        type="button"
        className="block w-full rounded-sm px-3 py-1 text-left data-focus:bg-stone"
        onClick={onClick}
      >
        {children}
        {hint && <span className="block text-[13px] text-quiet">{hint}</span>}
      </button>
    </MenuItem>
  )
}
