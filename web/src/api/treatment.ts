import { useQuery, useQueryClient, type QueryClient } from '@tanstack/react-query'
import jsonpatch, { type Operation } from 'fast-json-patch'
import { useCallback } from 'react'
import { mention, notify } from '../ui/notice'
import { answer, api, Refusal, type Brief, type Document, type Revision } from './client'
import { difference } from './difference'
import { again, done, keep, recovered, setAway, unsentOf, useUnsent, type Unsent } from './unsent'

const key = (shot: string) => ['treatment', shot]

/** Fetches a shot's treatment, with what is not saved yet on top. */
export async function open(queries: QueryClient, shot: string): Promise<Present> {
  const revision = full(await answer(api.GET('/api/shots/{id}/treatment', { params: { path: { id: shot } } })))
  if (newer(shot, revision)) saved.set(shot, revision)
  void recovered.then(() => resend(queries, shot))
  return present(shot, saved.get(shot)!)
}

export function useTreatment(shot: string) {
  const queries = useQueryClient()
  return useQuery({ queryKey: key(shot), queryFn: () => open(queries, shot) })
}

export type Change = (draft: Document) => void

function full(revision: Brief): Revision {
  if (!revision.document) throw new Refusal(500, 'The server left the treatment out of its answer.', null)
  return revision as Revision
}

// The last revision that the server confirmed, by shot: what a patch is worked out against.
const saved = new Map<string, Revision>()
// Changes that are shown already, but not yet confirmed, in the order in which they were made.
const waiting = new Map<string, Change[]>()
// A change that is only looked at so far, while a slider moves.
const tried = new Map<string, Change>()
let trying = false

/** What the artist sees: a revision, and what is not yet part of it, as a JSON Patch. */
export type Present = Revision & { pending?: Operation[]; confirmed?: Document }

/** What the server has: it can be asked about that, and not about what is on its way. */
export const confirmedOf = (p: Present): Document => p.confirmed ?? p.document

/** A confirmed revision with the waiting changes, and the one that is tried, on top. */
function present(shot: string, revision: Revision): Present {
  const changes = [...(waiting.get(shot) ?? [])]
  const trial = tried.get(shot)
  if (trial) changes.push(trial)
  if (!changes.length) return revision
  const document = structuredClone(revision.document)
  changes.forEach((change) => change(document))
  return { ...revision, document, pending: difference(revision.document, document), confirmed: revision.document }
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

/** Revisions count up: a late answer must not put an older one in force. */
const newer = (shot: string, revision: Brief) => revision.number >= (saved.get(shot)?.number ?? -1)

/** Puts a revision that the server sent in force. */
function adopt(queries: QueryClient, shot: string, revision: Revision) {
  if (newer(shot, revision)) saved.set(shot, revision)
  show(queries, shot)
}

function show(queries: QueryClient, shot: string) {
  const confirmed = saved.get(shot)
  if (confirmed) queries.setQueryData(key(shot), present(shot, confirmed))
}

/** Puts a revision in force that a patch makes of the one before; false if that is not the one here. */
function adoptPatch(queries: QueryClient, shot: string, base: number, patch: Operation[], revision: Brief): boolean {
  const confirmed = saved.get(shot)
  if (!confirmed || confirmed.number !== base) return confirmed !== undefined && confirmed.number >= revision.number
  const document = jsonpatch.applyPatch(structuredClone(confirmed.document), patch).newDocument
  adopt(queries, shot, { ...revision, document })
  return true
}

// Edits of a shot are sent one after the other, each from the revision that the last one made.
const lines = new Map<string, Promise<unknown>>()

function inLine<T>(shot: string, job: () => Promise<T>): Promise<T> {
  const last = lines.get(shot) ?? Promise.resolve()
  const next = last.then(job, job)
  lines.set(
    shot,
    next.catch(() => undefined),
  )
  return next
}

/** The server, its database, or the way there is away: what was asked may be asked again. */
const away = (error: unknown) =>
  error instanceof Refusal &&
  (error.status === 0 || error.status === 502 || error.status === 503 || error.status === 504)

const pause = (ms: number) => new Promise((go) => setTimeout(go, ms))

/** Asks until the server answers, one way or the other. */
async function insist<T>(ask: () => Promise<T>): Promise<T> {
  for (let wait = 300; ; wait = Math.min(2 * wait, 4000)) {
    try {
      const got = await ask()
      setAway(false)
      return got
    } catch (error) {
      if (!away(error)) {
        setAway(false)
        throw error
      }
      setAway(true)
      await pause(wait)
    }
  }
}

const patchTreatment = (
  shot: string,
  body: { id: string; revision: number; label: string; patch: unknown[]; before?: unknown[]; merge?: boolean },
  whole: boolean,
) =>
  answer(
    api.PATCH('/api/shots/{id}/treatment', {
      params: { path: { id: shot }, header: whole ? {} : { Prefer: 'return=minimal' } },
      body: body as never,
    }),
  ) as Promise<Brief>

/**
 * Changes the treatment: shows the change at once, keeps it, and saves it as a JSON Patch with the revision that it
 * started from. If someone else was faster, the change is made again on the newer state. As long as the server is away
 * it waits, over a reload too.
 */
export async function edit(queries: QueryClient, shot: string, label: string, change: Change): Promise<void> {
  if (trying) {
    tried.set(shot, change)
    dropped.add(() => {
      tried.delete(shot)
      show(queries, shot)
    })
    show(queries, shot)
    return
  }
  tried.delete(shot)
  const confirmed = saved.get(shot)
  if (!confirmed) return
  if (/^(Delete|Forget) /.test(label)) mention(`${label}. Undo (Ctrl Z) brings it back`)
  // What the change is on top of: the last confirmed state, and all that waits before it.
  const draft = structuredClone(confirmed.document)
  for (const c of waiting.get(shot) ?? []) c(draft)
  const before = difference(confirmed.document, draft)
  const after = structuredClone(draft)
  change(after)
  const patch = difference(draft, after)
  if (patch.length === 0) return show(queries, shot)
  const kept = keep({ kind: 'edit', id: newId() + newId(), shot, label, base: confirmed.number, before, patch })
  waiting.set(shot, [...(waiting.get(shot) ?? []), change])
  const settled = () => {
    waiting.set(
      shot,
      (waiting.get(shot) ?? []).filter((c) => c !== change),
    )
    done(kept.id)
  }
  show(queries, shot)
  await inLine(shot, async () => {
    for (let tries = 0; ; tries++) {
      const base = saved.get(shot)!
      const draft = structuredClone(base.document)
      change(draft)
      const patch = difference(base.document, draft)
      if (patch.length === 0) break
      try {
        const revision = await insist(() =>
          patchTreatment(shot, { id: kept.id, revision: base.number, label, patch }, false),
        )
        settled()
        // A number further on means that it had arrived before, and others have gone on since.
        if (
          revision.number === base.number + 1 &&
          !revision.document &&
          adoptPatch(queries, shot, base.number, patch, revision)
        )
          show(queries, shot)
        else await refresh(queries, shot)
        return
      } catch (error) {
        const now =
          error instanceof Refusal && error.status === 409 ? (error.body as { revision?: Brief }).revision : undefined
        if (now && tries < 20) {
          if (tries === 0)
            notify(
              `${now.author ? `${now.author} did “${now.label}”` : 'The shot was changed elsewhere'} meanwhile: your change is made on top of it.`,
            )
          saved.set(shot, full(now))
          continue
        }
        notify(error instanceof Error ? error.message : String(error))
        break
      }
    }
    settled()
    await refresh(queries, shot)
  })
}

/** Fetches the revision in force. What is shown stays if that fails. */
async function refresh(queries: QueryClient, shot: string) {
  try {
    adopt(queries, shot, full(await answer(api.GET('/api/shots/{id}/treatment', { params: { path: { id: shot } } }))))
  } catch (error) {
    if (!away(error)) notify(error instanceof Error ? error.message : String(error))
    show(queries, shot)
  }
}

const resending = new Set<string>()

/** Sends edits that an earlier page left, each merged into what the treatment is now. */
async function resend(queries: QueryClient, shot: string) {
  if (resending.has(shot)) return
  resending.add(shot)
  const mine = new Set(
    waiting.get(shot)?.length
      ? unsentOf(shot)
          .slice(-waiting.get(shot)!.length)
          .map((u) => u.id)
      : [],
  )
  const left = unsentOf(shot).filter((u): u is Unsent & { kind: 'edit' } => u.kind === 'edit' && !mine.has(u.id))
  if (!left.length) return
  await inLine(shot, async () => {
    let sent = 0
    for (const u of left) {
      try {
        await insist(() =>
          patchTreatment(
            shot,
            {
              id: u.id,
              revision: u.base,
              label: u.label,
              patch: u.patch,
              before: u.before.length ? u.before : undefined,
              merge: true,
            },
            true,
          ),
        )
        done(u.id)
        sent++
      } catch (error) {
        if (error instanceof Refusal && error.status === 404) return done(u.id) // the shot is gone
        again({ ...u, stuck: error instanceof Error ? error.message : String(error) })
        notify(
          `“${u.label}”, which you did before the page was closed, cannot be made on what the shot is now: somebody changed the same since.`,
          { words: 'Give it up', press: () => done(u.id) },
        )
      }
    }
    if (sent)
      notify(
        `${sent === 1 ? 'A change that was' : `${sent} changes that were`} not sent before the page was closed ${sent === 1 ? 'is' : 'are'} safe now.`,
      )
    await refresh(queries, shot)
  })
}

/** Fetches the treatment if the server is at another revision, once our own edits, which may have brought it there, are answered. */
export function catchUp(queries: QueryClient, shot: string, number: number) {
  if (!saved.has(shot)) return
  void inLine(shot, async () => {
    if (saved.get(shot)!.number < number) await refresh(queries, shot)
  })
}

/** After a break anything may have changed; of one shot, or of all that are known. */
export function catchUpAll(queries: QueryClient, only?: string) {
  for (const shot of saved.keys()) if (!only || shot === only) void inLine(shot, () => refresh(queries, shot))
}

async function move(queries: QueryClient, shot: string, way: 'undo' | 'redo') {
  await inLine(shot, async () => {
    try {
      // Strokes that are on their way come first: it would take back what was before them.
      while (useUnsent.getState().all.some((u) => u.shot === shot && u.kind === 'stroke' && u.ended && !u.stuck))
        await pause(30)
      const label = saved.get(shot)?.[way]
      adopt(queries, shot, full(await answer(api.POST(`/api/shots/{id}/${way}`, { params: { path: { id: shot } } }))))
      if (label) mention(`${way === 'undo' ? 'Undone' : 'Redone'}: ${label}`)
    } catch (error) {
      notify(
        away(error)
          ? `The server does not answer. Nothing was ${way === 'undo' ? 'undone' : 'redone'}; try again in a moment.`
          : error instanceof Error
            ? error.message
            : String(error),
      )
    }
  })
}

async function goBack(queries: QueryClient, shot: string, number: number) {
  await inLine(shot, async () => {
    try {
      adopt(
        queries,
        shot,
        full(await answer(api.POST('/api/shots/{id}/history/{number}', { params: { path: { id: shot, number } } }))),
      )
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
    goBack: useCallback((number: number) => goBack(queries, shot, number), [queries, shot]),
    /** Takes over a revision that came another way, such as over the brush channel: whole, or as a patch of the one before. */
    adopt: useCallback(
      (revision: Brief, base?: number, patch?: Operation[] | null) => {
        if (revision.document) adopt(queries, shot, full(revision))
        else if (base === undefined || !patch || !adoptPatch(queries, shot, base, patch, revision))
          catchUp(queries, shot, revision.number)
      },
      [queries, shot],
    ),
  }
}

/** A name for a new thing in a document. (Not randomUUID: that is there only on pages that came by TLS.) */
export const newId = () =>
  [...crypto.getRandomValues(new Uint8Array(4))].map((n) => n.toString(16).padStart(2, '0')).join('')
