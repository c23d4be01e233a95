import { keepBrush, places, takeBrush, type Place } from './brushes'
import { dropLiveStroke } from './brushlayer'
import { useEffect, useRef } from 'react'
import type { useEdit } from '../api/treatment'
import type { BenchProps } from './props'
import { allStrokes, mostSize, nextUnpainted, otherOrigin, paintFrame, paintedOn, repeatHere, setBrush } from './fill'
import { allShapes, lanesOf, nudge, removeSelected, startRemoval } from './edits'
import { strokesOf, travels } from './sources/kinds'
import { meant, useOwnKeys } from './ownkeys'
import { held, release } from './pointer'
import { stages } from './stages'
import { bench, type Channel } from './state'

const channels: Channel[] = ['colour', 'red', 'green', 'blue', 'luma']

/** All frames that hold a key of the open removal. */
function keyFrames({ revision }: BenchProps): number[] {
  const { removal, outline } = bench.get()
  const r = revision.document.removals.find((x) => x.id === removal)
  return [...(r ? [r.reference] : []), ...lanesOf(revision.document, removal, outline).flatMap((l) => l.frames)]
}

/** All frames on which the open removal needs a look: the track is doubtful, or no patch reaches them. */
function doubtedFrames({ motion, standings }: BenchProps): number[] {
  const doubted = [...(motion?.samples.values() ?? [])].filter((m) => m.grade !== 'good').map((m) => m.frame)
  const bare = standings.get(bench.get().removal ?? '')?.bare.flatMap((b) => b.frames) ?? []
  return [...doubted, ...bare.flatMap((f) => Array.from({ length: f.last - f.first + 1 }, (_, i) => f.first + i))]
}

/** The nearest of some frames before or after one. */
export function nextOf(frames: number[], from: number, way: 1 | -1): number | undefined {
  const there = frames.filter((n) => (n - from) * way > 0)
  return there.length ? (way > 0 ? Math.min(...there) : Math.max(...there)) : undefined
}

/** The keys of the bench. Fields and dialogs keep their own. */
export function useKeys(props: BenchProps, edits: ReturnType<typeof useEdit>) {
  const latest = useRef({ props, edits })
  latest.current = { props, edits }
  useEffect(() => {
    const down = (e: KeyboardEvent) => {
      if (!(e.target instanceof HTMLElement)) return
      const target = e.target
      if (target.closest('input:not([type=range]), textarea, [role=dialog], [role=listbox]')) return
      // Keys can be changed: from here on each is the one that does it at first.
      const key = e.ctrlKey || e.metaKey ? e.key : meant(useOwnKeys.getState().own, e.key)
      held.add(key.toLowerCase())
      const { props, edits } = latest.current
      const s = bench.get()
      const step = (n: number) =>
        bench.set({ frame: Math.min(props.shot.last, Math.max(props.shot.first, n)), playing: false })
      const to = (n: number | undefined) => n !== undefined && step(n)
      const onControl = target.closest('button, [role=radio], input')
      if (e.ctrlKey || e.metaKey) {
        const open = props.revision.document.removals.find((r) => r.id === s.removal)
        const shape = open && allShapes(open).find((o) => o.id === s.outline)
        if (key.toLowerCase() === 'a' && shape) {
          e.preventDefault()
          bench.set({ knots: shape.points.map((_, i) => i) })
          return
        }
        if (key.toLowerCase() === 'a' && open && s.stage === 'fill' && s.tool === 'look') {
          e.preventDefault()
          const of = open.fill.sources.find((x) => x.id === s.sourceId)
          bench.set({ strokes: (of ? strokesOf(of) : allStrokes(open)).map((x) => x.id) })
          return
        }
        if (key.toLowerCase() !== 'z') return
        e.preventDefault()
        // In the middle of a stroke it is the stroke that is taken back.
        if (e.shiftKey || !dropLiveStroke()) void (e.shiftKey ? edits.redo() : edits.undo())
        return
      }
      if (e.altKey) return
      // With Shift a digit is another sign on every keyboard: the key itself says which it is.
      const digit = places.find((p) => e.code === `Digit${p}`)
      if (e.shiftKey && digit && s.stage === 'fill' && s.removal) {
        e.preventDefault()
        keepBrush(digit)
        return
      }
      const stage = stages.find((x) => x.key === key)
      if (stage) {
        if (s.removal) bench.open(s.removal, stage.id)
        return
      }
      const zoomTo = (k: number) => bench.set({ zoom: Math.min(64, Math.max(0.1, (s.zoom ?? 1) * k)) })
      switch (key) {
        case 'ArrowLeft':
        case 'ArrowRight':
          if (e.shiftKey && nudge(props, edits.edit, key === 'ArrowLeft' ? -1 : 1, 0)) break
          if (onControl && onControl.matches('[role=radio], input')) return
          step(s.frame + (key === 'ArrowLeft' ? -1 : 1))
          break
        case 'ArrowUp':
        case 'ArrowDown':
          if (e.shiftKey) {
            if (!nudge(props, edits.edit, 0, key === 'ArrowUp' ? -1 : 1)) return
            break
          }
          if (onControl && onControl.matches('[role=radio], input')) return
          to(nextOf(keyFrames(props), s.frame, key === 'ArrowUp' ? -1 : 1))
          break
        case 'PageUp':
        case 'PageDown':
          to(nextOf(doubtedFrames(props), s.frame, key === 'PageUp' ? -1 : 1))
          break
        case 'Home':
          step(props.shot.first)
          break
        case 'End':
          step(props.shot.last)
          break
        case ' ':
          if (onControl) return
          if (e.repeat) break
          bench.set({ playing: !s.playing })
          break
        case 'Enter':
          if (s.tool !== 'copy') return
          bench.set({ tool: 'look', copying: null })
          break
        case 'Escape':
          release()
          bench.set({
            ring: null,
            tool: 'look',
            knots: [],
            points: [],
            key: null,
            outline: null,
            strokes: [],
            copying: null,
          })
          return
        case 'Delete':
        case 'Backspace':
          removeSelected(props, edits.edit)
          break
        case '0':
          bench.set({ zoom: null, centre: null })
          break
        case '+':
        case '=':
          zoomTo(1.25)
          break
        case '-':
          zoomTo(0.8)
          break
        case ',':
        case '.':
          bench.set({ exposure: Math.min(6, Math.max(-6, s.exposure + (key === ',' ? -0.5 : 0.5))) })
          break
        case '[':
        case ']': {
          const size = Math.min(mostSize, Math.max(2, Math.round(s.brush.size * (key === '[' ? 0.87 : 1.15))))
          setBrush({ size })
          break
        }
        default: {
          const open = props.revision.document.removals.find((r) => r.id === s.removal)
          switch (key.toLowerCase()) {
            case 'q':
              bench.set({ view: 'plate' })
              break
            case 'w':
              if (open) bench.set({ view: 'patch' })
              break
            case 'e':
              bench.set({ view: 'result' })
              break
            case 'd':
              bench.set({ view: 'difference' })
              break
            case 'l':
              if ((props.motion?.samples.size ?? 0) > 1 || s.locked) bench.set({ locked: !s.locked })
              break
            case 'c':
              bench.set({ channel: channels[(channels.indexOf(s.channel) + 1) % channels.length] })
              break
            case 'h':
              bench.set({ handles: !s.handles })
              break
            case 't':
              bench.set({ setOpen: !s.setOpen, tool: 'look', straight: false })
              break
            case 'j':
              if (open) step(s.stage === 'fill' ? paintFrame(open, s.sourceId, open.reference) : open.reference)
              break
            case 'b':
              bench.set({ beside: !s.beside })
              break
            case 's':
              if (s.stage === 'fill' && s.tool !== 'look') return
              bench.set({ split: s.split === null ? 0.5 : null })
              break
            case 'k':
              bench.set({ loop: s.loop ? null : { first: s.frame - 12, last: s.frame + 12 } })
              break
            case 'm':
              bench.set({ view: s.view === 'matte' ? 'tint' : s.view === 'tint' ? 'result' : 'matte' })
              break
            case 'f':
              if (open && s.stage === 'fill')
                bench.set(
                  s.tool === 'brush' ? { tool: 'look' } : { tool: 'brush', view: 'patch', playing: false, strokes: [] },
                )
              break
            case 'a':
              if (open && s.stage === 'fill')
                bench.set({ tool: 'area', drawn: 'curve', view: 'patch', playing: false, strokes: [] })
              break
            case 'v':
              bench.set({ before: true })
              break
            case 'u': {
              const n = open && nextUnpainted(open, s.frame)
              if (n) step(n)
              break
            }
            case 'r': {
              const on = open && paintedOn(open, s.sourceId)
              const again = open && on && travels(on) && repeatHere(open, on, s.frame)
              if (again) void edits.edit('Repeat strokes here', again)
              break
            }
            case 'y':
              if (open && s.stage === 'fill') otherOrigin()
              break
            case '6':
            case '7':
            case '8':
            case '9':
              if (open && s.stage === 'fill') takeBrush(key as Place)
              break
            case 'n':
              startRemoval(props, edits.edit)
              break
            case 'o':
              if (open && s.stage === 'mark') bench.set({ tool: 'outline', drawn: s.drawn, outline: null, knots: [] })
              if (open && s.stage === 'follow') bench.set({ tool: 'region' })
              if (open && s.stage === 'guard' && s.part)
                bench.set({ tool: 'where', drawn: 'curve', outline: null, knots: [] })
              break
            default:
              return
          }
        }
      }
      e.preventDefault()
    }
    const up = (e: KeyboardEvent) => {
      const key = meant(useOwnKeys.getState().own, e.key).toLowerCase()
      held.delete(key)
      if (key === 'v') bench.set({ before: false })
    }
    const blur = () => {
      held.clear()
      bench.set({ before: false })
    }
    // A button pressed with the mouse gives the keys back to the bench: Space plays. From the keyboard it keeps them.
    const click = (e: MouseEvent) => {
      const pressed = (e.target as Element).closest<HTMLElement>('button:not([aria-haspopup])')
      if (e.detail > 0 && pressed && !pressed.closest('[role=dialog]')) pressed.blur()
    }
    addEventListener('click', click)
    addEventListener('keydown', down)
    addEventListener('keyup', up)
    addEventListener('blur', blur)
    return () => {
      removeEventListener('click', click)
      removeEventListener('keydown', down)
      removeEventListener('keyup', up)
      removeEventListener('blur', blur)
    }
  }, [])
}
