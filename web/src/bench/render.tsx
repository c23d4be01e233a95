import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, api, type Revision, type Schemas, type Shot, type Task } from '../api/client'
import { control, isOpen, stateWords, timeLeft, useTasks } from '../api/tasks'
import { Pick, Select } from '../ui/choice'
import { Button, Check, Field, inputStyle, NumberInput } from '../ui/controls'
import { Progress } from '../ui/progress'
import { Sheet } from '../ui/sheet'
import { useCube } from './cube'
import type { BenchProps } from './props'
import { spansOf } from './stages'

type Wanted = Schemas['DeliverySpec']
type What = Wanted['what']

/** What can be told of each pixel as a share. */
const alphas: { value: What; label: string; hint?: string }[] = [
  { value: 'mattes', label: 'What patches cover' },
  { value: 'marked', label: 'What is marked' },
  { value: 'gathered', label: 'What was gathered', hint: 'where a source through time found the surface' },
  { value: 'found', label: 'Gathered, of what is marked' },
]

const formats: { value: string; label: string; hint?: string }[] = [
  { value: 'plate', label: 'As the plate', hint: 'its format, depth and headers' },
  { value: 'png 8', label: 'PNG, 8 bit' },
  { value: 'png 16', label: 'PNG, 16 bit' },
  { value: 'tiff 8', label: 'TIFF, 8 bit' },
  { value: 'tiff 16', label: 'TIFF, 16 bit' },
  { value: 'dpx 10', label: 'DPX, 10 bit' },
  { value: 'dpx 12', label: 'DPX, 12 bit' },
  { value: 'dpx 16', label: 'DPX, 16 bit' },
  { value: 'exr 16', label: 'OpenEXR, half float', hint: 'holds light' },
  { value: 'exr 32', label: 'OpenEXR, float', hint: 'holds light' },
  { value: 'jpeg 8', label: 'JPEG', hint: 'loses a little' },
]

function target(v: string): Wanted['target'] {
  if (v === 'plate') return undefined
  const [format, depth] = v.split(' ')
  return { format: format as 'png', depth: Number(depth), ...(format === 'exr' ? { float: true } : {}) }
}

/** Rendering frames, patches or mattes, and what was rendered before. */
export function RenderRoom({
  shot,
  revision,
  standings,
}: {
  shot: Shot
  revision: Revision
  standings: BenchProps['standings']
}) {
  const [open, setOpen] = useState(false)
  const renders = useTasks(shot.id).filter((t) => t.kind === 'render')
  const busy = renders.find(isOpen)
  const samples = shot.float ? (shot.depth === 16 ? 'half float' : 'float') : `${shot.depth} bit`
  const [what, setWhat] = useState<What>('clean')
  const [format, setFormat] = useState('plate')
  const [only, setOnly] = useState('')
  const [straight, setStraight] = useState(false)
  const [first, setFirst] = useState(shot.first)
  const [last, setLast] = useState(shot.last)
  const [movies, setMovies] = useState<string[]>(['review'])
  const { cube } = useCube(shot.id)
  const [looked, setLooked] = useState(false)
  const [template, setTemplate] = useState('{shot}_v{version}.{frame}')
  const [problem, setProblem] = useState('')
  const clean = what === 'clean'
  const body: Wanted = { what, template }
  if (target(format)) body.target = target(format)
  if (only) body.removals = [only]
  if (first !== shot.first || last !== shot.last) body.range = { first, last }
  if (what === 'patch' && straight) body.straight = true
  if (clean && movies.length) body.movies = movies as Wanted['movies']
  if (clean && movies.includes('review') && cube?.hash && looked) body.looked = true
  const named = useQuery({
    queryKey: ['render name', shot.id, revision.number, busy?.id, body],
    queryFn: () => answer(api.POST('/api/shots/{id}/render/name', { params: { path: { id: shot.id } }, body })),
    enabled: open,
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  })
  const begin = async () => {
    setProblem('')
    try {
      await answer(api.POST('/api/shots/{id}/render', { params: { path: { id: shot.id } }, body }))
    } catch (e) {
      setProblem((e as Error).message)
    }
  }
  const movie = (kind: string, v: boolean) => setMovies(v ? [...movies, kind] : movies.filter((m) => m !== kind))
  const removals = revision.document.removals
  const row = 'grid grid-cols-[5.5rem_1fr] items-center gap-2'
  return (
    <>
      <Button title="Render frames, patches or mattes" onClick={() => setOpen(true)}>
        {busy ? `Rendering, ${busy.done} of ${busy.total}` : 'Render…'}
      </Button>
      <Sheet title={`Render ${shot.name}`} open={open} onClose={() => setOpen(false)}>
        <div className="mb-4 flex flex-col gap-2">
          <div className={row}>
            <span className="text-quiet">What</span>
            <span>
              <Pick<What>
                label="What to render"
                value={alphas.some((a) => a.value === what) ? 'mattes' : what}
                onChange={setWhat}
                options={[
                  {
                    value: 'clean',
                    label: 'Clean frames',
                    hint: 'The plate with every patch on it. Pixels that no patch touches keep the plate’s own code values',
                  },
                  { value: 'patch', label: 'Patch only', hint: 'The patches with their coverage as alpha' },
                  { value: 'mattes', label: 'Mattes', hint: 'What the patches cover, white on black' },
                ]}
              />
            </span>
          </div>
          {alphas.some((a) => a.value === what) && (
            <div className={row}>
              <span className="text-quiet">Which</span>
              <span>
                <Select label="Which mattes" value={what} onChange={(v) => setWhat(v as What)} options={alphas} />
              </span>
            </div>
          )}
          {removals.length > 1 && (
            <div className={row}>
              <span className="text-quiet">Of</span>
              <span>
                <Select
                  label="Which removals"
                  value={only}
                  onChange={setOnly}
                  options={[
                    { value: '', label: 'All removals together' },
                    ...removals.map((r) => ({ value: r.id, label: r.name })),
                  ]}
                />
              </span>
            </div>
          )}
          <div className={row}>
            <span className="text-quiet">As</span>
            <span className="flex items-center gap-3">
              <Select label="File format" value={format} onChange={setFormat} options={formats} />
              {format === 'plate' && (
                <span className="text-[13px] text-quiet">
                  {shot.format}, {samples}
                  {shot.alpha ? ', alpha' : ''}
                </span>
              )}
            </span>
          </div>
          {what === 'patch' && (
            <div className="pl-24">
              <Check label="Colours not multiplied by alpha" value={straight} onChange={setStraight} />
            </div>
          )}
          <div className={row}>
            <span className="text-quiet">Frames</span>
            <span className="flex items-center gap-2">
              <NumberInput
                label="First frame rendered"
                className="w-20"
                value={first}
                min={shot.first}
                max={last}
                onDone={(v) => setFirst(Math.round(v))}
              />
              <span className="text-quiet">to</span>
              <NumberInput
                label="Last frame rendered"
                className="w-20"
                value={last}
                min={first}
                max={shot.last}
                onDone={(v) => setLast(Math.round(v))}
              />
            </span>
          </div>
          <Field
            label="Names"
            hint="{show}, {shot}, {version}, {revision} and {frame} are filled in. Versions count up: nothing is written over"
          >
            <input
              className={`${inputStyle} font-mono text-[13px]`}
              value={template}
              onChange={(e) => setTemplate(e.target.value)}
            />
          </Field>
          <div className={row}>
            <span className="text-quiet">First file</span>
            {named.error ? (
              <span className="text-clay">{named.error.message}</span>
            ) : (
              <span className="truncate font-mono text-[13px]" title={named.data?.first}>
                {named.data?.first}
                {named.data && named.data.files > 1 ? `, and ${named.data.files - 1} more` : ''}
              </span>
            )}
          </div>
          {clean && (
            <div className={row}>
              <span className="text-quiet">Movies</span>
              <span className="flex gap-4">
                <Check label="Review, H.264" value={movies.includes('review')} onChange={(v) => movie('review', v)} />
                <Check
                  label="Master, FFV1"
                  hint="Without loss"
                  value={movies.includes('master')}
                  onChange={(v) => movie('master', v)}
                />
              </span>
            </div>
          )}
          {clean && cube?.hash && movies.includes('review') && (
            <div className="pl-24">
              <Check
                label={`The review is shown through ${cube.name}`}
                hint="Frames and the master never are"
                value={looked}
                onChange={setLooked}
              />
            </div>
          )}
          <Missing
            removals={removals.filter((r) => !r.off && (!only || r.id === only))}
            {...{ standings, first, last }}
          />
          {problem && (
            <p role="alert" className="text-clay">
              {problem}
            </p>
          )}
          <div className="mt-1 flex items-center gap-3">
            <Button weight="main" onClick={() => void begin()}>
              Render revision {revision.number}
            </Button>
            <a
              className="rounded text-fern underline underline-offset-2"
              href={`/api/shots/${shot.id}/treatment/export`}
              download
            >
              Save the treatment as a file
            </a>
          </div>
        </div>
        <ul className="flex max-h-72 flex-col gap-2 overflow-y-auto">
          {renders.map((t) => (
            <Rendered key={t.id} task={t} />
          ))}
        </ul>
      </Sheet>
    </>
  )
}

/** What of the frames to render leaves as the plate, though something should be removed there. */
function Missing({
  removals,
  standings,
  first,
  last,
}: {
  removals: Revision['document']['removals']
  standings: BenchProps['standings']
  first: number
  last: number
}) {
  const lines = removals.flatMap((r) => {
    const s = standings.get(r.id)
    if (s?.mark.state === 'empty') return [`No patch of ${r.name}: ${s.mark.why}.`]
    return (s?.bare ?? []).flatMap((b) => {
      const frames = b.frames
        .map((f) => ({ first: Math.max(f.first, first), last: Math.min(f.last, last) }))
        .filter((f) => f.first <= f.last)
      if (!frames.length) return []
      return [`No patch of ${r.name} on ${spansOf(frames)}: ${b.why}.`]
    })
  })
  if (!removals.length) lines.push('Nothing is removed yet: all frames leave as the plate.')
  if (!lines.length) return null
  return (
    <ul aria-label="What is missing" className="max-h-24 overflow-y-auto text-[13px] text-clay">
      {lines.map((l) => (
        <li key={l}>{l}</li>
      ))}
    </ul>
  )
}

function Rendered({ task: t }: { task: Task }) {
  const link = 'rounded text-fern underline underline-offset-2'
  return (
    <li className="rounded border border-rule bg-soil px-3 py-2">
      <div className="flex items-baseline justify-between">
        <span>{t.title}</span>
        <span className="text-[13px] text-quiet">{stateWords[t.state]}</span>
      </div>
      {(isOpen(t) || t.state === 'paused') && (
        <div className="mt-1 flex items-center gap-3">
          <Progress label="Frames rendered" done={t.done} total={t.total} />
          <span className="font-mono text-[13px]">
            {t.done} of {t.total}
            {t.rate > 0 && `, ${t.rate.toFixed(1)} frames/s`}
            {timeLeft(t) && `, ${timeLeft(t)}`}
          </span>
          <Button
            weight="bare"
            className="py-0!"
            onClick={() => control(t, t.state === 'paused' ? 'continue' : 'pause')}
          >
            {t.state === 'paused' ? 'Go on' : 'Pause'}
          </Button>
          <Button weight="bare" className="py-0!" onClick={() => control(t, 'cancel')}>
            Cancel
          </Button>
        </div>
      )}
      {t.problem && <p className="text-[13px] break-words text-clay">{t.problem}</p>}
      {t.found && <p className="text-[13px] break-all text-quiet select-text">{t.found}</p>}
      {(t.state === 'failed' || t.state === 'cancelled') && (
        <Button weight="bare" className="py-0!" onClick={() => control(t, 'continue')}>
          Try again
        </Button>
      )}
      {t.state === 'done' && (
        <p className="mt-1 flex gap-4">
          <a className={link} href={`/api/renders/${t.id}/frames`} download>
            Frames (zip)
          </a>
          {t.movies?.split(' ').map((kind) => (
            <a key={kind} className={link} href={`/api/renders/${t.id}/movie?kind=${kind}`} download>
              {kind === 'master' ? 'Master movie' : 'Review movie'}
            </a>
          ))}
          <span className="text-[13px] text-quiet">{t.rate.toFixed(1)} frames/s</span>
        </p>
      )}
    </li>
  )
}
