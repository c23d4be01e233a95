import { toLight } from '../fill'
import type { FrameStore } from '../frames'
import { pointerAt, type Placement } from '../props'
import { bench } from '../state'

/** A click takes the colour of the plate there, linear light: the mean of five by five pixels. */
export function PickColour({
  frames,
  placement,
  seen,
  onPick,
}: {
  frames: FrameStore
  placement: Placement
  seen: number
  onPick: (light: number[]) => void
}) {
  return (
    <svg
      className="absolute inset-0 h-full w-full cursor-crosshair"
      data-testid="pick"
      onPointerDown={(e) => {
        const plate = frames.plate(seen)
        if (e.button !== 0 || !plate) return
        e.stopPropagation()
        const p = pointerAt(e, e.currentTarget, placement)
        const c = new OffscreenCanvas(5, 5).getContext('2d', { willReadFrequently: true })!
        c.drawImage(plate, Math.floor(p.x) - 2, Math.floor(p.y) - 2, 5, 5, 0, 0, 5, 5)
        const sum = [0, 0, 0]
        const { data } = c.getImageData(0, 0, 5, 5)
        for (let i = 0; i < data.length; i += 4) for (let k = 0; k < 3; k++) sum[k] += toLight(data[i + k]) / 25
        onPick(sum.map((v) => Math.round(v * 1e5) / 1e5))
        bench.set({ tool: 'look' })
      }}
    />
  )
}
