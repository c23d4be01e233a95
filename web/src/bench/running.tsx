import { answer, api, type Task } from '../api/client'
import { Button } from '../ui/controls'
import { notify } from '../ui/notice'
import { Progress } from '../ui/progress'

/** How far long work is, and what ends it. */
export function Running({ task, label, counted }: { task: Task; label: string; counted?: boolean }) {
  return (
    <div className="flex items-center gap-2 py-0.5" role="status">
      <Progress label={label} done={task.done} total={task.total} />
      {counted && (
        <span className="font-mono text-[13px]">
          {task.done} of {task.total}
        </span>
      )}
      <Button
        weight="bare"
        className="py-0!"
        onClick={() =>
          void answer(api.POST('/api/tasks/{id}/cancel', { params: { path: { id: task.id } } })).catch((e: Error) =>
            notify(e.message),
          )
        }
      >
        Cancel
      </Button>
    </div>
  )
}
