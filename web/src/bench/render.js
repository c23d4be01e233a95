import { jsx as _jsx, jsxs as _jsxs, Fragment as _Fragment } from "react/jsx-runtime";
import { useState } from 'react';
import { answer, api } from '../api/client';
import { isOpen, useTasks } from '../api/tasks';
import { Button } from '../ui/controls';
import { Progress } from '../ui/progress';
import { notify } from '../ui/notice';
import { Sheet } from '../ui/sheet';
const words = { waiting: 'Waiting', running: 'Running', done: 'Done', failed: 'Failed', cancelled: 'Cancelled' };
/** Rendering the clean frames, and what was rendered before. */
export function RenderRoom({ shot, revision }) {
    const [open, setOpen] = useState(false);
    const renders = useTasks(shot.id).filter((t) => t.kind === 'render');
    const busy = renders.find(isOpen);
    const begin = () => void answer(api.POST('/api/shots/{id}/render', { params: { path: { id: shot.id } } })).catch((e) => notify(e.message));
    return (_jsxs(_Fragment, { children: [_jsx(Button, { title: "Render the clean frames", onClick: () => setOpen(true), children: busy ? `Rendering, ${busy.done} of ${busy.total}` : 'Render…' }), _jsxs(Sheet, { title: `Render ${shot.name}`, open: open, onClose: () => setOpen(false), children: [_jsxs("p", { className: "mb-3", children: [shot.last - shot.first + 1, " frames as ", shot.depth, " bit PNG, numbered ", shot.first, " to ", shot.last, ", and an H.264 review movie. Pixels that no patch touches keep the plate\u2019s own code values."] }), _jsxs("div", { className: "mb-4 flex items-center gap-3", children: [_jsxs(Button, { weight: "main", onClick: begin, children: ["Render revision ", revision.number] }), _jsx("a", { className: "rounded text-fern underline underline-offset-2", href: `/api/shots/${shot.id}/treatment/export`, download: true, children: "Save the treatment as a file" })] }), _jsx("ul", { className: "flex flex-col gap-2", children: renders.map((t) => (_jsxs("li", { className: "rounded border border-rule bg-soil px-3 py-2", children: [_jsxs("div", { className: "flex items-baseline justify-between", children: [_jsx("span", { children: t.title }), _jsx("span", { className: "text-[13px] text-quiet", children: words[t.state] })] }), isOpen(t) && (_jsxs("div", { className: "mt-1 flex items-center gap-3", children: [_jsx(Progress, { label: "Frames rendered", done: t.done, total: t.total }), _jsxs("span", { className: "font-mono text-[13px]", children: [t.done, " of ", t.total, ", ", t.rate.toFixed(1), " frames/s"] }), _jsx(Button, { weight: "bare", className: "py-0!", onClick: () => void answer(api.POST('/api/tasks/{id}/cancel', { params: { path: { id: t.id } } })).catch((e) => notify(e.message)), children: "Cancel" })] })), t.problem && _jsx("p", { className: "text-[13px] text-clay", children: t.problem }), t.state === 'done' && (_jsxs("p", { className: "mt-1 flex gap-4", children: [_jsx("a", { className: "rounded text-fern underline underline-offset-2", href: `/api/renders/${t.id}/frames`, download: true, children: "Frames (zip)" }), _jsx("a", { className: "rounded text-fern underline underline-offset-2", href: `/api/renders/${t.id}/movie`, download: true, children: "Review movie" }), _jsxs("span", { className: "text-[13px] text-quiet", children: [t.rate.toFixed(1), " frames/s"] })] }))] }, t.id))) })] })] }));
}
