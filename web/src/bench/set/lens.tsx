import { useRef, useState } from 'react'
import { answer, api, type Document } from '../../api/client'
import { useEdit } from '../../api/treatment'
import { Pick } from '../../ui/choice'
import { Button, Check, NumberInput } from '../../ui/controls'
import { send } from '../../ui/files'
import { notify } from '../../ui/notice'
import type { BenchProps } from '../props'
import { bench, useBench } from '../state'
import { Heading } from './heading'

/** What the lens does to straight lines, and how it is found. */
export function Lens({ shot, revision }: BenchProps) {
  const { tool, straight } = useBench()
  const { edit, adopt } = useEdit(shot.id)
  const { lens } = revision.document
  const [terms, setTerms] = useState('1')
  const file = useRef<HTMLInputElement>(null)
  const lines = lens?.lines ?? []
  const change = (label: string, f: (l: NonNullable<Document['lens']>) => void) =>
    void edit(label, (d) => {
      d.lens ??= { size: [shot.width, shot.height], k: [0, 0, 0] }
      f(d.lens)
    })
  const bows = !!lens?.k.some((k) => k !== 0)
  return (
    <section className="flex flex-col gap-2" aria-label="Lens">
      <Heading>Lens</Heading>
      <div className="flex items-center gap-1.5">
        {[0, 1, 2].map((i) => (
          <label
            key={i}
            className="flex min-w-0 items-center gap-1"
            title="What of it is seen at radius 1, half the picture's diagonal: −0.1 brings that a tenth nearer"
          >
            <span className="text-quiet">{`k${i + 1}`}</span>
            <NumberInput
              label={`k${i + 1}`}
              className="w-17"
              value={lens?.k[i] ?? 0}
              min={-2}
              max={2}
              onDone={(v) => change('The lens', (l) => (l.k[i] = v))}
            />
          </label>
        ))}
      </div>
      <div className="flex items-center gap-1.5">
        <span className="text-quiet">Middle</span>
        {[0, 1].map((i) => (
          <NumberInput
            key={i}
            label={i ? 'Principal point, y' : 'Principal point, x'}
            className="w-17"
            value={lens?.centre?.[i] ?? (i ? shot.height : shot.width) / 2}
            min={-4 * shot.width}
            max={5 * shot.width}
            onDone={(v) =>
              change('The principal point', (l) => {
                l.centre ??= [shot.width / 2, shot.height / 2]
                l.centre[i] = v
              })
            }
          />
        ))}
        <span className="text-quiet" title="Width of a pixel beside its height: 2 for an anamorphic lens of 2 : 1">
          squeeze
        </span>
        <NumberInput
          label="Squeeze"
          className="w-13"
          value={lens?.squeeze ?? 1}
          min={0.25}
          max={4}
          onDone={(v) => change('Squeeze', (l) => (l.squeeze = v))}
        />
      </div>
      <div className="flex flex-wrap items-center gap-1.5">
        <Button
          on={tool === 'straightline'}
          title="Click along edges or wires that are straight in the set, near the picture's edges best"
          onClick={() =>
            bench.set({ tool: tool === 'straightline' ? 'look' : 'straightline', playing: false, straight: false })
          }
        >
          {tool === 'straightline' ? 'Drawing…' : 'Draw straight lines'}
        </Button>
        {lines.length > 0 && (
          <>
            <Pick
              label="Terms found by lines"
              value={terms}
              onChange={setTerms}
              options={[
                { value: '1', label: 'k1' },
                { value: '2', label: 'k1 k2' },
              ]}
            />
            <Button
              title="The lens under which these lines are straight"
              onClick={() =>
                void answer(
                  api.POST('/api/shots/{id}/lens/lines', {
                    params: { path: { id: shot.id } },
                    body: { terms: Number(terms) },
                  }),
                )
                  .then((r) => {
                    adopt(r.revision)
                    notify(
                      `The lines are ${r.off.toFixed(2)} px from straight with the lens taken out, ${r.before.toFixed(2)} px without`,
                    )
                  })
                  .catch((e: Error) => notify(e.message))
              }
            >
              {`From ${lines.length === 1 ? 'this line' : `${lines.length} lines`}`}
            </Button>
            <Button
              weight="bare"
              title="Delete the lines that were drawn"
              onClick={() => change('Delete straight lines', (l) => delete l.lines)}
            >
              Delete lines
            </Button>
          </>
        )}
      </div>
      <Check
        label="Show it straight"
        hint="The picture with the lens taken out, for looking"
        value={straight}
        onChange={(v) => bows && bench.set({ straight: v, tool: 'look' })}
      />
      <p className="flex flex-wrap gap-x-3 text-[13px]">
        <span className="text-quiet">ST maps</span>
        {lens && (
          <>
            <a className="text-fern underline" href={`/api/shots/${shot.id}/lens/file?as=out`} download>
              lens out
            </a>
            <a className="text-fern underline" href={`/api/shots/${shot.id}/lens/file?as=in`} download>
              lens in
            </a>
          </>
        )}
        <button type="button" className="text-fern underline" onClick={() => file.current?.click()}>
          bring one in…
        </button>
        <input
          ref={file}
          type="file"
          accept=".exr"
          aria-label="An ST map of a lens"
          className="hidden"
          onChange={(e) => {
            const f = e.target.files?.[0]
            e.target.value = ''
            if (f)
              void send(`/api/shots/${shot.id}/lens/file`, f)
                .then((r) => adopt(r as Parameters<typeof adopt>[0]))
                .catch((x: Error) => notify(x.message))
          }}
        />
      </p>
    </section>
  )
}
