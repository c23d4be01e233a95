import { Pick } from '../../ui/choice'
import { NumberField } from '../../ui/controls'
import { newEvened } from './evened'
import type { FieldProps, View } from './views'

type Takes = 'coarse' | 'fine' | 'blur'

export const evenedView: View = {
  add: [
    {
      words: 'Evened out',
      hint: 'The frame’s own pixels: a stain goes and the texture stays, or the other way round',
      label: 'New evened out',
      make: newEvened,
      then: { tool: 'look', view: 'result' },
    },
  ],
  Fields,
}

function Fields({ source: s, change }: FieldProps) {
  const g = s.evened
  if (!g) return null
  return (
    <>
      <Pick<Takes>
        label="What goes"
        value={g.takes}
        onChange={(v) =>
          change('What is evened out', (x) => {
            if (x.evened) x.evened.takes = v
          })
        }
        options={[
          { value: 'coarse', label: 'Stains', hint: 'Differences larger than the size go, texture and grain stay' },
          { value: 'fine', label: 'Wrinkles', hint: 'Faint texture smaller than the size goes, light and edges stay' },
          { value: 'blur', label: 'All detail', hint: 'A plain blur' },
        ]}
      />
      <NumberField
        label="Size"
        unit="px"
        hint="What is larger is coarse, what is smaller is fine"
        value={g.scale}
        min={0.5}
        max={100}
        step={0.5}
        onDone={(v) =>
          change('Size of what is evened out', (x) => {
            if (x.evened) x.evened.scale = v
          })
        }
      />
      <NumberField
        label="Strength"
        unit="%"
        hint="How much of it goes"
        value={Math.round(100 * g.amount)}
        min={0}
        max={100}
        onDone={(v) =>
          change('Strength of evening out', (x) => {
            if (x.evened) x.evened.amount = v / 100
          })
        }
      />
    </>
  )
}
