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

/** How far a file is: sent, then read, as the server tells. */
export interface Coming {
  words: string
  done: number
  total: number
  cancel: () => void
}

/** Sends a chosen file that is large or takes long to read; told hears how far it is, and null at its end. */
export function bringInSlowly(
  e: ChangeEvent<HTMLInputElement>,
  address: string,
  told: (how: Coming | null) => void,
): Promise<unknown> {
  const file = e.target.files?.[0]
  e.target.value = ''
  if (!file) return Promise.resolve(null)
  return new Promise((resolve) => {
    // Only this way a browser tells how much has been sent.
    const request = new XMLHttpRequest()
    const how = (words: string, done: number, total: number) =>
      told({ words, done, total, cancel: () => request.abort() })
    const end = (found: unknown, wrong?: string) => {
      told(null)
      if (wrong) notify(`${file.name}: ${wrong}`)
      resolve(found)
    }
    request.open('POST', `${address}&name=${encodeURIComponent(file.name)}`)
    for (const [name, value] of Object.entries(acting())) request.setRequestHeader(name, value)
    request.setRequestHeader('Content-Type', 'application/octet-stream')
    request.setRequestHeader('Accept', 'application/x-ndjson')
    const last = () => {
      const lines = request.responseText.split('\n').slice(0, request.readyState === 4 ? undefined : -1)
      const line = lines.filter((l) => l.trim()).at(-1)
      try {
        return line ? (JSON.parse(line) as { done?: number; of?: number; detail?: string }) : null
      } catch {
        return null // not by the server itself, but by something on the way to it
      }
    }
    request.upload.onprogress = (p) => how(`Sending ${file.name}`, p.loaded, p.total)
    request.onprogress = () => {
      const line = request.status === 200 ? last() : null
      if (line?.of) how(`Reading ${file.name}`, line.done ?? 0, line.of)
    }
    request.onload = () => {
      const line = last()
      if (line?.detail) return end(null, line.detail)
      if (!line || line.of || request.status !== 200)
        return end(null, request.statusText || 'the server stopped on the way')
      end(line)
    }
    request.onerror = () => end(null, 'the server does not answer. Try again in a moment.')
    request.onabort = () => end(null)
    how(`Sending ${file.name}`, 0, file.size)
    request.send(file)
  })
}
