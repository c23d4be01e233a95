import type { FillSource, Stroke } from '../../api/client'
import type { Point } from '../matrix'
import { evened } from './evened'
import { gathered } from './gathered'
import { grown } from './grown'
import { neighbour } from './neighbour'
import { paint } from './paint'
import { piece } from './piece'
import { plate } from './plate'
import { spread } from './spread'
import { tone } from './tone'

type Picture = NonNullable<NonNullable<FillSource['plate']>['picture']>

/**
 * What is known of a kind of source without drawing it. A new kind has a file of its own beside this one, a line here,
 * and one in shown.ts.
 */
export interface Kind {
  /** What it is called. */
  word: string
  /** More about one of them, for the list. */
  note?: (s: FillSource) => string
  /** The object that holds its strokes; none where it cannot be painted on. */
  painted?: (s: FillSource) => { strokes?: Stroke[] } | undefined
  /** The only frame on which it can be painted on. */
  paintedAt?: (s: FillSource) => number
  /** Whether its strokes are painted on every frame anew. */
  travels?: boolean
  picture?: (s: FillSource) => Picture | undefined
  /** Moves what is its own, besides strokes, when a removal is copied to another place. */
  shift?: (s: FillSource, d: Point) => void
  /** Moves it by whole pixels with the arrow keys; false where that means nothing. */
  nudge?: (s: FillSource, frame: number, d: Point) => void
  /** Keys of its own, for the ribbon. */
  keys?: (s: FillSource) => { frame: number }[]
}

export const kinds: Record<FillSource['kind'], Kind> = {
  plate,
  paint,
  neighbour,
  piece,
  gathered,
  grown,
  spread,
  evened,
  tone,
}

const kindOf = (s: FillSource) => kinds[s.kind]

/** The strokes of a source: to look at. */
export const strokesOf = (s: FillSource): Stroke[] => kindOf(s).painted?.(s)?.strokes ?? []

/** The strokes of a source, to be changed; undefined where it cannot be painted on. */
export const strokeList = (s: FillSource): Stroke[] | undefined => {
  const own = kindOf(s).painted?.(s)
  return own && (own.strokes ??= [])
}

export const paintable = (s: FillSource) => !!kindOf(s).painted
export const paintedAt = (s: FillSource) => kindOf(s).paintedAt?.(s)
export const travels = (s: FillSource) => !!kindOf(s).travels
export const pictureOf = (s: FillSource) => kindOf(s).picture?.(s)
