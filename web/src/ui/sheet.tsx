import { Dialog, DialogBackdrop, DialogPanel, DialogTitle } from '@headlessui/react'
import type { ReactNode } from 'react'
import { Button } from './controls'

/** A dialog with a title and a way out. */
export function Sheet({
  title,
  open,
  onClose,
  children,
  wide,
}: {
  title: string
  open: boolean
  onClose: () => void
  children: ReactNode
  wide?: boolean
}) {
  return (
    <Dialog
      open={open}
      onClose={onClose}
      className="relative z-30 outline-none"
      onKeyDown={(e) => {
        if (e.key === 'Escape') onClose()
        e.stopPropagation()
      }}
    >
      <DialogBackdrop className="fixed inset-0 bg-black/50" />
      <div className="fixed inset-0 flex items-start justify-center overflow-y-auto p-10">
        <DialogPanel
          className={`w-full ${wide ? 'max-w-3xl' : 'max-w-xl'} rounded-lg border border-stone bg-bed p-5 shadow-2xl shadow-black/60`}
        >
          <div className="mb-4 flex items-center justify-between">
            <DialogTitle className="text-lg font-semibold">{title}</DialogTitle>
            <Button weight="bare" onClick={onClose}>
              Close
            </Button>
          </div>
          {children}
        </DialogPanel>
      </div>
    </Dialog>
  )
}
