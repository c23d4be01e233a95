import { useLayoutEffect, useRef, useState } from 'react'
import { Link } from 'wouter'
import { useEdit } from '../api/treatment'
import { WorkRoom } from '../tasks/room'
import { Button } from '../ui/controls'
import { Leaf } from '../ui/leaf'
import { startRemoval } from './edits'
import { drag } from './handles/lines'
import { History } from './history'
import { List } from './path/list'
import { Opened } from './path/open'
import type { BenchProps } from './props'
import { useBench } from './state'

const widthName = 'jardin-path-width'
const [least, most] = [20.5, 40] // rem

/** How wide the path is: as it was dragged, else a part of the window. */
export function usePathWidth() {
  const [width, setWidth] = useState<number | null>(() => {
    const v = Number(localStorage.getItem(widthName))
    return v >= least && v <= most ? v : null
  })
  return {
    css: width === null ? `clamp(${least}rem, 22vw, 30rem)` : `min(${width}rem, 50vw)`,
    set: (v: number | null) => {
      const kept = v === null ? null : Math.min(most, Math.max(least, v))
      setWidth(kept)
      if (kept === null) localStorage.removeItem(widthName)
      else localStorage.setItem(widthName, String(kept))
    },
  }
}

/** The path: all removals above, the open one and its stages below; each scrolls by itself. */
export function Path(props: BenchProps & { width: ReturnType<typeof usePathWidth> }) {
  const { shot, revision } = props
  const { edit, undo, redo } = useEdit(shot.id)
  const open = useBench((s) => s.removal)
  const removal = revision.document.removals.find((r) => r.id === open)
  return (
    <aside
      className="relative row-span-3 flex min-h-0 min-w-0 flex-col border-r border-rule bg-bed"
      aria-label="Removals"
    >
      <header className="border-b border-rule px-3 py-2">
        <div className="flex items-center gap-2">
          <Link
            href="/"
            title="Back to the shot wall"
            aria-label="Back to the shot wall"
            className="flex items-center gap-2 rounded"
          >
            <Leaf className="h-6 w-6" />
          </Link>
          <div className="min-w-0 flex-1 leading-tight">
            <h1 className="truncate font-semibold">{shot.name}</h1>
            <p className="truncate text-[13px] text-quiet">{shot.show}</p>
          </div>
          <WorkRoom />
        </div>
        <div className="mt-1 -ml-2 flex items-center gap-1">
          <Button
            weight="bare"
            disabled={!revision.undo}
            title={revision.undo ? `Undo: ${revision.undo} (Ctrl Z)` : 'Nothing to undo'}
            onClick={() => void undo()}
          >
            Undo
          </Button>
          <Button
            weight="bare"
            disabled={!revision.redo}
            title={revision.redo ? `Redo: ${revision.redo} (Ctrl Shift Z)` : 'Nothing to redo'}
            onClick={() => void redo()}
          >
            Redo
          </Button>
          <History shot={shot} revision={revision} />
        </div>
      </header>
      <div className={`flex min-h-0 flex-col ${removal ? 'max-h-[34%] shrink-0' : 'flex-1'}`}>
        <List {...props} />
        <Button
          weight={removal ? 'plain' : 'main'}
          className="mx-2 mb-2 shrink-0"
          title="Begin a removal on this frame (N)"
          onClick={() => startRemoval(props, edit)}
        >
          New removal on this frame
        </Button>
      </div>
      {removal && (
        <div className="min-h-0 flex-1 overflow-y-auto border-t border-stone">
          <Opened {...props} removal={removal} />
        </div>
      )}
      <Edge css={props.width.css} onWidth={props.width.set} />
    </aside>
  )
}

const rem = () => parseFloat(getComputedStyle(document.documentElement).fontSize)

/** The edge of the path: dragged it widens it, a double click takes that back. */
function Edge({ css, onWidth }: { css: string; onWidth: (rem: number | null) => void }) {
  const edge = useRef<HTMLDivElement>(null)
  const [now, setNow] = useState(least)
  useLayoutEffect(() => setNow(Math.round(edge.current!.parentElement!.getBoundingClientRect().width / rem())), [css])
  return (
    <div
      ref={edge}
      role="separator"
      aria-valuenow={now}
      aria-valuemin={least}
      aria-valuemax={most}
      aria-valuetext={`${now} letters wide`}
      aria-orientation="vertical"
      aria-label="Width of the path"
      title="Drag to make the path wider; double click for its own width"
      tabIndex={0}
      className="absolute inset-y-0 -right-1 z-20 w-2 cursor-col-resize touch-none hover:bg-fern/30"
      onDoubleClick={() => onWidth(null)}
      onPointerDown={(e) => {
        if (e.button !== 0) return
        drag(
          e,
          (m) => onWidth(m.clientX / rem()),
          () => undefined,
        )
      }}
      onKeyDown={(e) => {
        if (e.key !== 'ArrowLeft' && e.key !== 'ArrowRight') return
        e.preventDefault()
        e.stopPropagation()
        const now = e.currentTarget.parentElement!.getBoundingClientRect().width / rem()
        onWidth(now + (e.key === 'ArrowLeft' ? -1 : 1))
      }}
    />
  )
}
