import { create } from 'zustand'

/** Who works here, as far as the browser knows: a name that it keeps, and names for itself and for this window. */
const kept = (store: Storage, key: string, make: () => string) => {
  let v = store.getItem(key)
  if (!v) store.setItem(key, (v = make()))
  return v
}
const fresh = () => crypto.getRandomValues(new Uint32Array(3)).reduce((s, n) => s + n.toString(36), '')

export const browser = kept(localStorage, 'jardin.browser', fresh)
/** A reload keeps it; a copy of the tab, which takes the session's storage along, gets one of its own. */
export const windowId = (() => {
  const id = kept(sessionStorage, 'jardin.window', fresh)
  const used = `jardin.used.${id}`
  const again = performance
    .getEntriesByType('navigation')
    .some(
      (e) =>
        (e as PerformanceNavigationTiming).type === 'reload' ||
        (e as PerformanceNavigationTiming).type === 'back_forward',
    )
  if (again || !sessionStorage.getItem(used)) {
    sessionStorage.setItem(used, '1')
    return id
  }
  const own = fresh()
  sessionStorage.setItem('jardin.window', own)
  return own
})()

export const useName = create<{ name: string; set: (name: string) => void }>((set) => ({
  name: localStorage.getItem('jardin.name') ?? '',
  set: (name) => {
    localStorage.setItem('jardin.name', name)
    set({ name })
  },
}))

/** Headers that tell the server who acts. */
export const acting = (): Record<string, string> => ({
  'Jardin-Author': encodeURIComponent(useName.getState().name),
  'Jardin-Window': windowId,
  'Jardin-Browser': browser,
})

/** The same for addresses, where headers cannot be sent. */
export const actingQuery = () =>
  new URLSearchParams({ author: useName.getState().name, window: windowId, browser }).toString()
