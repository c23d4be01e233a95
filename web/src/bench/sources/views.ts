import type { ComponentType } from 'react'
import type { FillSource, Removal } from '../../api/client'
import type { BenchProps, Placement } from '../props'
import type { BenchState, Tool } from '../state'
import { evenedView } from './evenedView'
import { gatheredView } from './gatheredView'
import { grownView } from './grownView'
import { neighbourView } from './neighbourView'
import { paintView } from './paintView'
import { pieceView } from './pieceView'
import { plateView } from './plateView'
import { spreadView } from './spreadView'
import { toneView } from './toneView'

export type HandleProps = BenchProps & { removal: Removal; placement: Placement; seen: number }
export type FieldProps = BenchProps & {
  removal: Removal
  source: FillSource
  change: (label: string, f: (x: FillSource) => void) => void
}

/** How a kind of source is shown. */
export interface View {
  /** Ways to add one: made here, or brought in as a file. */
  add: ({ words: string; hint: string } & (
    { label: string; make: (r: Removal, frame: number) => FillSource; then: Partial<BenchState> } | { file: string }
  ))[]
  /** What can be set about one, besides what all have. */
  Fields?: ComponentType<FieldProps>
  /** What else can be done with one, as entries of its menu. */
  Actions?: ComponentType<BenchProps & { removal: Removal; source: FillSource }>
  /** What can be taken hold of on the picture. */
  Handle?: ComponentType<HandleProps & { source: FillSource }>
  /** What takes the pointer on the picture while a tool of its own is in hand. */
  Draw?: ComponentType<HandleProps & { source: FillSource; tool: Tool }>
}

export const views: Record<FillSource['kind'], View> = {
  plate: plateView,
  paint: paintView,
  neighbour: neighbourView,
  piece: pieceView,
  gathered: gatheredView,
  grown: grownView,
  spread: spreadView,
  evened: evenedView,
  tone: toneView,
}
