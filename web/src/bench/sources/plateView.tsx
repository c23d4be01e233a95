import { Check } from '../../ui/controls'
import { Item } from '../../ui/menu'
import { newPlate } from './plate'
import type { FieldProps, View } from './views'

export const plateView: View = {
  add: [
    {
      words: 'Clean plate of this frame',
      hint: 'This frame is painted on and held; the track carries it',
      label: 'New clean plate',
      make: newPlate,
      then: { tool: 'brush', view: 'patch' },
    },
    { words: 'Supplied clean plate (file)', hint: 'This frame, painted in another program', file: 'plate' },
  ],
  Fields: ({ source: s, change }: FieldProps) => (
    <Check
      label="All of its frame counts as clean"
      hint="Not only what is painted: for a thing that passes over what is seen on this frame"
      value={!!s.plate?.whole}
      onChange={(v) =>
        change(v ? 'All of the frame counts' : 'Only paint counts', (x) => {
          if (x.plate) x.plate.whole = v || undefined
        })
      }
    />
  ),
  /** Its frame for another program. */
  Actions: ({ shot, removal: r, source: s }) => {
    const out = (as: string, grain: string) =>
      `/api/shots/${shot.id}/removals/${r.id}/picture?frame=${s.plate?.frame}&source=${s.plate?.picture ? '' : s.id}&as=${as}&grain=${grain}`
    return ['png', 'tiff', 'exr'].flatMap((as) =>
      ['plain', 'less'].map((grain) => (
        <Item
          key={as + grain}
          onClick={() => {
            location.href = out(as, grain)
          }}
        >
          Hand out as {as.toUpperCase()}
          {as === 'exr' ? '' : ', 16 bits'}
          {grain === 'less' ? ', grain reduced' : ''}
        </Item>
      )),
    )
  },
}
