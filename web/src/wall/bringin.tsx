import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { answer, api, type Material, type Schemas } from '../api/client'
import { Select } from '../ui/choice'
import { Button, Field, inputStyle } from '../ui/controls'
import { Sheet } from '../ui/sheet'

type Transfer = Schemas['NewShot']['transfer']

/** Choosing footage from the folders that the server may read, and saying what it is. */
export function BringIn({ open, onClose, shows }: { open: boolean; onClose: () => void; shows: string[] }) {
  const [trail, setTrail] = useState<string[]>([]) // the folders gone through, the one shown last
  const path = trail.at(-1) ?? ''
  const [chosen, setChosen] = useState('')
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
  return (
    <Sheet title="Bring in a shot" open={open} onClose={onClose} wide>
      <div className="grid grid-cols-2 gap-6">
        <div>
          <div className="mb-2 flex items-center gap-2">
            <Button disabled={path === ''} onClick={() => go(trail.slice(0, -1))}>Up</Button>
            <span className="truncate font-mono text-[13px] text-quiet" title={path}>{path === '' ? 'Folders the server may read' : path.split('/').slice(-2).join(' / ')}</span>
          </div>
          <ul className="h-72 overflow-y-auto rounded border border-rule bg-soil p-1">
            {folder.isError && <li className="p-2 text-clay">{folder.error.message}</li>}
            {folder.data?.length === 0 && <li className="p-2 text-quiet">{path === '' ? 'The server was not told of any folder. Start it with --media FOLDER.' : 'No folders and no movies here.'}</li>}
            {folder.data?.map((e) => (
              <li key={e.path}>
                <button
                  type="button"
                  className={`flex w-full items-baseline justify-between gap-2 rounded-sm px-2 py-1 text-left hover:bg-slab ${chosen === e.path ? 'text-fern' : ''}`}
                  onClick={() => (e.kind === 'movie' || e.stills ? setChosen(e.path) : enter(e.path))}
                  onDoubleClick={() => e.kind === 'folder' && enter(e.path)}
                >
                  <span className="truncate">{e.name}{e.kind === 'folder' && '/'}</span>
                  <span className="shrink-0 text-[13px] text-quiet">{e.kind === 'movie' ? 'movie' : e.stills ? `${e.stills} stills` : ''}</span>
                </button>
              </li>
            ))}
          </ul>
          <p className="mt-2 text-[13px] text-quiet">A folder with numbered stills is one shot. Double click opens it as a folder.</p>
        </div>
        <div>
          {chosen === '' && <p className="text-quiet">Choose a movie or a folder of numbered stills on the left.</p>}
          {material.isFetching && <p className="text-quiet">Looking at it…</p>}
          {material.isError && !material.isFetching && <p role="alert" className="text-clay">{material.error.message}</p>}
          {material.data && !material.isFetching && <Facts key={chosen} material={material.data as Material} shows={shows} onDone={onClose} />}
        </div>
      </div>
    </Sheet>
  )
}

function Facts({ material: m, shows, onDone }: { material: Material; shows: string[]; onDone: () => void }) {
  const queries = useQueryClient()
  const [show, setShow] = useState(shows[0] ?? 'My show')
  const [name, setName] = useState(m.name)
  const [first, setFirst] = useState(String(m.first))
  const [rate, setRate] = useState(m.rate.den === 1 ? String(m.rate.num) : `${m.rate.num}/${m.rate.den}`)
  const [transfer, setTransfer] = useState<Transfer>(m.kind === 'movie' ? 'bt709' : 'srgb')
  const [problem, setProblem] = useState('')
  const add = async () => {
    const [num, den = '1'] = rate.split('/')
    try {
      await answer(api.POST('/api/shots', { body: { show, name, path: m.path, first: Number(first), rate: { num: Number(num), den: Number(den) }, transfer } }))
      await queries.invalidateQueries({ queryKey: ['shots'] })
      onDone()
    } catch (e) {
      setProblem((e as Error).message)
    }
  }
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault()
        void add()
      }}
    >
      <p className="mb-1">
        {m.last - m.first + 1} frames, {m.first} to {m.last}<br />
        {m.width} × {m.height} pixels, {m.depth} bit<br />
        <span className="text-quiet">{m.format}</span>
      </p>
      <Field label="Show"><input className={inputStyle} value={show} onChange={(e) => setShow(e.target.value)} /></Field>
      <Field label="Shot"><input className={inputStyle} value={name} onChange={(e) => setName(e.target.value)} /></Field>
      <Field label="First frame"><input className={inputStyle} inputMode="numeric" value={first} onChange={(e) => setFirst(e.target.value)} /></Field>
      <Field label="Frames/s" hint="A whole number, or a fraction such as 24000/1001"><input className={inputStyle} value={rate} onChange={(e) => setRate(e.target.value)} /></Field>
      <div className="grid grid-cols-[5.5rem_1fr] items-center gap-2">
        <span className="text-quiet">Code values</span>
        <Select<Transfer>
          label="How code values relate to light"
          value={transfer}
          onChange={setTransfer}
          options={[
            { value: 'srgb', label: 'sRGB', hint: 'stills and renders for the screen' },
            { value: 'bt709', label: 'BT.709', hint: 'video' },
            { value: 'linear', label: 'Linear', hint: 'code values are light' },
          ]}
        />
      </div>
      {problem && <p role="alert" className="text-clay">{problem}</p>}
      <Button type="submit" weight="main" className="mt-2 self-start">Bring in</Button>
    </form>
  )
}
