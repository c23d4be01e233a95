import { useQuery } from '@tanstack/react-query'
import { answer, api, type Shot } from '../api/client'

/** A table that takes code values to the screen: a curve for each colour, or a grid over all three. */
export interface Table {
  size: number
  grid: boolean
  min: [number, number, number]
  max: [number, number, number]
  /** Three numbers for each entry; of a grid red goes fastest. */
  entries: Float32Array
  /** What comes to the browser of linear light is coded by sRGB's curve, and is taken back first. */
  linear: boolean
}

/** A table from what the server sends. */
export function readTable(data: ArrayBuffer, linear: boolean): Table {
  const all = new Float32Array(data)
  const [size, grid, a, b, c, d, e, f] = all
  return { size, grid: grid === 1, min: [a, b, c], max: [d, e, f], entries: all.subarray(8), linear }
}

/** What an 8-bit code value of the browser's pictures stands for. */
const valueOf = (t: Table, v: number) => (!t.linear ? v : v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4)

/** Where in a table a value of one colour lies: the entry before it, and how far on to the next. */
function placeOf(t: Table, v: number, k: number): [number, number] {
  const at = Math.min(1, Math.max(0, (valueOf(t, v) - t.min[k]) / (t.max[k] - t.min[k]))) * (t.size - 1)
  const base = Math.min(t.size - 2, Math.floor(at))
  return [base, at - base]
}

/** Of each of 256 code values of a colour, what a table of curves shows, 0 to 1. */
export function curvesOf(t: Table): Float32Array {
  const out = new Float32Array(256 * 3)
  for (let i = 0; i < 256; i++)
    for (let k = 0; k < 3; k++) {
      const [base, part] = placeOf(t, i / 255, k)
      const [a, b] = [t.entries[3 * base + k], t.entries[3 * base + 3 + k]]
      out[3 * i + k] = a + (b - a) * part
    }
  return out
}

/** Shows pixels as a table does, where there is no graphics card that does: trilinearly, as those do. */
export function lookUp(t: Table, rgba: Uint8ClampedArray) {
  if (!t.grid) {
    const curves = curvesOf(t)
    for (let i = 0; i < rgba.length; i += 4) for (let k = 0; k < 3; k++) rgba[i + k] = 255 * curves[3 * rgba[i + k] + k]
    return
  }
  const places = [0, 1, 2].map((k) => Array.from({ length: 256 }, (_, i) => placeOf(t, i / 255, k)))
  const n = t.size
  for (let i = 0; i < rgba.length; i += 4) {
    if (rgba[i + 3] === 0) continue
    const [[r, x], [g, y], [b, z]] = [places[0][rgba[i]], places[1][rgba[i + 1]], places[2][rgba[i + 2]]]
    const at = 3 * (r + n * (g + n * b))
    for (let k = 0; k < 3; k++) {
      const e = (dr: number, dg: number, db: number) => t.entries[at + 3 * (dr + n * (dg + n * db)) + k]
      const line = (dg: number, db: number) => e(0, dg, db) + (e(1, dg, db) - e(0, dg, db)) * x
      const flat = (db: number) => line(0, db) + (line(1, db) - line(0, db)) * y
      rgba[i + k] = 255 * (flat(0) + (flat(1) - flat(0)) * z)
    }
  }
}

export const cubeKey = (shot: string) => ['shots', shot, 'cube']

/** Through which file a shot is looked at, and its table; null for none, undefined as long as that is not known. */
export function useCube(shot: string, transfer?: Shot['transfer']) {
  const of = useQuery({
    queryKey: cubeKey(shot),
    queryFn: () => answer(api.GET('/api/shots/{id}/cube', { params: { path: { id: shot } } })),
  })
  const hash = of.data?.hash
  const table = useQuery({
    queryKey: ['cubes', hash, transfer],
    enabled: !!hash && !!transfer,
    staleTime: Infinity,
    queryFn: async () => {
      const response = await fetch(`/api/shots/${shot}/cube/table?hash=${hash}`)
      if (!response.ok) throw new Error(`the table cannot be read: ${response.status}`)
      return readTable(await response.arrayBuffer(), transfer === 'linear')
    },
  })
  const settled = of.isError || table.isError || (of.data && (!hash || table.data))
  return { cube: of.data ?? null, table: settled ? (hash ? (table.data ?? null) : null) : undefined }
}
