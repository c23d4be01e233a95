import { confirmedOf } from '../../api/treatment'
import { useQuery } from '@tanstack/react-query'
import { answer, api } from '../../api/client'
import { Pick, Select } from '../../ui/choice'
import { Button, Check, NumberField } from '../../ui/controls'
import { bench, useBench } from '../state'
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
  const { shot, revision, removal: r, source: s, change } = props
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
      <Pick<'mean' | 'seen'>
        label="How frames are joined"
        value={g.asSeen ? 'seen' : 'mean'}
        onChange={(v) =>
          change(v === 'seen' ? 'Join as seen' : 'Join averaged', (x) => {
            if (x.gathered) x.gathered.asSeen = v === 'seen' || undefined
          })
        }
        options={[
          {
            value: 'mean',
            label: 'Averaged',
            hint: 'What passes over once does not count; grain falls, and Settle lays it again',
          },
          {
            value: 'seen',
            label: 'As seen',
            hint: 'Each place from one real frame, of the fewest and best, along seams that show least; grain stays real',
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
      <NumberField
        label="At most"
        unit="fr"
        hint="So many frames are taken at most; 0 for as many as are needed"
        value={g.most ?? 0}
        min={0}
        max={96}
        onDone={(v) =>
          change('Frames taken at most', (x) => {
            if (x.gathered) x.gathered.most = Math.round(v) || undefined
          })
        }
      />
      <Check
        label="Only frames of a range"
        hint="Frames before and after it are not looked at"
        value={!!g.between}
        onChange={(v) =>
          change(v ? 'Only frames of a range' : 'All frames', (x) => {
            if (x.gathered) x.gathered.between = v ? { first: r.range.first, last: r.range.last } : undefined
          })
        }
      />
      {g.between && (
        <div className="flex gap-2">
          {(['first', 'last'] as const).map((end) => (
            <NumberField
              key={end}
              label={end === 'first' ? 'From' : 'To'}
              unit=""
              hint="In the plate’s numbers"
              value={g.between![end]}
              min={shot.first}
              max={shot.last}
              onDone={(v) =>
                change('Range of frames', (x) => {
                  const b = x.gathered?.between
                  if (!b) return
                  b[end] = Math.round(v)
                  if (b.last < b.first) b[end === 'first' ? 'last' : 'first'] = b[end]
                })
              }
            />
          ))}
        </div>
      )}
      <Check
        label="Everything counts"
        hint="What is marked is not left out either: averages what does not stay with the surface, such as moiré or flicker"
        value={!!g.everything}
        onChange={(v) =>
          change(v ? 'Everything counts' : 'Mattes are left out', (x) => {
            if (x.gathered) x.gathered.everything = v || undefined
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
  const view = useBench((b) => b.view)
  const { data, error } = useQuery({
    queryKey: ['seen', shot.id, revision.number, r.id, s.id, frame],
    queryFn: () =>
      answer(
        api.GET('/api/shots/{id}/seen/{removal}/{source}', {
          params: { path: { id: shot.id, removal: r.id, source: s.id }, query: { revision: revision.number, frame } },
        }),
      ),
    enabled: confirmedOf(revision).removals.some((x) => x.id === r.id && x.fill.sources.some((y) => y.id === s.id)),
    placeholderData: (old) => old,
    gcTime: 60_000,
    retry: 1,
  })
  if (!data || error) return null
  return (
    <>
      <p className="text-[13px] text-quiet" role="status" data-testid="seen">
        {data.words}
      </p>
      <Button
        on={view === 'seen'}
        title="Tints on the picture what no frame shows, and where frames do not agree"
        onClick={() => bench.set({ view: view === 'seen' ? 'result' : 'seen' })}
      >
        Show what is never seen
      </Button>
    </>
  )
}
