import { useQuery } from '@tanstack/react-query'
import { answer, api } from '../../api/client'
import { Pick, Select } from '../../ui/choice'
import { NumberField } from '../../ui/controls'
import { useBench } from '../state'
import { newGathered } from './gathered'
import type { FieldProps, View } from './views'

export const gatheredView: View = {
  add: [
    {
      words: 'Through time',
      hint: 'The surface as it is seen on the frames around',
      label: 'New source through time',
      make: newGathered,
      then: { tool: 'look', view: 'result' },
    },
  ],
  Fields,
}

function Fields(props: FieldProps) {
  const { revision, removal: r, source: s, change } = props
  const frame = useBench((b) => b.frame)
  const g = s.gathered
  if (!g) return null
  const tracks = revision.document.tracks
  return (
    <>
      <Pick<'held' | 'live'>
        label="How it is made"
        value={g.live ? 'live' : 'held'}
        onChange={(v) =>
          change(v === 'live' ? 'Make it on every frame' : 'Make it once', (x) => {
            x.gathered =
              v === 'live' ? { ...g, live: true, frame: undefined } : { ...g, live: undefined, frame: r.reference }
          })
        }
        options={[
          { value: 'held', label: 'Once', hint: 'One clean plate, carried to all frames; Settle makes it sit' },
          {
            value: 'live',
            label: 'On every frame',
            hint: 'Of the frames around each: light and slow change come along',
          },
        ]}
      />
      {!g.live && (
        <NumberField
          label="On frame"
          unit=""
          hint="The frame on which the clean plate is made"
          value={g.frame ?? r.reference}
          min={r.range.first}
          max={r.range.last}
          onDone={(v) =>
            change('Frame of a clean plate', (x) => {
              if (x.gathered) x.gathered.frame = Math.round(v)
            })
          }
        />
      )}
      <NumberField
        label="Looks at"
        unit="fr"
        hint="Frames before and after that are looked at: enough that what is hidden on one is seen on others"
        value={g.over}
        min={1}
        max={200}
        onDone={(v) =>
          change('Frames looked at', (x) => {
            if (x.gathered) x.gathered.over = Math.round(v)
          })
        }
      />
      <NumberField
        label="Light over"
        unit="px"
        hint="Light of the frames is made equal over areas of this size: smaller ones follow shadows, larger ones are surer"
        value={g.scale ?? 40}
        min={4}
        max={200}
        onDone={(v) =>
          change('Scale of the light', (x) => {
            if (x.gathered) x.gathered.scale = v
          })
        }
      />
      {tracks.length > 1 && (
        <Select<string>
          label="The track that carries the frames"
          value={g.track ?? ''}
          onChange={(v) =>
            change('Track of a source', (x) => {
              if (x.gathered) x.gathered.track = v || undefined
            })
          }
          options={[
            { value: '', label: 'The removal’s own track' },
            ...tracks.map((t) => ({ value: t.id, label: t.name })),
          ]}
        />
      )}
      <Seen {...props} frame={frame} />
    </>
  )
}

/** How much of what is marked is seen on some frame. */
function Seen({ shot, revision, removal: r, source: s, frame }: FieldProps & { frame: number }) {
  const { data, error } = useQuery({
    queryKey: ['seen', shot.id, revision.number, r.id, s.id, frame],
    queryFn: () =>
      answer(
        api.GET('/api/shots/{id}/seen/{removal}/{source}', {
          params: { path: { id: shot.id, removal: r.id, source: s.id }, query: { revision: revision.number, frame } },
        }),
      ),
    placeholderData: (old) => old,
    gcTime: 60_000,
    retry: 1,
  })
  if (!data || error) return null
  return (
    <p className="text-[13px] text-quiet" role="status" data-testid="seen">
      {data.words}
    </p>
  )
}
