import { jsx as _jsx, jsxs as _jsxs, Fragment as _Fragment } from "react/jsx-runtime";
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'wouter';
import { answer, api } from '../api/client';
import { useTasks } from '../api/tasks';
import { Button } from '../ui/controls';
import { Progress } from '../ui/progress';
import { notify } from '../ui/notice';
import { BringIn } from './bringin';
import { Leaf } from '../ui/leaf';
/** The shot wall: every show with its shots. */
export function Wall() {
    const shots = useQuery({ queryKey: ['shots'], queryFn: () => answer(api.GET('/api/shots')) });
    const tasks = useTasks('');
    const [open, setOpen] = useState(false);
    const shows = Map.groupBy((shots.data ?? []), (s) => s.show);
    return (_jsxs("main", { className: "mx-auto h-full max-w-6xl overflow-y-auto px-8 py-8", children: [_jsxs("header", { className: "mb-8 flex items-center gap-3", children: [_jsx(Leaf, { className: "h-8 w-8" }), _jsx("h1", { className: "text-2xl font-semibold", children: "Jardin" }), _jsx("span", { className: "flex-1" }), _jsx(Button, { weight: "main", onClick: () => setOpen(true), children: "Bring in a shot\u2026" })] }), shots.isError && _jsx("p", { className: "text-clay", children: shots.error.message }), shots.data?.length === 0 && (_jsx("p", { className: "max-w-md text-quiet", children: "There are no shots yet. Bring in a folder of numbered stills, or a movie, to begin." })), [...shows].map(([show, list]) => (_jsxs("section", { className: "mb-10", children: [_jsx("h2", { className: "mb-3 border-b border-rule pb-1 text-quiet", children: show }), _jsx("ul", { className: "grid grid-cols-[repeat(auto-fill,minmax(17rem,1fr))] gap-5", children: list.map((s) => (_jsx(ShotCard, { shot: s, task: tasks.find((t) => t.shotId === s.id && t.kind === 'import' && t.state === 'running') }, s.id))) })] }, show))), _jsx(BringIn, { open: open, onClose: () => setOpen(false), shows: [...shows.keys()] })] }));
}
function ShotCard({ shot, task }) {
    const remove = () => answer(api.DELETE('/api/shots/{id}', { params: { path: { id: shot.id } } })).catch((e) => notify(e.message));
    const middle = Math.floor((shot.first + shot.last) / 2);
    const facts = (_jsxs(_Fragment, { children: [_jsxs("span", { className: "flex items-baseline justify-between", children: [_jsx("span", { className: "text-lg", children: shot.name }), _jsxs("span", { className: "font-mono text-[13px] text-quiet", children: [shot.first, " to ", shot.last] })] }), _jsxs("span", { className: "block text-[13px] text-quiet", children: [shot.width, " \u00D7 ", shot.height, ", ", shot.depth, " bit, ", Math.round((shot.rateNum / shot.rateDen) * 1000) / 1000, " frames/s"] })] }));
    if (shot.state === 'ready') {
        return (_jsx("li", { children: _jsxs(Link, { href: `/shots/${shot.id}`, className: "block overflow-hidden rounded-lg border border-rule bg-bed hover:border-fern", children: [_jsx("img", { src: `/api/shots/${shot.id}/frames/${middle}/screen`, alt: "", className: "aspect-video w-full object-cover" }), _jsx("span", { className: "block px-3 py-2", children: facts })] }) }));
    }
    return (_jsxs("li", { className: "rounded-lg border border-rule bg-bed px-3 py-2", children: [facts, shot.state === 'failed' ? (_jsxs(_Fragment, { children: [_jsx("p", { className: "my-2 text-clay", children: shot.problem }), _jsx(Button, { onClick: () => void remove(), children: "Take off the wall" })] })) : (_jsxs("div", { className: "my-2 flex items-center gap-3", children: [_jsx(Progress, { label: "Frames brought in", done: task?.done ?? 0, total: task?.total ?? 1 }), _jsx("span", { className: "font-mono text-[13px] text-quiet", children: task ? `${task.done} of ${task.total}` : 'waiting' }), task && (_jsx(Button, { weight: "bare", onClick: () => void answer(api.POST('/api/tasks/{id}/cancel', { params: { path: { id: task.id } } })).catch((e) => notify(e.message)), children: "Cancel" }))] }))] }));
}
