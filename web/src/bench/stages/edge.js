import { jsx as _jsx, jsxs as _jsxs } from "react/jsx-runtime";
import { useState } from 'react';
import { answer, api } from '../../api/client';
import { isOpen, useTasks } from '../../api/tasks';
import { Button, NumberField } from '../../ui/controls';
import { notify } from '../../ui/notice';
import { Progress } from '../../ui/progress';
import { useBench } from '../state';
/** Lets an outline follow an edge by itself, from the frame that is shown. */
export function EdgeFields({ shot, removal: r, shape: s }) {
    const frame = useBench((x) => x.frame);
    const [steady, setSteady] = useState(1);
    const task = useTasks(shot.id).find((t) => t.kind === 'edge' && t.subject === s.id);
    const running = task && isOpen(task);
    const range = s.range ?? r.range;
    const begin = (first, last) => void answer(api.POST('/api/shots/{id}/edges', { params: { path: { id: shot.id } }, body: { removal: r.id, shape: s.id, from: frame, first, last, steady } })).catch((e) => notify(e.message));
    return (_jsxs("div", { className: "flex flex-col gap-2 border-t border-rule pt-2", children: [_jsxs("div", { className: "flex flex-wrap gap-1.5", children: [_jsx(Button, { className: "flex-1", disabled: !!running || frame <= range.first, title: "Back from this frame: the outline is carried to the best edge near it, frame by frame, and keyed. It stops at the next key that was set by hand", onClick: () => begin(range.first, frame), children: "Follow edge back" }), _jsx(Button, { className: "flex-1", disabled: !!running || frame >= range.last, title: "On from this frame: the outline is carried to the best edge near it, frame by frame, and keyed. It stops at the next key that was set by hand", onClick: () => begin(frame, range.last), children: "Follow edge on" })] }), _jsx(NumberField, { label: "Steady", unit: "fr", hint: "Takes the chatter out of what is found: over how many frames it is averaged", value: steady, min: 0, max: 8, step: 0.5, onDone: setSteady }), running && (_jsxs("div", { className: "flex items-center gap-2", children: [_jsx(Progress, { label: "Frames followed", done: task.done, total: task.total }), _jsx(Button, { weight: "bare", className: "py-0!", onClick: () => void answer(api.POST('/api/tasks/{id}/cancel', { params: { path: { id: task.id } } })).catch((e) => notify(e.message)), children: "Cancel" })] })), !running && task?.problem && _jsx("p", { className: "text-[13px] text-clay", children: task.problem })] }));
}
