import { useRef } from 'react'
import type { Removal, Revision } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { bringIn } from '../../ui/files'
import { Button } from '../../ui/controls'
import type { BenchProps } from '../props'
import { bench, useBench, type Drawn } from '../state'
import { MarkMattes } from './mattes'
import { ShapeList } from './shapes'

const toolWords: Record<Drawn, string> = { curve: 'Outline', box: 'Box', ellipse: 'Ellipse', strand: 'Strand' }

/** Mark: the outlines and strands of what goes. */
export function MarkStage(props: BenchProps & { removal: Removal }) {
  const { shot, removal: r } = props
  const { tool, drawn, outline: selected, frame } = useBench()
  const { adopt } = useEdit(shot.id)
  const file = useRef<HTMLInputElement>(null)
  const drawing = tool === 'outline'
  const shape = r.mark.outlines.find((o) => o.id === selected)
  const begin = (d: Drawn) => bench.set({ tool: 'outline', drawn: d, outline: null, knots: [] })
  return (
    <>
      <div className="grid grid-cols-2 gap-1.5">
        {(['curve', 'strand', 'box', 'ellipse'] as const).map((d) => (
          <Button
            key={d}
            on={drawing && drawn === d}
            title={
              {
                curve: 'Click for corners, drag for curves; Enter or the first point closes (O)',
                strand: 'An open path with a width, for a wire; Enter ends it',
                box: 'Drag a box',
                ellipse: 'Drag an ellipse',
              }[d]
            }
            onClick={() => (drawing && drawn === d ? bench.set({ tool: 'look' }) : begin(d))}
          >
            {drawing && drawn === d
              ? `Drawing ${d === 'curve' || d === 'ellipse' ? 'an' : 'a'} ${toolWords[d].toLowerCase()}`
              : `Draw ${d === 'curve' || d === 'ellipse' ? 'an' : 'a'} ${toolWords[d].toLowerCase()}`}
          </Button>
        ))}
      </div>
      {drawing && (
        <p className="text-[13px] text-quiet">
          {drawn === 'curve' &&
            'Click to set corners, press and drag for curves. Click the first point, or press Enter, to close. Draw it with room around the thing.'}
          {drawn === 'strand' &&
            'Click along the wire; its ends may lie beyond the picture. Click the last point again, or press Enter, to end it.'}
          {(drawn === 'box' || drawn === 'ellipse') && 'Press and drag from corner to corner.'}
        </p>
      )}
      <ShapeList {...props} owner={{ removal: r.id }} shapes={r.mark.outlines} label="Shapes" />
      <MarkMattes shot={shot} removal={r} />
      <div className="flex gap-1.5 text-[13px]">
        <a
          className="rounded px-1 text-quiet underline decoration-stone underline-offset-2 hover:text-text"
          href={`/api/shots/${shot.id}/removals/${r.id}/outlines.svg?frame=${frame}`}
          title="The shapes as they lie on this frame"
        >
          Save as SVG
        </a>
        <button
          type="button"
          className="rounded px-1 text-quiet underline decoration-stone underline-offset-2 hover:text-text"
          title="Outlines from an SVG file, on this frame"
          onClick={() => file.current?.click()}
        >
          Bring in SVG
        </button>
        <input
          ref={file}
          type="file"
          accept=".svg"
          className="hidden"
          aria-label="SVG file"
          onChange={(e) =>
            void bringIn(e, `/api/shots/${shot.id}/removals/${r.id}/outlines.svg?frame=${frame}`).then(
              (rev) => rev && adopt(rev as Revision),
            )
          }
        />
      </div>
      {!shape && r.mark.outlines.length > 0 && !drawing && (
        <p className="text-[13px] text-quiet">Click a shape’s line to take hold of it.</p>
      )}
    </>
  )
}
