import { useQuery, useQueryClient, type QueryClient } from '@tanstack/react-query'
import jsonpatch, { type Operation } from 'fast-json-patch'
import { useCallback } from 'react'
import { notify } from '../ui/notice'
import { answer, api, Refusal, type Document, type Revision } from './client'

const key = (shot: string) => ['treatment', shot]

export function useTreatment(shot: string) {
  return useQuery({
    queryKey: key(shot),
    queryFn: async (): Promise<Present> => {
      const revision: Revision = await answer(api.GET('/api/shots/{id}/treatment', { params: { path: { id: shot } } }))
      saved.set(shot, revision)
      return present(shot, revision)
    },
  })
}

export type Change = (draft: Document) => void

// The last revision that the server confirmed, by shot: what a patch is worked out against.
const saved = new Map<string, Revision>()
// Changes that are shown already, but not yet confirmed, in the order in which they were made.
const waiting = new Map<string, Change[]>()
// A change that is only looked at so far, while a slider moves.
const tried = new Map<string, Change>()
let trying = false

/** What the artist sees: a revision, and what is not yet part of it, as a JSON Patch. */
export type Present = Revision & { pending?: Operation[] }

/** A confirmed revision with the waiting changes, and the one that is tried, on top. */
function present(shot: string, revision: Revision): Present {
  const changes = [...(waiting.get(shot) ?? [])]
  const trial = tried.get(shot)
  if (trial) changes.push(trial)
  if (!changes.length) return revision
  const document = structuredClone(revision.document)
  changes.forEach((change) => change(document))
  return { ...revision, document, pending: jsonpatch.compare(revision.document, document) }
}

/** Runs something that changes treatments such that the change is looked at, but not kept: the next one takes its place. */
export function attempt(run: () => void) {
  trying = true
  try {
    run()
  } finally {
    trying = false
  }
}

const dropped = new Set<() => void>()

/** Takes back what was tried and not kept. */
export function dropAttempts() {
  dropped.forEach((f) => f())
  dropped.clear()
}

/** Puts a revision that the server sent in force. */
function adopt(queries: QueryClient, shot: string, revision: Revision) {
  saved.set(shot, revision)
  queries.setQueryData(key(shot), present(shot, revision))
}

// Edits of a shot are sent one after the other, each from the revision that the last one made.
const lines = new Map<string, Promise<unknown>>()

function inLine<T>(shot: string, job: () => Promise<T>): Promise<T> {
  const last = lines.get(shot) ?? Promise.resolve()
  const next = last.then(job, job)
  lines.set(shot, next.catch(() => undefined))
  return next
}

/**
 * Changes the treatment: shows the change at once, and saves it as a JSON Patch with the revision that it
 * started from. If someone else was faster, the change is made again on the newer state.
 */
async function edit(queries: QueryClient, shot: string, label: string, change: Change): Promise<void> {
  const show = () => {
    const confirmed = saved.get(shot)
    if (confirmed) queries.setQueryData(key(shot), present(shot, confirmed))
  }
  if (trying) {
    tried.set(shot, change)
    dropped.add(() => {
      tried.delete(shot)
      show()
    })
    show()
    return
  }
  tried.delete(shot)
  waiting.set(shot, [...(waiting.get(shot) ?? []), change])
  const settled = () => waiting.set(shot, (waiting.get(shot) ?? []).filter((c) => c !== change))
  show()
  await inLine(shot, async () => {
    let base = saved.get(shot)
    for (let tries = 0; base; tries++) {
      const draft = structuredClone(base.document)
      change(draft)
      const patch = jsonpatch.compare(base.document, draft)
      if (patch.length === 0) break
      try {
        const revision: Revision = await answer(
          api.PATCH('/api/shots/{id}/treatment', {
            params: { path: { id: shot } },
            body: { revision: base.number, label, patch: patch as never },
          }),
        )
        settled()
        adopt(queries, shot, revision)
        return
      } catch (error) {
        const newer = error instanceof Refusal && error.status === 409 ? (error.body as { revision?: Revision }).revision : undefined
        if (newer && tries < 3) {
          if (tries === 0) notify(`${newer.undo ? `“${newer.undo}” was done elsewhere meanwhile` : 'The shot was changed elsewhere meanwhile'}: your change is made on top of it.`)
          base = newer
          continue
        }
        notify(error instanceof Error ? error.message : String(error))
        break
      }
    }
    settled()
    void queries.invalidateQueries({ queryKey: key(shot) })
  })
}

/** Fetches the treatment if the server is at another revision, once our own edits, which may have brought it there, are answered. */
export function catchUp(queries: QueryClient, shot: string, number: number) {
  if (!saved.has(shot)) return
  void inLine(shot, async () => {
    if (saved.get(shot)!.number !== number) await queries.invalidateQueries({ queryKey: key(shot) })
  })
}

async function move(queries: QueryClient, shot: string, way: 'undo' | 'redo') {
  await inLine(shot, async () => {
    try {
      const revision = await answer(api.POST(`/api/shots/{id}/${way}`, { params: { path: { id: shot } } }))
      adopt(queries, shot, revision)
    } catch (error) {
      notify(error instanceof Error ? error.message : String(error))
    }
  })
}

/** How components change a shot's treatment. */
export function useEdit(shot: string) {
  const queries = useQueryClient()
  return {
    edit: useCallback((label: string, change: Change) => edit(queries, shot, label, change), [queries, shot]),
    undo: useCallback(() => move(queries, shot, 'undo'), [queries, shot]),
    redo: useCallback(() => move(queries, shot, 'redo'), [queries, shot]),
    /** Takes over a revision that came another way, such as over the brush channel. */
    adopt: useCallback((revision: Revision) => adopt(queries, shot, revision), [queries, shot]),
  }
}

/** A name for a new thing in a document. */
export const newId = () => crypto.randomUUID().slice(0, 8)
