import { Pick } from '../../ui/choice'
import { NumberField } from '../../ui/controls'
import { newSpread } from './spread'
import type { FieldProps, View } from './views'

export const spreadView: View = {
  add: [
    {
      words: 'Spread from the edge',
      hint: 'What lies around goes on inwards: small marks, far away',
      label: 'New spread from the edge',
      make: newSpread,
      then: { tool: 'look', view: 'result' },
    },
  ],
  Fields,
}

function Fields({ removal: r, source: s, change }: FieldProps) {
  const g = s.spread
  if (!g) return null
  return (
    <>
      <Pick<'even' | 'edges'>
        label="How it goes on"
        value={g.edges ? 'edges' : 'even'}
        onChange={(v) =>
          change(v === 'edges' ? 'Along edges' : 'Evenly', (x) => {
            if (x.spread) x.spread.edges = v === 'edges' || undefined
          })
        }
        options={[
          { value: 'even', label: 'Evenly' },
          { value: 'edges', label: 'Along edges', hint: 'Lines that come to the edge go on' },
        ]}
      />
      <Pick<'held' | 'live'>
        label="How it is made"
        value={g.live ? 'live' : 'held'}
        onChange={(v) =>
          change(v === 'live' ? 'Make it on every frame' : 'Make it once', (x) => {
            x.spread =
              v === 'live'
                ? { ...g, live: true, frame: undefined, over: 2 }
                : { ...g, live: undefined, over: undefined, frame: r.reference }
          })
        }
        options={[
          { value: 'held', label: 'Once', hint: 'On one frame, carried to all; Settle makes it sit' },
          { value: 'live', label: 'On every frame', hint: 'From each frame’s own edge: light comes along' },
        ]}
      />
      {g.live ? (
        <NumberField
          label="Steadied"
          unit="fr"
          hint="Over so many frames before and after it is averaged along the track"
          value={g.over ?? 0}
          min={0}
          max={12}
          onDone={(v) =>
            change('How it is steadied', (x) => {
              if (x.spread) x.spread.over = Math.round(v) || undefined
            })
          }
        />
      ) : (
        <NumberField
          label="On frame"
          unit=""
          hint="The frame on which it is made"
          value={g.frame ?? r.reference}
          min={r.range.first}
          max={r.range.last}
          onDone={(v) =>
            change('Frame of what is spread', (x) => {
              if (x.spread) x.spread.frame = Math.round(v)
            })
          }
        />
      )}
    </>
  )
}
