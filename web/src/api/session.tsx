import { useEffect, useState, type FormEvent, type ReactNode } from 'react'
import { Button } from '../ui/controls'
import { Leaf } from '../ui/leaf'
import type { Schemas } from './client'

type Session = Schemas['Session']

let computation = ''
/** Names the program that computes: pictures asked for with it may be kept. */
export const computed = () => computation

async function ask(): Promise<Session> {
  const response = await fetch('/api/session')
  if (!response.ok) throw new Error(`The server answers with ${response.status}.`)
  const session = (await response.json()) as Session
  computation = session.computation
  return session
}

/** Lets in once the server does: asks for its key where it wants one. */
export function Gate({ children }: { children: ReactNode }) {
  const [state, setState] = useState<'asking' | 'locked' | 'open'>('asking')
  const [key, setKey] = useState('')
  const [problem, setProblem] = useState('')
  useEffect(() => {
    let gone = false
    const check = () => {
      ask()
        .then((s) => !gone && (setProblem(''), setState(s.open ? 'open' : 'locked')))
        .catch(() => {
          if (gone) return
          setProblem('The server does not answer. Trying again.')
          setTimeout(check, 1500)
        })
    }
    check()
    // Asked for in the middle, as after the key was changed.
    const locked = () => setState('locked')
    window.addEventListener('jardin-locked', locked)
    return () => {
      gone = true
      window.removeEventListener('jardin-locked', locked)
    }
  }, [])
  const enter = async (e: FormEvent) => {
    e.preventDefault()
    setProblem('')
    const response = await fetch('/api/session', {
      method: 'POST',
      headers: { 'Content-Type': 'application/json' },
      body: JSON.stringify({ key }),
    }).catch(() => null)
    if (!response) return setProblem('The server does not answer. Try again in a moment.')
    if (!response.ok)
      return setProblem(
        response.status === 403
          ? 'This is not the key. After many tries, wait for a minute.'
          : (((await response.json()) as { detail?: string }).detail ?? response.statusText),
      )
    computation = ((await response.json()) as Session).computation
    setKey('')
    setState('open')
  }
  if (state === 'open') return children
  return (
    <main className="grid h-full place-items-center p-8">
      <form className="w-full max-w-sm rounded-lg border border-rule bg-bed p-6" onSubmit={(e) => void enter(e)}>
        <h1 className="mb-4 flex items-center gap-3 text-2xl font-semibold">
          <Leaf className="h-8 w-8" /> Jardin
        </h1>
        {state === 'locked' && (
          <>
            <label className="mb-1 block" htmlFor="key">
              This server’s key
            </label>
            <input
              id="key"
              type="password"
              autoFocus
              autoComplete="current-password"
              className="mb-2 w-full rounded border border-stone bg-soil px-2 py-1 font-mono"
              value={key}
              onChange={(e) => setKey(e.target.value)}
            />
            <p className="mb-4 text-[13px] text-quiet">
              Whoever started the server was shown it, and has it in a file. This browser asks for it once.
            </p>
          </>
        )}
        {problem && (
          <p role="alert" className="mb-3 text-clay">
            {problem}
          </p>
        )}
        {state === 'locked' ? (
          <Button weight="main" type="submit" className="w-full" disabled={!key.trim()}>
            Enter
          </Button>
        ) : (
          !problem && <p className="text-quiet">Opening…</p>
        )}
      </form>
    </main>
  )
}
