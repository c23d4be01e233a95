import { useQueryClient } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { answer, api, type Shot } from '../api/client'
import { acting } from '../api/me'
import { Pick } from '../ui/choice'
import { Button } from '../ui/controls'
import { notify } from '../ui/notice'
import { cubeKey, useCube } from './cube'

/** The .cube file through which the picture is shown, of the shot or of its show. */
export function ShownThrough({ shot }: { shot: Shot }) {
  const { cube } = useCube(shot.id)
  const [wanted, setWanted] = useState<'show' | 'shot'>('show')
  const file = useRef<HTMLInputElement>(null)
  const queries = useQueryClient()
  const now = () => void queries.invalidateQueries({ queryKey: cubeKey(shot.id) })
  const choose = async (f: File | undefined) => {
    if (!f) return
    try {
      const response = await fetch(`/api/shots/${shot.id}/cube?for=${wanted}&name=${encodeURIComponent(f.name)}`, {
        method: 'PUT',
        body: f,
        headers: { ...acting(), 'Content-Type': 'application/octet-stream' },
      })
      if (response.ok) return now()
      const said = (await response.json()) as { detail?: string }
      notify(said.detail ?? response.statusText)
    } catch {
      notify('The server does not answer. Try again in a moment.')
    }
  }
  const drop = (of: 'show' | 'shot') =>
    void answer(api.DELETE('/api/shots/{id}/cube', { params: { path: { id: shot.id }, query: { for: of } } }))
      .then(now)
      .catch((e: Error) => notify(e.message))
  return (
    <div role="group" aria-label="Shown through" className="flex flex-col gap-2 border-t border-rule pt-2.5">
      <p className="flex items-baseline gap-2">
        <span className="text-quiet">Shown through</span>
        <span className="min-w-0 flex-1 truncate" title={cube?.name}>
          {cube?.hash
            ? `${cube.name}${cube.for === 'show' ? `, as all of ${shot.show}` : ', this shot alone'}`
            : cube?.for === 'shot'
              ? 'nothing, unlike its show'
              : 'nothing: as an sRGB screen shows it'}
        </span>
      </p>
      <div className="flex flex-wrap items-center gap-1.5">
        <Pick<'show' | 'shot'>
          label="Whose table it is"
          value={wanted}
          onChange={setWanted}
          options={[
            { value: 'show', label: 'The show', hint: `All shots of ${shot.show} that have none of their own` },
            { value: 'shot', label: 'This shot' },
          ]}
        />
        <Button
          title="A table of curves or a grid (1D, 3D) that takes code values to the screen. For looking: nothing that is rendered goes through it, but the movie for review if that asks for it"
          onClick={() => file.current?.click()}
        >
          Choose a .cube file…
        </Button>
        {(cube?.hash || cube?.for === 'shot') && (
          <Button weight="bare" onClick={() => drop(cube.for === 'shot' ? 'shot' : wanted)}>
            {!cube.hash ? 'As the show' : cube.for === 'shot' || wanted === 'show' ? 'Take off' : 'Not for this shot'}
          </Button>
        )}
        <input
          ref={file}
          type="file"
          accept=".cube"
          aria-label="A .cube file"
          className="hidden"
          onChange={(e) => {
            void choose(e.target.files?.[0])
            e.target.value = ''
          }}
        />
      </div>
    </div>
  )
}
