import { answer, api, type Removal } from '../../api/client'
import { isOpen, useTasks } from '../../api/tasks'
import { useEdit } from '../../api/treatment'
import { Button, NumberInput, Text } from '../../ui/controls'
import { notify } from '../../ui/notice'
import { on } from '../edits'
import type { BenchProps } from '../props'
import { Running } from '../running'
import { useScores } from '../scores'
import { stages } from '../stages'
import { FillStage } from '../stages/fill'
import { FollowStage } from '../stages/follow'
import { GuardStage } from '../stages/guard'
import { MarkStage } from '../stages/mark'
import { SettleStage } from '../stages/settle'
import { bench, useBench } from '../state'
import { LeafMark } from './row'

/** The reference frame: go there, move the zero to the frame shown, or ask which frame is best. */
function Reference({ shot, removal: r }: BenchProps & { removal: Removal }) {
  const { edit } = useEdit(shot.id)
  const frame = useBench((s) => s.frame)
  const task = useTasks(shot.id).find((t) => t.kind === 'scout' && t.subject === r.id)
  const { data } = useScores(shot.id, r.id)
  const best = data?.frames[0]
  const running = task && isOpen(task)
  return (
    <div className="text-[13px]">
      <div className="flex flex-wrap items-center gap-x-0.5">
        <span className="flex-1 whitespace-nowrap text-quiet">
          Reference <span className="font-mono text-text">{r.reference}</span>
        </span>
        <Button
          weight="bare"
          className="px-0.5! py-0!"
          title="Go to the reference frame (J)"
          onClick={() => bench.set({ frame: r.reference, playing: false })}
        >
          Go there
        </Button>
        <Button
          weight="bare"
          className="px-0.5! py-0!"
          disabled={frame === r.reference}
          title="Make the frame shown the reference frame: outlines, paint and track stay where they are, nothing is followed again"
          onClick={() =>
            void edit(
              `Reference frame ${frame}`,
              on(r.id, (d) => {
                d.reference = frame
              }),
            )
          }
        >
          Move here
        </Button>
        <Button
          weight="bare"
          className="px-0.5! py-0!"
          disabled={!!running || !r.mark.outlines.length}
          title="Score every frame by sharpness, smear, light, size, and what is in front"
          onClick={() =>
            void answer(
              api.POST('/api/shots/{id}/scout/{removal}', { params: { path: { id: shot.id, removal: r.id } } }),
            ).catch((e: Error) => notify(e.message))
          }
        >
          Suggest
        </Button>
      </div>
      {running && <Running task={task} label="Frames scored" />}
      {!running && task?.problem && <p className="text-clay">{task.problem}</p>}
      {!running && task?.found && <p className="text-[13px] text-quiet">{task.found}</p>}
      {best && !running && (
        <p className="text-quiet">
          <button
            type="button"
            className="rounded text-left underline decoration-stone underline-offset-2 hover:text-text"
            title="Go there"
            onClick={() => bench.set({ frame: best.frame, playing: false })}
          >
            {data.words}
          </button>
        </p>
      )}
    </div>
  )
}

/** The removal that is open: its name, its frames, and its stages. */
export function Opened(props: BenchProps & { removal: Removal }) {
  const { shot, standings, removal: r } = props
  const { edit } = useEdit(shot.id)
  const stage = useBench((s) => s.stage)
  return (
    <section aria-label={`Removal ${r.name}`} className="px-2 pt-2 pb-3">
      <div className="mb-2 grid grid-cols-1 gap-1.5 px-1">
        <div className="flex items-center gap-1.5" title="Its name, and the frames on which the patch is laid">
          <Text
            label="Name of the removal"
            className="min-w-0 flex-1"
            value={r.name}
            onDone={(name) =>
              void edit(
                `Rename to ${name}`,
                on(r.id, (d) => {
                  d.name = name
                }),
              )
            }
          />
          <NumberInput
            label="First frame of the removal"
            className="w-14"
            value={r.range.first}
            min={shot.first}
            max={r.range.last}
            onDone={(v) =>
              void edit(
                'Change the range',
                on(r.id, (d) => {
                  d.range.first = Math.round(v)
                }),
              )
            }
          />
          <span className="text-quiet">to</span>
          <NumberInput
            label="Last frame of the removal"
            className="w-14"
            value={r.range.last}
            min={r.range.first}
            max={shot.last}
            onDone={(v) =>
              void edit(
                'Change the range',
                on(r.id, (d) => {
                  d.range.last = Math.round(v)
                }),
              )
            }
          />
        </div>
        <Reference {...props} />
      </div>
      <ol className="relative">
        <span aria-hidden className="absolute top-3 bottom-3 left-[9px] w-px bg-stone" />
        {stages.map((s) => (
          <li key={s.id} className="relative pl-6">
            <span className="absolute top-2 left-[3px] bg-bed py-0.5">
              <LeafMark standing={standings.get(r.id)?.[s.id]} label={s.name} />
            </span>
            <button
              type="button"
              aria-expanded={stage === s.id}
              title={`${s.asks} (${s.key})`}
              className={`flex w-full items-baseline gap-2 rounded px-1.5 py-1 text-left hover:bg-slab ${stage === s.id ? 'font-semibold' : ''}`}
              onClick={() => bench.open(r.id, s.id)}
            >
              {s.name}
              <span className="text-[13px] font-normal text-quiet">{s.asks}</span>
            </button>
            {stage === s.id && (
              <div className="flex flex-col gap-2 py-1.5 pl-1.5">
                {s.id === 'mark' && <MarkStage {...props} />}
                {s.id === 'follow' && <FollowStage {...props} />}
                {s.id === 'fill' && <FillStage {...props} />}
                {s.id === 'settle' && <SettleStage {...props} />}
                {s.id === 'guard' && <GuardStage {...props} />}
              </div>
            )}
          </li>
        ))}
      </ol>
    </section>
  )
}
