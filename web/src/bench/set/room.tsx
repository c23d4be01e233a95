import type { BenchProps } from '../props'
import { useSpace } from './queries'
import { SpaceView } from './spaceview'
import { Camera, Laying } from './camera'
import { Cards } from './cards'
import { Lens } from './lens'

/** The set: the lens, where the camera was, and cards in the space that it saw. */
export function SetRoom(props: BenchProps) {
  const space = useSpace(props.shot.id, props.revision)
  return (
    <aside
      aria-label="The set"
      className="flex min-h-0 min-w-0 flex-col gap-3 overflow-x-hidden overflow-y-auto border-l border-rule bg-bed p-3"
      data-testid="set-room"
    >
      <Camera {...props} space={space} />
      {space && <SpaceView {...props} space={space} />}
      {space && <Laying {...props} space={space} />}
      {space && <Cards {...props} space={space} />}
      <Lens {...props} />
    </aside>
  )
}
