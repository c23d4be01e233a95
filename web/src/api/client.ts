import createClient from 'openapi-fetch'
import { acting } from './me'
import type { components, paths } from './schema.gen'

export type Schemas = components['schemas']
export type Shot = Schemas['Shot']
export type Document = Schemas['Document']
/** A revision as an edit may answer with it: without its document. */
export type Brief = Schemas['Revision']
export type Revision = Brief & { document: Document }
export type Removal = Schemas['Removal']
export type Shape = Schemas['Shape']
export type Track = Schemas['Track']
export type TrackPoint = Schemas['Point']
export type Correction = Schemas['Correction']
export type Moment = Schemas['Moment']
export type Pose = Schemas['Pose']
export type Knot = Schemas['Knot']
export type FillSource = Schemas['Source']
export type From = Schemas['From']
export type Stroke = Schemas['Stroke']
export type Settle = Schemas['Settle']
export type Tone = Schemas['Tone']
export type Grade = Schemas['Grade']
export type Front = Schemas['Front']
export type Measure = Schemas['Measure']
export type ValueKey = Schemas['ValueKey']
export type Task = Schemas['Task']
export type Material = Schemas['Material']

export const api = createClient<paths>({ baseUrl: '', fetch: (request) => fetch(request) })
api.use({
  onRequest: ({ request }) => {
    for (const [name, value] of Object.entries(acting())) request.headers.set(name, value)
    return request
  },
  onResponse: ({ response }) => {
    if (response.status === 401) window.dispatchEvent(new Event('jardin-locked'))
  },
})

/** A refusal by the server, with its own words. */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly body: unknown,
  ) {
    super(detail)
  }
}

/** Unwraps an answer, or throws the problem document as a Refusal. */
export async function answer<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result
  try {
    result = await call
  } catch {
    throw new Refusal(0, 'The server does not answer. Your work is saved up to the last change it confirmed.', null)
  }
  if (result.error !== undefined || !result.response.ok) {
    const problem = result.error as
      { detail?: string; title?: string; errors?: { message: string; location?: string }[] } | undefined
    const more = problem?.errors?.map((e) => `${e.location ?? ''} ${e.message}`.trim()).join('; ')
    throw new Refusal(
      result.response.status,
      more || problem?.detail || problem?.title || result.response.statusText,
      result.error,
    )
  }
  return result.data as T
}
