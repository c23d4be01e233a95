import { useInfiniteQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, api, type Revision, type Schemas, type Shot } from '../api/client'
import { useName } from '../api/me'
import { computed } from '../api/session'
import { useEdit } from '../api/treatment'
import { Button, Text } from '../ui/controls'
import { Sheet } from '../ui/sheet'
import { useBench } from './state'

type State = Schemas['State']

const page = 100

/** All states of the treatment: who made each, when, and what was done; look at one, go back to one. */
export function History({ shot, revision }: { shot: Shot; revision: Revision }) {
  const [open, setOpen] = useState(false)
  return (
    <>
      <Button
        weight="bare"
        title="All states of this shot: look at one, or go back to one"
        onClick={() => setOpen(true)}
      >
        History
      </Button>
      <Sheet title="History" open={open} onClose={() => setOpen(false)} wide>
        {open && <States shot={shot} revision={revision} onClose={() => setOpen(false)} />}
      </Sheet>
    </>
  )
}

function States({ shot, revision, onClose }: { shot: Shot; revision: Revision; onClose: () => void }) {
  const { goBack } = useEdit(shot.id)
  const frame = useBench((s) => s.frame)
  const [looked, setLooked] = useState<number | null>(null)
  const { data, hasNextPage, fetchNextPage, error } = useInfiniteQuery({
    queryKey: ['history', shot.id, revision.number],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET('/api/shots/{id}/history', {
          params: { path: { id: shot.id }, query: { before: pageParam, limit: page } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last: State[]) => (last.length === page ? last[last.length - 1].number : undefined),
  })
  const states = data?.pages.flat() ?? []
  const shown = looked ?? revision.number
  const one = states.find((s) => s.number === shown)
  return (
    <div className="grid grid-cols-[22rem_1fr] gap-5">
      <div className="min-h-0">
        <Who />
        {error && <p className="text-clay">{error.message}</p>}
        <ol className="flex max-h-[26rem] flex-col gap-0.5 overflow-y-auto" aria-label="States">
          {states.map((s, i) => (
            <li key={s.number}>
              {day(s) !== (states[i - 1] && day(states[i - 1])) && (
                <p className="mt-2 mb-0.5 text-[13px] text-quiet">{day(s)}</p>
              )}
              <button
                type="button"
                aria-current={s.number === shown}
                onClick={() => setLooked(s.number)}
                className={`flex w-full items-baseline gap-2 rounded px-2 py-0.5 text-left -outline-offset-2 hover:bg-slab ${s.number === shown ? 'bg-slab' : ''}`}
              >
                <span className="w-8 text-right font-mono text-[13px] text-quiet">{s.number}</span>
                <span className="min-w-0 flex-1 truncate">{s.label}</span>
                {s.inForce && <span className="rounded bg-moss px-1.5 text-[13px] text-white">now</span>}
                <span className="text-[13px] whitespace-nowrap text-quiet">
                  {s.own ? 'you' : s.author || '—'}, {time(s)}
                </span>
              </button>
            </li>
          ))}
        </ol>
        {hasNextPage && (
          <Button weight="bare" className="mt-1" onClick={() => void fetchNextPage()}>
            Earlier states
          </Button>
        )}
      </div>
      {one && (
        <div className="flex min-w-0 flex-col gap-3">
          <Look shot={shot} number={shown} frame={frame} />
          <p className="text-quiet">
            Frame {frame} in state {one.number}, “{one.label}”{one.author ? `, by ${one.author}` : ''}
            {one.before !== undefined && one.before !== one.number - 1 ? `, made from state ${one.before}` : ''}.
          </p>
          <div className="flex items-center gap-3">
            <Button
              weight="main"
              disabled={one.inForce}
              title="It becomes a new state: nothing of what came after it is lost"
              onClick={() => {
                void goBack(one.number)
                onClose()
              }}
            >
              Go back to this state
            </Button>
            {one.inForce && <span className="text-quiet">This is the state in force.</span>}
          </div>
        </div>
      )}
    </div>
  )
}

/** A frame as it was in a state: the plate with what lay on it. */
function Look({ shot, number, frame }: { shot: Shot; number: number; frame: number }) {
  const [place, setPlace] = useState<{ key: string; url: string; x: number; y: number; w: number; h: number } | null>(
    null,
  )
  const [failed, setFailed] = useState('')
  const key = `${number} ${frame}`
  if (place?.key !== key && failed !== key) void load()
  async function load() {
    setFailed(key) // asked for once
    const response = await fetch(
      `/api/shots/${shot.id}/frames/${frame}/overlay?revision=${number}&view=result&v=${computed()}`,
    ).catch(() => null)
    if (!response?.ok) return
    const blob = await response.blob()
    const bitmap = await createImageBitmap(blob)
    const [x, y] = (response.headers.get('Jardin-Place') ?? '0 0').split(' ').map(Number)
    setPlace((old) => {
      if (old) URL.revokeObjectURL(old.url)
      return { key, url: URL.createObjectURL(blob), x, y, w: bitmap.width, h: bitmap.height }
    })
    bitmap.close()
  }
  const share = (v: number, of: number) => `${(100 * v) / of}%`
  return (
    <div
      className="relative overflow-hidden rounded border border-rule bg-black"
      style={{ aspectRatio: `${shot.width * (shot.aspect || 1)} / ${shot.height}` }}
    >
      <img
        alt={`Frame ${frame} in state ${number}`}
        src={`/api/shots/${shot.id}/frames/${frame}/screen?v=${computed()}`}
        className="absolute inset-0 h-full w-full"
      />
      {place?.key === key && (
        <img
          alt=""
          src={place.url}
          className="absolute"
          style={{
            left: share(place.x, shot.width),
            top: share(place.y, shot.height),
            width: share(place.w, shot.width),
            height: share(place.h, shot.height),
          }}
        />
      )}
    </div>
  )
}

/** The name that others see beside what is done here. */
function Who() {
  const { name, set } = useName()
  return (
    <label className="mb-3 flex items-center gap-2" title="Others see it beside what you do; this browser keeps it">
      <span className="text-quiet">Your name</span>
      <Text label="Your name" className="flex-1" value={name} onDone={(v) => set(v.slice(0, 80))} />
    </label>
  )
}

const day = (s: State) =>
  new Date(s.createdAt).toLocaleDateString(undefined, { weekday: 'long', day: 'numeric', month: 'long' })
const time = (s: State) => new Date(s.createdAt).toLocaleTimeString(undefined, { hour: 'numeric', minute: '2-digit' })
