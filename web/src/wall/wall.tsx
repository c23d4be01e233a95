import { useQuery, useQueryClient, type QueryClient } from '@tanstack/react-query'
import { Menu, MenuButton, MenuItems } from '@headlessui/react'
import { useEffect, useRef, useState } from 'react'
import { Link } from 'wouter'
import { answer, api, type Schemas, type Shot, type Task } from '../api/client'
import { computed } from '../api/session'
import { fetchBitmap } from '../bench/frames'
import { control, isOpen, timeLeft, useTasks } from '../api/tasks'
import { Select } from '../ui/choice'
import { Button, Find, Text } from '../ui/controls'
import { Leaf } from '../ui/leaf'
import { Item } from '../ui/menu'
import { notify } from '../ui/notice'
import { Progress } from '../ui/progress'
import { Sheet } from '../ui/sheet'
import { bytes, WorkRoom } from '../tasks/room'
import { BringIn } from './bringin'
import { dropped, forget, send, useSending, type Sending } from './upload'

/** The shot wall: every show with its shots. A folder dropped on it is sent to the server and brought in. */
export function Wall() {
  const shots = useQuery({ queryKey: ['shots'], queryFn: () => answer(api.GET('/api/shots')) })
  const tasks = useTasks('')
  const [open, setOpen] = useState(false)
  const [given, setGiven] = useState('')
  const [over, setOver] = useState(false)
  const sending = useSending((s) => s.sending)
  const [find, setFind] = useState('')
  const [order, setOrder] = useState<Order>('name')
  const files = useRef<HTMLInputElement>(null)
  const folder = useRef<HTMLInputElement>(null)
  const all = (shots.data ?? []) as Shot[]
  const wanted = find.trim().toLowerCase()
  const shown = all
    .filter((s) => `${s.show} ${s.name}`.toLowerCase().includes(wanted))
    .sort((a, b) => (order === 'name' ? 0 : b.createdAt.localeCompare(a.createdAt)))
  const shows = Map.groupBy(shown, (s) => s.show)
  const bring = async (given: Promise<{ name: string; files: File[] }>) => {
    try {
      const { name, files } = await given
      const path = await send(name, files)
      if (path) {
        setGiven(path)
        setOpen(true)
      }
    } catch (e) {
      notify((e as Error).message)
    }
  }
  return (
    <main
      className="h-full overflow-y-auto outline-none"
      onDragOver={(e) => {
        e.preventDefault()
        setOver(true)
      }}
      onDragLeave={(e) => {
        if (!e.currentTarget.contains(e.relatedTarget as Node | null)) setOver(false)
      }}
      onDrop={(e) => {
        e.preventDefault()
        setOver(false)
        void bring(dropped(e.dataTransfer.items))
      }}
    >
      <div className="mx-auto max-w-6xl px-8 py-8">
        <header className="mb-8 flex items-center gap-3">
          <Leaf className="h-8 w-8" />
          <h1 className="text-2xl font-semibold">Jardin</h1>
          <span className="flex-1" />
          <WorkRoom />
          <Menu>
            <MenuButton className="rounded border border-stone bg-slab px-2.5 py-1 leading-5 hover:bg-stone">
              From this computer
            </MenuButton>
            <MenuItems
              anchor="bottom end"
              className="z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none"
            >
              <Item onClick={() => folder.current?.click()} hint="numbered stills">
                Choose a folder
              </Item>
              <Item onClick={() => files.current?.click()} hint="a movie, or numbered stills">
                Choose files
              </Item>
            </MenuItems>
          </Menu>
          {[files, folder].map((field, i) => (
            <input
              key={i}
              ref={field}
              type="file"
              multiple
              className="hidden"
              aria-label={i ? 'Folder of stills' : 'Movie or stills'}
              {...(i ? { webkitdirectory: '' } : {})}
              onChange={(e) => {
                const chosen = [...(e.target.files ?? [])]
                e.target.value = ''
                // Of a folder only what lies in it, not in folders within.
                const own = chosen.filter((f) => f.webkitRelativePath.split('/').length <= 2)
                if (own.length)
                  void bring(
                    Promise.resolve({ name: own[0].webkitRelativePath.split('/')[0] || own[0].name, files: own }),
                  )
              }}
            />
          ))}
          <Button
            weight="main"
            onClick={() => {
              setGiven('')
              setOpen(true)
            }}
          >
            Bring in a shot…
          </Button>
        </header>
        {all.length > 1 && (
          <div className="mb-6 flex gap-2">
            <Find label="Find a shot" hint="Find a shot or show" className="w-72" value={find} onChange={setFind} />
            <Select<Order>
              label="Order of the shots"
              value={order}
              onChange={setOrder}
              options={[
                { value: 'name', label: 'By name' },
                { value: 'latest', label: 'Latest first' },
              ]}
            />
          </div>
        )}
        {all.length > 0 && shown.length === 0 && <p className="text-quiet">No shot is called so.</p>}
        {sending.map((s) => (
          <SendingRow key={s.id} sending={s} />
        ))}
        {shots.isError && <p className="text-clay">{shots.error.message}</p>}
        {shots.data?.length === 0 && (
          <p className="max-w-md text-quiet">
            There are no shots yet. Bring in a folder of numbered stills, or a movie, to begin: from this computer (it
            can be dropped here too), or from a folder that the server was told of with --media.
          </p>
        )}
        {[...shows].map(([show, list]) => (
          <section key={show} className="mb-10">
            <h2 className="mb-3 border-b border-rule pb-1 text-quiet">{show}</h2>
            <ul className="grid grid-cols-[repeat(auto-fill,minmax(17rem,1fr))] gap-5">
              {list.map((s) => (
                <ShotCard key={s.id} shot={s} task={tasks.find((t) => t.shotId === s.id && t.kind === 'import')} />
              ))}
            </ul>
          </section>
        ))}
        <Deleted />
      </div>
      {over && (
        <p className="pointer-events-none fixed inset-4 z-20 grid place-items-center rounded-lg border-2 border-dashed border-fern bg-soil/70 text-lg">
          Drop a folder of numbered stills, or a movie
        </p>
      )}
      <BringIn open={open} onClose={() => setOpen(false)} shows={[...new Set(all.map((s) => s.show))]} given={given} />
    </main>
  )
}

type Order = 'name' | 'latest'

const takeBack = (queries: QueryClient, id: string) =>
  answer(api.POST('/api/deleted/{id}', { params: { path: { id } } }))
    .then(() => queries.invalidateQueries({ queryKey: ['deleted'] }))
    .catch((e: Error) => notify(e.message))

/** Shots that were deleted, as long as they can be taken back. */
function Deleted() {
  const queries = useQueryClient()
  const { data } = useQuery({ queryKey: ['deleted'], queryFn: () => answer(api.GET('/api/deleted')) })
  const [sure, setSure] = useState('')
  if (!data?.shots.length) return null
  const left = (s: Shot) =>
    data.days < 0
      ? ''
      : `, for ${Math.max(0, Math.ceil(data.days - (Date.now() - new Date(s.deletedAt!).getTime()) / 86_400_000))} more days`
  const purge = (s: Shot) =>
    answer(api.DELETE('/api/deleted/{id}', { params: { path: { id: s.id } } }))
      .then(() => queries.invalidateQueries({ queryKey: ['deleted'] }))
      .catch((e: Error) => notify(e.message))
  return (
    <section className="mt-10 mb-10" aria-label="Deleted shots">
      <h2 className="mb-3 border-b border-rule pb-1 text-quiet">Deleted</h2>
      <ul className="flex flex-col gap-1">
        {(data.shots as Shot[]).map((s) => (
          <li key={s.id} className="flex items-center gap-3">
            <span className="min-w-0 flex-1 truncate">
              {s.show}, {s.name} <span className="text-[13px] text-quiet">can be taken back{left(s)}</span>
            </span>
            <Button weight="bare" onClick={() => void takeBack(queries, s.id)}>
              Take back
            </Button>
            {sure === s.id ? (
              <Button weight="bare" className="text-clay!" onClick={() => void purge(s)}>
                Remove it with all that was done
              </Button>
            ) : (
              <Button weight="bare" onClick={() => setSure(s.id)}>
                Remove for good…
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  )
}

function SendingRow({ sending: s }: { sending: Sending }) {
  return (
    <div className="mb-4 flex items-center gap-3 rounded-lg border border-rule bg-bed px-3 py-2">
      <span className="max-w-60 truncate">Sending {s.name}</span>
      <Progress label="Bytes sent" done={s.sent} total={s.total} />
      <span className="font-mono text-[13px] text-quiet">
        {bytes(s.sent)} of {bytes(s.total)}
      </span>
      {s.problem && <span className="text-[13px] text-clay">{s.problem}</span>}
      <Button
        weight="bare"
        onClick={() => {
          s.stop()
          forget(s.id)
        }}
      >
        Cancel
      </Button>
    </div>
  )
}

const samples = (s: Shot) => (s.float ? (s.depth === 16 ? 'half float' : 'float') : `${s.depth} bit`)

/** A frame of a shot with all patches on it: the plate until they are there. */
function ResultPicture({ shot, frame }: { shot: Shot; frame: number }) {
  const canvas = useRef<HTMLCanvasElement>(null)
  const plate = `/api/shots/${shot.id}/frames/${frame}/screen?v=${computed()}`
  useEffect(() => {
    if (shot.head === 0) return
    const gone = new AbortController()
    // What is gathered through time would take too long for a wall: a first picture is enough.
    const overlay = `/api/shots/${shot.id}/frames/${frame}/overlay?revision=${shot.head}&view=result&removal=&draft=true&v=${computed()}`
    void Promise.all([plate, overlay].map((url) => fetchBitmap(url, { signal: gone.signal })))
      .then(([below, above]) => {
        const c = canvas.current
        if (!c) return
        c.width = below.bitmap.width
        c.height = below.bitmap.height
        const g = c.getContext('2d')!
        g.drawImage(below.bitmap, 0, 0)
        const [x, y] = (above.place ?? '0 0').split(' ').map(Number)
        g.drawImage(above.bitmap, x, y)
        c.dataset.ready = 'true'
      })
      .catch(() => undefined) // the plate is there
    return () => gone.abort()
  }, [shot.id, shot.head, frame, plate])
  return (
    <span className="relative block">
      <img src={plate} alt="" className="aspect-video w-full object-cover" />
      <canvas
        ref={canvas}
        data-testid="result"
        width={0}
        height={0}
        className="absolute inset-0 aspect-video h-full w-full object-cover"
      />
    </span>
  )
}

/** How far a shot is, in words. */
function HowFar({ shot }: { shot: Shot }) {
  const { data } = useQuery({
    queryKey: ['standings', shot.id, shot.head],
    enabled: shot.head > 0,
    queryFn: () =>
      answer(
        api.GET('/api/shots/{id}/standings', { params: { path: { id: shot.id }, query: { revision: shot.head } } }),
      ),
    staleTime: 60_000,
  })
  const all = (data as Schemas['Standing'][] | undefined) ?? []
  const stages = ['mark', 'follow', 'fill', 'settle', 'guard'] as const
  const looks = all.filter((r) => stages.some((s) => r[s].state === 'look')).length
  const open = all.filter((r) =>
    (['mark', 'follow', 'fill'] as const).some((s) => r[s].state === 'empty' || r[s].state === 'begun'),
  ).length
  if (shot.head > 0 && !data) return <span className="block text-[13px] text-quiet">&nbsp;</span>
  if (!all.length) return <span className="block text-[13px] text-quiet">Nothing is removed yet</span>
  return (
    <span className="block text-[13px] text-quiet">
      {all.length} {all.length === 1 ? 'removal' : 'removals'}
      {open ? `, ${open} begun` : ''}
      {looks ? <span className="text-clay">, {looks} to look at</span> : ''}
      {!open && !looks ? <span className="text-fern">, done</span> : ''}
    </span>
  )
}

function ShotCard({ shot, task }: { shot: Shot; task?: Task }) {
  const [asking, setAsking] = useState(false)
  const queries = useQueryClient()
  const remove = () =>
    answer(api.DELETE('/api/shots/{id}', { params: { path: { id: shot.id } } }))
      .then(() => {
        void queries.invalidateQueries({ queryKey: ['deleted'] })
        notify(`${shot.name} is deleted.`, { words: 'Take it back', press: () => void takeBack(queries, shot.id) })
      })
      .catch((e: Error) => notify(e.message))
      .finally(() => setAsking(false))
  const ask = (
    <Sheet title={`Delete ${shot.name}?`} open={asking} onClose={() => setAsking(false)}>
      <p className="mb-4">
        Its treatment, plates and renders stay for a while: until then it can be taken back from the foot of this wall.
        The footage that it was brought in from is not touched.
      </p>
      <div className="flex justify-end gap-2">
        <Button onClick={() => setAsking(false)}>Keep it</Button>
        <Button className="text-clay" onClick={() => void remove()}>
          Delete {shot.name}
        </Button>
      </div>
    </Sheet>
  )
  const [naming, setNaming] = useState(false)
  const call = (show: string, name: string) =>
    void answer(api.PATCH('/api/shots/{id}', { params: { path: { id: shot.id } }, body: { show, name } }))
      .then(() => queries.invalidateQueries({ queryKey: ['shots'] }))
      .catch((e: Error) => notify(e.message))
  const middle = Math.floor((shot.first + shot.last) / 2)
  const facts = (
    <>
      <span className="flex items-baseline justify-between">
        <span className="text-lg">{shot.name}</span>
        <span className="font-mono text-[13px] text-quiet">
          {shot.first} to {shot.last}
        </span>
      </span>
      <span className="block text-[13px] text-quiet">
        {shot.width} × {shot.height}, {samples(shot)}, {Math.round((shot.rateNum / shot.rateDen) * 1000) / 1000}{' '}
        frames/s
      </span>
    </>
  )
  if (shot.state === 'ready') {
    return (
      <li>
        <Link
          href={`/shots/${shot.id}`}
          className="block overflow-hidden rounded-lg border border-rule bg-bed hover:border-fern"
        >
          <ResultPicture shot={shot} frame={middle} />
          <span className="block px-3 py-2">
            {facts}
            <HowFar shot={shot} />
          </span>
        </Link>
        {naming && (
          <div className="mt-1 grid grid-cols-[3.5rem_1fr] items-center gap-1.5">
            <span className="text-quiet">Shot</span>
            <Text label={`Name of ${shot.name}`} focused value={shot.name} onDone={(v) => call(shot.show, v)} />
            <span className="text-quiet">Show</span>
            <Text label={`Show of ${shot.name}`} value={shot.show} onDone={(v) => call(v, shot.name)} />
          </div>
        )}
        <Button
          weight="bare"
          className="mt-1 text-[13px]"
          aria-label={`Rename ${shot.name}`}
          aria-expanded={naming}
          title="Its name, and the show that it belongs to"
          onClick={() => setNaming(!naming)}
        >
          Rename
        </Button>
        <Button
          weight="bare"
          className="mt-1 text-[13px]"
          aria-label={`Delete… ${shot.name}`}
          onClick={() => setAsking(true)}
        >
          Delete…
        </Button>
        {ask}
      </li>
    )
  }
  return (
    <li className="rounded-lg border border-rule bg-bed px-3 py-2">
      {facts}
      {shot.state === 'failed' ? (
        <>
          <p className="my-2 break-words text-clay">{shot.problem}</p>
          <div className="flex gap-2">
            {task && (
              <Button title="Bring it in again from where it came" onClick={() => control(task, 'continue')}>
                Try again
              </Button>
            )}
            <Button onClick={() => setAsking(true)}>Delete…</Button>
            {ask}
          </div>
        </>
      ) : (
        <div className="my-2">
          <div className="flex items-center gap-3">
            <Progress label="Frames brought in" done={task?.done ?? 0} total={task?.total ?? 1} />
            <span className="font-mono text-[13px] text-quiet">
              {task && task.state !== 'waiting' ? `${task.done} of ${task.total}` : 'waiting'}
            </span>
          </div>
          {task && (
            <div className="mt-1 flex items-center gap-1">
              <span className="flex-1 text-[13px] text-quiet">
                {task.state === 'paused' ? 'Paused' : timeLeft(task)}
              </span>
              {task.state === 'paused' ? (
                <Button weight="bare" onClick={() => control(task, 'continue')}>
                  Go on
                </Button>
              ) : (
                isOpen(task) && (
                  <Button weight="bare" onClick={() => control(task, 'pause')}>
                    Pause
                  </Button>
                )
              )}
              <Button weight="bare" onClick={() => control(task, 'cancel')}>
                Cancel
              </Button>
            </div>
          )}
        </div>
      )}
    </li>
  )
}
