import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { answer, api, type Material, type Schemas } from '../api/client'
import { Select } from '../ui/choice'
import { Button, Field, inputStyle } from '../ui/controls'
import { Sheet } from '../ui/sheet'

type Transfer = Schemas['NewShot']['transfer']
type Primaries = NonNullable<Schemas['NewShot']['primaries']>
type Reading = Schemas['Reading']
type Fields = 'top' | 'bottom' | 'whole'

/** Where own footage goes at first: not among what ships with the application. */
const ownShow = (shows: string[]) => shows.find((s) => s !== 'Winter at Larkmoss') ?? 'My show'

/** Choosing footage from the folders that the server may read, and saying what it is. given is what was sent by the browser. */
export function BringIn({
  open,
  onClose,
  shows,
  given = '',
}: {
  open: boolean
  onClose: () => void
  shows: string[]
  given?: string
}) {
  const [trail, setTrail] = useState<string[]>([]) // the folders gone through, the one shown last
  const path = trail.at(-1) ?? ''
  const [picked, setChosen] = useState('')
  const chosen = picked || given
  const folder = useQuery({
    queryKey: ['folder', path],
    queryFn: () => answer(api.GET('/api/folders', { params: { query: { path } } })),
    enabled: open,
    staleTime: 0,
  })
  const material = useQuery({
    queryKey: ['material', chosen],
    queryFn: () => answer(api.GET('/api/material', { params: { query: { path: chosen } } })),
    enabled: open && chosen !== '',
    staleTime: 0,
    retry: false,
  })
  useEffect(() => {
    if (!open) setChosen('')
  }, [open])
  const go = (to: string[]) => {
    setTrail(to)
    setChosen('')
  }
  const enter = (to: string) => go([...trail, to])
  const facts = (
    <div className="min-w-0">
      {chosen === '' && <p className="text-quiet">Choose a movie or a folder of numbered stills on the left.</p>}
      {material.isFetching && <p className="text-quiet">Looking at it…</p>}
      {material.isError && !material.isFetching && (
        <p role="alert" className="break-words text-clay">
          {material.error.message}
        </p>
      )}
      {material.data?.kind === 'several' && !material.isFetching && (
        <div>
          <p className="mb-2">There are several sequences in it. Which one is the shot?</p>
          <ul className="rounded border border-rule bg-soil p-1" aria-label="Sequences">
            {material.data.sequences?.map((s) => (
              <Entry key={s.path} entry={s} on={false} onClick={() => setChosen(s.path)} />
            ))}
          </ul>
        </div>
      )}
      {material.data && material.data.kind !== 'several' && !material.isFetching && (
        <Facts key={chosen} material={material.data as Material} shows={shows} onDone={onClose} />
      )}
    </div>
  )
  return (
    <Sheet title="Bring in a shot" open={open} onClose={onClose} wide>
      {given ? (
        facts
      ) : (
        <div className="grid grid-cols-2 gap-6">
          <div>
            <div className="mb-2 flex items-center gap-2">
              <Button disabled={path === ''} onClick={() => go(trail.slice(0, -1))}>
                Up
              </Button>
              <span className="truncate font-mono text-[13px] text-quiet" title={path}>
                {path === '' ? 'Folders the server may read' : path.split('/').slice(-2).join(' / ')}
              </span>
            </div>
            <ul className="h-72 overflow-y-auto rounded border border-rule bg-soil p-1">
              {folder.isError && <li className="p-2 text-clay">{folder.error.message}</li>}
              {folder.data?.length === 0 && (
                <li className="p-2 text-quiet">
                  {path === ''
                    ? 'The server was not told of any folder. Start it with --media FOLDER, or drop a folder of yours on the wall.'
                    : 'No folders and no movies here.'}
                </li>
              )}
              {folder.data?.map((e) => (
                <Entry
                  key={e.path}
                  entry={e}
                  on={chosen === e.path}
                  onClick={() => (e.kind === 'movie' || e.stills ? setChosen(e.path) : enter(e.path))}
                  onDoubleClick={() => e.kind === 'folder' && enter(e.path)}
                />
              ))}
            </ul>
            <p className="mt-2 text-[13px] text-quiet">
              A folder with numbered stills is one shot. Double click opens it as a folder. A folder from this computer
              can be dropped on the wall.
            </p>
          </div>
          {facts}
        </div>
      )}
    </Sheet>
  )
}

/** A folder, a movie, or one of several sequences in a folder. */
function Entry({
  entry: e,
  on,
  onClick,
  onDoubleClick,
}: {
  entry: Schemas['Entry']
  on: boolean
  onClick: () => void
  onDoubleClick?: () => void
}) {
  return (
    <li>
      <button
        type="button"
        className={`flex w-full items-baseline justify-between gap-2 rounded-sm px-2 py-1 text-left hover:bg-slab ${on ? 'text-fern' : ''}`}
        onClick={onClick}
        onDoubleClick={onDoubleClick}
      >
        <span className="truncate">
          {e.name}
          {e.kind === 'folder' && '/'}
        </span>
        <span className="shrink-0 text-[13px] text-quiet">
          {e.kind === 'movie' ? 'movie' : e.stills ? `${e.stills} stills` : ''}
        </span>
      </button>
    </li>
  )
}

/** A frame of what is to be brought in, as the code values are said to be meant; the slider goes through it. */
function Look({ material: m, meant }: { material: Material; meant: Record<string, string> }) {
  const [frame, setFrame] = useState(m.first)
  const [told, setTold] = useState('')
  const query = new URLSearchParams({ path: m.path, frame: String(frame), ...meant })
  return (
    <div className="mb-1 flex flex-col gap-1">
      <img
        src={`/api/material/picture?${query}`}
        alt={`Frame ${frame}`}
        // Its room is there before it is: what lies below stays where it is.
        className="max-h-56 w-full rounded border border-rule bg-soil object-contain"
        style={{ aspectRatio: `${m.width * m.aspect} / ${m.height}` }}
        onLoad={() => setTold('')}
        onError={() => setTold(`Frame ${frame} cannot be shown.`)}
      />
      <div className="flex items-center gap-2">
        <input
          type="range"
          aria-label="Frame that is looked at"
          className="flex-1"
          min={m.first}
          max={m.last}
          defaultValue={m.first}
          onPointerUp={(e) => setFrame(Number(e.currentTarget.value))}
          onKeyUp={(e) => setFrame(Number(e.currentTarget.value))}
        />
        <span className="font-mono text-[13px] text-quiet">{frame}</span>
      </div>
      {told && <p className="text-[13px] text-clay">{told}</p>}
    </div>
  )
}

const transfers: { value: Transfer; label: string; hint: string }[] = [
  { value: 'srgb', label: 'sRGB', hint: 'stills and renders for the screen' },
  { value: 'bt709', label: 'BT.709', hint: 'video, as a camera encodes it' },
  { value: 'bt1886', label: 'BT.1886', hint: 'video, as a display shows it' },
  { value: 'gamma22', label: 'Gamma 2.2', hint: 'a plain power' },
  { value: 'gamma24', label: 'Gamma 2.4', hint: 'a plain power' },
  { value: 'gamma26', label: 'Gamma 2.6', hint: 'digital cinema' },
  { value: 'linear', label: 'Linear', hint: 'code values are light' },
  { value: 'acescct', label: 'ACEScct', hint: 'logarithmic, for grading' },
]

const primaries: { value: Primaries; label: string; hint: string }[] = [
  { value: 'bt709', label: 'BT.709', hint: 'sRGB and high definition video' },
  { value: 'p3d65', label: 'P3-D65', hint: 'displays and mastering' },
  { value: 'bt2020', label: 'BT.2020', hint: 'ultra high definition video' },
  { value: 'ap1', label: 'ACES AP1', hint: 'ACEScg and ACEScct' },
  { value: 'ap0', label: 'ACES AP0', hint: 'ACES2065-1, for exchange' },
]

const counted = (n: number, word: string) => `${n} ${word}${n === 1 ? '' : 's'}`

function Facts({ material: m, shows, onDone }: { material: Material; shows: string[]; onDone: () => void }) {
  const queries = useQueryClient()
  const [show, setShow] = useState(ownShow(shows))
  const [name, setName] = useState(m.name.replace(/[^\w .-]/g, '_'))
  const [first, setFirst] = useState(String(m.first))
  const [from, setFrom] = useState(String(m.first))
  const [to, setTo] = useState(String(m.last))
  const [rate, setRate] = useState(m.rate.den === 1 ? String(m.rate.num) : `${m.rate.num}/${m.rate.den}`)
  const [transfer, setTransfer] = useState<Transfer>(m.transfer as Transfer)
  const [primary, setPrimary] = useState<Primaries>(m.primaries as Primaries)
  const [aspect, setAspect] = useState(String(Math.round(m.aspect * 1000) / 1000))
  const [gaps, setGaps] = useState<'hold' | 'close'>('hold')
  const [matrix, setMatrix] = useState(m.matrix)
  const [range, setRange] = useState(m.range)
  const [fields, setFields] = useState<Fields>((m.fields as Fields | undefined) ?? 'whole')
  const [problem, setProblem] = useState('')
  const add = async () => {
    const [num, den = '1'] = rate.split('/')
    const reading: Reading = {}
    if (Number(from) !== m.first) reading.from = Number(from)
    if (Number(to) !== m.last) reading.to = Number(to)
    if (m.gaps.length) reading.gaps = gaps
    if (matrix !== m.matrix && matrix !== 'rgb') reading.matrix = matrix
    if (range !== m.range) reading.range = range
    if (fields !== 'whole') reading.fields = fields
    else if (m.fields) reading.whole = true
    try {
      await answer(
        api.POST('/api/shots', {
          body: {
            show,
            name,
            path: m.path,
            first: Number(first),
            rate: { num: Number(num), den: Number(den) },
            transfer,
            primaries: primary,
            aspect: Number(aspect),
            reading,
          },
        }),
      )
      await queries.invalidateQueries({ queryKey: ['shots'] })
      onDone()
    } catch (e) {
      setProblem((e as Error).message)
    }
  }
  const row = 'grid grid-cols-[5.5rem_1fr] items-center gap-2'
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault()
        void add()
      }}
    >
      <Look
        material={m}
        meant={{
          transfer,
          primaries: primary,
          ...(matrix !== 'rgb' ? { matrix, range } : {}),
        }}
      />
      <p className="mb-1">
        {counted(m.last - m.first + 1 - m.gaps.reduce((n, g) => n + g.last - g.first + 1, 0), 'frame')}, {m.first} to{' '}
        {m.last}
        {m.padding > 1 ? `, ${m.padding} digits` : ''}
        <br />
        {m.width} × {m.height} pixels, {m.float ? (m.depth === 16 ? 'half float' : 'float') : `${m.depth} bit`}
        {m.alpha ? ', with alpha' : ''}
        <br />
        <span className="text-quiet">
          {m.format}
          {m.kind === 'stills' && m.compression
            ? `, ${m.compression === 'none' ? 'not compressed' : m.compression}`
            : ''}
          {m.timecode ? `, from ${m.timecode}` : ''}
        </span>
      </p>
      {m.notes.map((n) => (
        <p key={n} className="text-[13px] text-clay">
          {n}
        </p>
      ))}
      {m.fields && (
        <div className="rounded border border-clay/50 p-2 text-[13px]">
          <p className="mb-1">
            Interlaced, {m.fields === 'top' ? 'upper' : 'lower'} field first (
            {m.fieldsBy === 'measured' ? 'its pictures show it' : 'the file says so'}): each frame holds two moments.
            Taken apart, frame 10 becomes 20 and 21, at twice the rate; it leaves woven again, and lines that are not
            painted on leave as they came.
          </p>
          <Select<Fields>
            label="What to do with interlaced frames"
            value={fields}
            onChange={setFields}
            options={[
              { value: 'top', label: 'Take apart, upper lines first', hint: 'the even ones, counted from 0' },
              { value: 'bottom', label: 'Take apart, lower lines first', hint: 'the odd ones' },
              { value: 'whole', label: 'Its frames are whole', hint: 'you know that it looks interlaced, and is not' },
            ]}
          />
        </div>
      )}
      {m.gaps.length > 0 && (
        <div className="rounded border border-clay/50 p-2 text-[13px]">
          <p className="mb-1">
            Missing:{' '}
            {m.gaps
              .slice(0, 6)
              .map((g) => (g.first === g.last ? g.first : `${g.first} to ${g.last}`))
              .join(', ')}
            {m.gaps.length > 6 ? ', and more' : ''}.
          </p>
          <Select<'hold' | 'close'>
            label="What to do where frames are missing"
            value={gaps}
            onChange={setGaps}
            options={[
              { value: 'hold', label: 'Hold the frame before', hint: 'numbers stay as they are' },
              { value: 'close', label: 'Close the gap', hint: 'what follows gets other numbers' },
            ]}
          />
        </div>
      )}
      <Field label="Show">
        <input className={inputStyle} value={show} onChange={(e) => setShow(e.target.value)} />
      </Field>
      <Field label="Shot">
        <input className={inputStyle} value={name} onChange={(e) => setName(e.target.value)} />
      </Field>
      <div className={row} title="Only this part of the material">
        <span className="text-quiet">Frames</span>
        <span className="flex items-center gap-2">
          <input
            aria-label="From frame"
            className={`${inputStyle} w-20`}
            inputMode="numeric"
            value={from}
            onChange={(e) => {
              if (first === from) setFirst(e.target.value)
              setFrom(e.target.value)
            }}
          />
          <span className="text-quiet">to</span>
          <input
            aria-label="To frame"
            className={`${inputStyle} w-20`}
            inputMode="numeric"
            value={to}
            onChange={(e) => setTo(e.target.value)}
          />
        </span>
      </div>
      <Field label="Number from" hint="The number that the first frame has from now on">
        <input
          aria-label="First frame"
          className={`${inputStyle} w-20`}
          inputMode="numeric"
          value={first}
          onChange={(e) => setFirst(e.target.value)}
        />
      </Field>
      <Field label="Frames/s" hint="A whole number, or a fraction such as 24000/1001">
        <input className={`${inputStyle} w-28`} value={rate} onChange={(e) => setRate(e.target.value)} />
      </Field>
      <div className={row}>
        <span className="text-quiet" title="How code values relate to light, and the colours of red, green and blue">
          Code values
        </span>
        <span className="flex items-center gap-2">
          <Select<Transfer>
            label="How code values relate to light"
            value={transfer}
            onChange={setTransfer}
            options={transfers}
          />
          <span className="text-quiet">primaries</span>
          <Select<Primaries> label="Primaries" value={primary} onChange={setPrimary} options={primaries} />
        </span>
      </div>
      {m.matrix !== 'rgb' && (
        <div className={row}>
          <span className="text-quiet">YCbCr</span>
          <span className="flex gap-2">
            <Select
              label="Matrix of YCbCr"
              value={matrix}
              onChange={setMatrix}
              options={[
                { value: 'bt601', label: 'BT.601' },
                { value: 'bt709', label: 'BT.709' },
                { value: 'bt2020', label: 'BT.2020' },
              ]}
            />
            <Select
              label="Range of YCbCr"
              value={range}
              onChange={setRange}
              options={[
                { value: 'video', label: 'Video range' },
                { value: 'full', label: 'Full range' },
              ]}
            />
          </span>
        </div>
      )}
      <Field label="Pixel aspect" hint="Width to height of a pixel: 1 for square ones">
        <input
          className={`${inputStyle} w-20`}
          inputMode="decimal"
          value={aspect}
          onChange={(e) => setAspect(e.target.value)}
        />
      </Field>
      {problem && (
        <p role="alert" className="text-clay">
          {problem}
        </p>
      )}
      <Button type="submit" weight="main" className="mt-2 self-start">
        Bring in
      </Button>
    </form>
  )
}
