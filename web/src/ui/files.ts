import type { ChangeEvent } from 'react'
import { acting } from '../api/me'
import { notify } from './notice'

/**
 * Sends a chosen file to the server and returns its answer; says what was wrong with it otherwise. Where the server
 * only doubts it, the artist may say that it is meant: anyway names that choice.
 */
export async function bringIn(e: ChangeEvent<HTMLInputElement>, address: string, anyway?: string): Promise<unknown> {
  const file = e.target.files?.[0]
  e.target.value = ''
  if (!file) return null
  try {
    const send = (more: string) =>
      fetch(`${address}&name=${encodeURIComponent(file.name)}${more}`, {
        method: 'POST',
        body: file,
        headers: { ...acting(), 'Content-Type': 'application/octet-stream' },
      })
    const response = await send('')
    const answer = (await response.json()) as { detail?: string }
    if (response.ok) return answer
    if (response.status === 409 && anyway) {
      return new Promise((resolve) => {
        notify(`${file.name}: ${answer.detail}`, {
          words: anyway,
          press: () =>
            void send('&anyway=1')
              .then((r) => (r.ok ? r.json() : null))
              .then(resolve),
        })
      })
    }
    notify(`${file.name}: ${answer.detail ?? response.statusText}`)
  } catch {
    notify('The server does not answer. Try again in a moment.')
  }
  return null
}

/** Sends a file to the server and returns its answer, or throws what was wrong. */
export async function send(address: string, file: File): Promise<unknown> {
  const response = await fetch(address, {
    method: 'POST',
    body: file,
    headers: { ...acting(), 'Content-Type': 'application/octet-stream' },
  })
  const answer = (await response.json()) as { detail?: string }
  if (!response.ok) throw new Error(`${file.name}: ${answer.detail ?? response.statusText}`)
  return answer
}
