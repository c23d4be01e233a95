import { create } from 'zustand'
import { answer, api, Refusal, type Schemas } from '../api/client'
import { acting } from '../api/me'

type Upload = Schemas['Upload']

/** Footage that is being sent. */
export interface Sending {
  id: string
  name: string
  sent: number
  total: number
  problem: string
  stop: () => void
}

export const useSending = create<{ sending: Sending[] }>(() => ({ sending: [] }))

const put = (one: Sending) =>
  useSending.setState(({ sending }) => ({ sending: [...sending.filter((s) => s.id !== one.id), one] }))
export const forget = (id: string) =>
  useSending.setState(({ sending }) => ({ sending: sending.filter((s) => s.id !== id) }))

const wanted = /(\d+\.(png|jpe?g|tiff?|exr|dpx)|\.(mov|mp4|m4v|mkv|avi|mxf|webm))$/i
const piece = 8 << 20

/** The files that something dropped holds: those of a folder, or files themselves; with the folder's name. */
export async function dropped(items: DataTransferItemList): Promise<{ name: string; files: File[] }> {
  const entries = [...items].map((i) => i.webkitGetAsEntry()).filter((e) => e !== null)
  const files: File[] = []
  let name = ''
  const read = async (entry: FileSystemEntry) => {
    if (entry.isFile) {
      files.push(await new Promise<File>((done, fail) => (entry as FileSystemFileEntry).file(done, fail)))
      return
    }
    name ||= entry.name
    const reader = (entry as FileSystemDirectoryEntry).createReader()
    for (;;) {
      // A reader gives a hundred at a time.
      const some = await new Promise<FileSystemEntry[]>((done, fail) => reader.readEntries(done, fail))
      if (some.length === 0) return
      for (const e of some) if (e.isFile) await read(e)
    }
  }
  for (const e of entries) await read(e)
  return { name: name || files[0]?.name || '', files }
}

/**
 * Sends footage, piece by piece. Sent again after a break, it goes on where it was. Returns the path of the material on
 * the server, or null if it was given up.
 */
export async function send(name: string, all: File[]): Promise<string | null> {
  const files = all
    .filter((f) => wanted.test(f.name) && !f.name.startsWith('.'))
    .sort((a, b) => a.name.localeCompare(b.name))
  if (files.length === 0)
    throw new Error(
      `${name || 'What was dropped'} holds no movie and no numbered stills (PNG, JPEG, TIFF, OpenEXR or DPX)`,
    )
  const upload: Upload = await answer(
    api.POST('/api/uploads', { body: { name, files: files.map((f) => ({ name: f.name, size: f.size })) } }),
  )
  const control = new AbortController()
  const there = new Map(upload.files.map((f) => [f.name, f.received ?? 0]))
  const one: Sending = {
    id: upload.id,
    name,
    problem: '',
    total: files.reduce((n, f) => n + f.size, 0),
    sent: [...there.values()].reduce((a, b) => a + b, 0),
    stop: () => control.abort(),
  }
  put({ ...one })
  try {
    for (const file of files) {
      let at = there.get(file.name) ?? 0
      for (let tries = 0; at < file.size || (file.size === 0 && tries === 0);) {
        const part = file.slice(at, Math.min(file.size, at + piece))
        try {
          const response = await fetch(
            `/api/uploads/${upload.id}/file?name=${encodeURIComponent(file.name)}&offset=${at}`,
            {
              method: 'PUT',
              body: part,
              headers: { ...acting(), 'Content-Type': 'application/octet-stream' },
              signal: control.signal,
            },
          )
          const said = await response.json()
          if (!response.ok && response.status !== 409) throw new Refusal(response.status, said.detail, said)
          if (typeof said.received !== 'number') throw new Refusal(response.status, said.detail, said)
          one.sent += said.received - at
          at = said.received
          tries = response.ok ? 1 : tries + 1
          put({ ...one, problem: '' })
        } catch (e) {
          if (control.signal.aborted || e instanceof Refusal || ++tries > 20) throw e
          put({ ...one, problem: 'The server does not answer. Trying again.' })
          await new Promise((done) => setTimeout(done, Math.min(500 * tries, 5000)))
        }
      }
    }
    forget(upload.id)
    return upload.path
  } catch (e) {
    if (control.signal.aborted) {
      forget(upload.id)
      await answer(api.DELETE('/api/uploads/{id}', { params: { path: { id: upload.id } } })).catch(() => undefined)
      return null
    }
    put({ ...one, problem: `${(e as Error).message} Drop it again to go on.` })
    return null
  }
}
