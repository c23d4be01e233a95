import type { ChangeEvent } from 'react'
import { notify } from './notice'

/** Sends a chosen file to the server and returns its answer; says what was wrong with it otherwise. */
export async function bringIn(e: ChangeEvent<HTMLInputElement>, address: string): Promise<unknown> {
  const file = e.target.files?.[0]
  e.target.value = ''
  if (!file) return null
  try {
    const response = await fetch(address + `&name=${encodeURIComponent(file.name)}`, { method: 'POST', body: file })
    const answer = (await response.json()) as { detail?: string }
    if (response.ok) return answer
    notify(`${file.name}: ${answer.detail ?? response.statusText}`)
  } catch {
    notify('The server does not answer. Try again in a moment.')
  }
  return null
}
