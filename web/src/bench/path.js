import { jsx as _jsx, jsxs as _jsxs } from "react/jsx-runtime";
import { Menu, MenuButton, MenuItem, MenuItems, Switch } from '@headlessui/react';
import { useState } from 'react';
import { Link } from 'wouter';
import { answer, api } from '../api/client';
import { isOpen, useTasks } from '../api/tasks';
import { useEdit } from '../api/treatment';
import { Button, NumberInput, Text } from '../ui/controls';
import { Leaf } from '../ui/leaf';
import { notify } from '../ui/notice';
import { Progress } from '../ui/progress';
import { on, startRemoval } from './edits';
import { useScores } from './scores';
import { stages, standing, standingWords } from './stages';
import { FillStage } from './stages/fill';
import { FollowStage } from './stages/follow';
import { MarkStage } from './stages/mark';
import { GuardStage } from './stages/guard';
import { SettleStage } from './stages/settle';
import { bench, useBench } from './state';
/** The path: all removals as a ledger of cards; the open one unfolds into its stages. */
export function Path(props) {
    const { shot, revision } = props;
    const { edit, undo, redo } = useEdit(shot.id);
    const open = useBench((s) => s.removal);
    const [find, setFind] = useState('');
    const wanted = find.trim().toLowerCase();
    return (_jsxs("aside", { className: "row-span-3 flex min-h-0 flex-col border-r border-rule bg-bed", "aria-label": "Removals", children: [_jsxs("header", { className: "flex items-center gap-2 border-b border-rule px-3 py-2", children: [_jsx(Link, { href: "/", title: "Back to the shot wall", className: "flex items-center gap-2 rounded", children: _jsx(Leaf, { className: "h-6 w-6" }) }), _jsxs("div", { className: "min-w-0 flex-1 leading-tight", children: [_jsx("h1", { className: "truncate font-semibold", children: shot.name }), _jsx("p", { className: "truncate text-[13px] text-quiet", children: shot.show })] }), _jsx(Button, { weight: "bare", disabled: !revision.undo, title: revision.undo ? `Undo: ${revision.undo} (Ctrl Z)` : 'Nothing to undo', onClick: () => void undo(), children: "Undo" }), _jsx(Button, { weight: "bare", disabled: !revision.redo, title: revision.redo ? `Redo: ${revision.redo} (Ctrl Shift Z)` : 'Nothing to redo', onClick: () => void redo(), children: "Redo" })] }), _jsxs("div", { className: "min-h-0 flex-1 overflow-y-auto p-2", children: [revision.document.removals.length > 1 && (_jsx("input", { "aria-label": "Find by name", placeholder: "Find by name", className: "mb-2 w-full rounded border border-stone bg-soil px-2 py-1", value: find, onChange: (e) => setFind(e.target.value), onKeyDown: (e) => e.stopPropagation() })), wanted && (_jsx("ul", { className: "mb-2 flex flex-col gap-0.5 text-[13px]", "aria-label": "Found", children: revision.document.removals.flatMap((r) => r.mark.outlines.filter((o) => o.name.toLowerCase().includes(wanted)).map((o) => (_jsx("li", { children: _jsxs("button", { type: "button", className: "w-full truncate rounded px-2 py-0.5 text-left hover:bg-slab", onClick: () => { bench.open(r.id, 'mark'); bench.set({ outline: o.id, knots: [] }); }, children: [o.name, " ", _jsxs("span", { className: "text-quiet", children: ["of ", r.name] })] }) }, o.id)))) })), _jsx("ol", { className: "flex flex-col gap-2", children: revision.document.removals.filter((r) => !wanted || r.id === open || r.name.toLowerCase().includes(wanted)).map((r) => (_jsxs("li", { className: `rounded-lg border ${r.id === open ? 'border-stone bg-soil' : 'border-rule'}`, children: [_jsx(Card, { ...props, removal: r, open: r.id === open }), r.id === open && _jsx(Unfolded, { ...props, removal: r })] }, r.id))) }), revision.document.removals.length === 0 && (_jsx("p", { className: "px-2 py-3 text-quiet", children: "Nothing is removed yet. Go to a frame on which the thing is large, sharp and evenly lit, and begin a removal there: it becomes the reference frame." })), _jsx(Button, { weight: "main", className: "mt-2 w-full", title: "Begin a removal on this frame (N)", onClick: () => startRemoval(props, edit), children: "New removal on this frame" })] })] }));
}
function Card({ shot, revision, removal: r, open }) {
    const { edit } = useEdit(shot.id);
    return (_jsxs("div", { className: "flex items-center gap-2 p-2", children: [_jsxs("button", { type: "button", "aria-expanded": open, className: "flex min-w-0 flex-1 items-center gap-2 rounded text-left", onClick: () => (open ? bench.open(null) : bench.open(r.id, 'mark')), children: [_jsx(Spot, { shot: shot, removal: r }), _jsxs("span", { className: `min-w-0 flex-1 ${r.off ? 'opacity-50' : ''}`, children: [_jsx("span", { className: "block truncate", children: r.name }), _jsx("span", { className: "mt-0.5 flex gap-2", children: stages.map((s) => (_jsx(Mark, { standing: standing(revision.document, r, s.id, revision.stale), label: s.name }, s.id))) })] })] }), _jsx(Switch, { checked: !r.off, onChange: (v) => void edit(v ? `Use ${r.name}` : `Leave out ${r.name}`, on(r.id, (d) => { if (v)
                    delete d.off;
                else
                    d.off = true; })), "aria-label": `Use ${r.name}`, title: r.off ? 'Left out of the result' : 'Part of the result', className: "group inline-flex h-4 w-7 items-center rounded-full bg-stone data-checked:bg-moss", children: _jsx("span", { className: "size-3 translate-x-0.5 rounded-full bg-text transition group-data-checked:translate-x-3.5" }) }), _jsxs(Menu, { children: [_jsx(MenuButton, { className: "rounded px-1.5 py-0.5 text-quiet hover:bg-slab hover:text-text", "aria-label": `More for ${r.name}`, children: "\u00B7\u00B7\u00B7" }), _jsxs(MenuItems, { anchor: "bottom end", className: "z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none", children: [_jsx(MenuItem, { children: _jsx("button", { type: "button", className: "block w-full rounded-sm px-3 py-1 text-left data-focus:bg-stone", onClick: () => bench.set({ frame: r.reference, playing: false }), children: "Go to its reference frame" }) }), _jsx(MenuItem, { children: _jsx("button", { type: "button", className: "block w-full rounded-sm px-3 py-1 text-left data-focus:bg-stone", onClick: () => { bench.open(r.id, 'mark'); bench.set({ tool: 'copy', copying: r.id, playing: false }); }, children: "Copy to another place" }) }), _jsx(MenuItem, { children: _jsx("button", { type: "button", className: "block w-full rounded-sm px-3 py-1 text-left text-clay data-focus:bg-stone", onClick: () => void edit(`Delete ${r.name}`, (d) => { d.removals = d.removals.filter((x) => x.id !== r.id); }), children: "Delete the removal" }) })] })] })] }));
}
/** The marked spot on the reference frame, cut from its picture. */
function Spot({ shot, removal: r }) {
    const points = r.mark.outlines.flatMap((o) => o.points.map((p) => p.at));
    const size = 40;
    const xs = points.map((p) => p[0]);
    const ys = points.map((p) => p[1]);
    const span = points.length ? Math.max(24, Math.max(Math.max(...xs) - Math.min(...xs), Math.max(...ys) - Math.min(...ys)) * 1.8) : shot.height;
    const x = points.length ? (Math.max(...xs) + Math.min(...xs)) / 2 : shot.width / 2;
    const y = points.length ? (Math.max(...ys) + Math.min(...ys)) / 2 : shot.height / 2;
    const k = size / span;
    return (_jsx("span", { "aria-hidden": true, className: "size-10 shrink-0 rounded border border-stone bg-soil", style: {
            backgroundImage: `url(/api/shots/${shot.id}/frames/${r.reference}/screen)`,
            backgroundSize: `${shot.width * k}px ${shot.height * k}px`,
            backgroundPosition: `${size / 2 - x * k}px ${size / 2 - y * k}px`,
            backgroundRepeat: 'no-repeat',
        } }));
}
/** A stage's standing: empty ring, half leaf, full leaf, or clay where it needs a look. */
function Mark({ standing, label }) {
    const fill = { empty: 'none', begun: 'none', done: 'var(--color-fern)', look: 'var(--color-clay)' }[standing];
    const line = standing === 'look' ? 'var(--color-clay)' : standing === 'empty' ? 'var(--color-stone)' : 'var(--color-fern)';
    return (_jsxs("svg", { viewBox: "0 0 12 12", className: "size-3", role: "img", "aria-label": `${label}: ${standingWords[standing]}`, children: [_jsx("title", { children: `${label}: ${standingWords[standing]}` }), _jsx("path", { d: "M1.5 10.5C1 4 5 1.5 10.5 1.5c0 5.500-3 9-9 9z", fill: fill, stroke: line, strokeWidth: "1.3" }), standing === 'begun' && _jsx("path", { d: "M1.5 10.500L8 4C9 6 6 10 1.500 10.500z", fill: line })] }));
}
/** The reference frame: go there, move the zero to the frame shown, or ask which frame is best. */
function Reference({ shot, removal: r }) {
    const { edit } = useEdit(shot.id);
    const frame = useBench((s) => s.frame);
    const task = useTasks(shot.id).find((t) => t.kind === 'scout' && t.subject === r.id);
    const { data } = useScores(shot.id, r.id);
    const best = data?.frames[0];
    const running = task && isOpen(task);
    return (_jsxs("div", { className: "text-[13px]", children: [_jsxs("div", { className: "flex items-center gap-1", children: [_jsxs("span", { className: "flex-1 whitespace-nowrap text-quiet", children: ["Reference ", _jsx("span", { className: "font-mono text-text", children: r.reference })] }), _jsx(Button, { weight: "bare", className: "px-1! py-0!", title: "Go to the reference frame (J)", onClick: () => bench.set({ frame: r.reference, playing: false }), children: "Go there" }), _jsx(Button, { weight: "bare", className: "px-1! py-0!", disabled: frame === r.reference, title: "Make the frame shown the reference frame: outlines, paint and track stay where they are, nothing is followed again", onClick: () => void edit(`Reference frame ${frame}`, on(r.id, (d) => {
                            d.reference = frame;
                        })), children: "Move here" }), _jsx(Button, { weight: "bare", className: "px-1! py-0!", disabled: !!running || !r.mark.outlines.length, title: "Score every frame by sharpness, smear, light, size, and what is in front", onClick: () => void answer(api.POST('/api/shots/{id}/scout/{removal}', { params: { path: { id: shot.id, removal: r.id } } })).catch((e) => notify(e.message)), children: "Suggest" })] }), running && _jsxs("div", { className: "flex items-center gap-2 py-1", children: [_jsx(Progress, { label: "Frames scored", done: task.done, total: task.total }), _jsx(Button, { weight: "bare", className: "py-0!", onClick: () => void answer(api.POST('/api/tasks/{id}/cancel', { params: { path: { id: task.id } } })).catch((e) => notify(e.message)), children: "Cancel" })] }), !running && task?.problem && _jsx("p", { className: "text-clay", children: task.problem }), best && !running && (_jsx("p", { className: "text-quiet", children: _jsx("button", { type: "button", className: "rounded text-left underline decoration-stone underline-offset-2 hover:text-text", title: "Go there", onClick: () => bench.set({ frame: best.frame, playing: false }), children: data.words }) }))] }));
}
function Unfolded(props) {
    const { shot, revision, removal: r } = props;
    const { edit } = useEdit(shot.id);
    const stage = useBench((s) => s.stage);
    return (_jsxs("div", { className: "border-t border-rule px-2 pt-2 pb-3", children: [_jsxs("div", { className: "mb-2 grid gap-1.5 px-1", children: [_jsx(Text, { label: "Name of the removal", className: "w-full", value: r.name, onDone: (name) => void edit(`Rename to ${name}`, on(r.id, (d) => { d.name = name; })) }), _jsx(Reference, { ...props }), _jsxs("div", { className: "flex items-center gap-2 text-[13px]", title: "Frames on which the patch is laid", children: [_jsx("span", { className: "flex-1 text-quiet", children: "Frames" }), _jsx(NumberInput, { label: "First frame of the removal", className: "w-16", value: r.range.first, min: shot.first, max: r.range.last, onDone: (v) => void edit('Change the range', on(r.id, (d) => { d.range.first = Math.round(v); })) }), _jsx("span", { className: "text-quiet", children: "to" }), _jsx(NumberInput, { label: "Last frame of the removal", className: "w-16", value: r.range.last, min: r.range.first, max: shot.last, onDone: (v) => void edit('Change the range', on(r.id, (d) => { d.range.last = Math.round(v); })) })] })] }), _jsxs("ol", { className: "relative", children: [_jsx("span", { "aria-hidden": true, className: "absolute top-3 bottom-3 left-[9px] w-px bg-stone" }), stages.map((s) => (_jsxs("li", { className: "relative pl-6", children: [_jsx("span", { className: "absolute top-2 left-[3px] bg-soil py-0.5", children: _jsx(Mark, { standing: standing(revision.document, r, s.id, revision.stale), label: s.name }) }), _jsxs("button", { type: "button", "aria-expanded": stage === s.id, title: `${s.asks} (${s.key})`, className: `flex w-full items-baseline gap-2 rounded px-1.5 py-1 text-left hover:bg-slab ${stage === s.id ? 'font-semibold' : ''}`, onClick: () => bench.open(r.id, s.id), children: [s.name, _jsx("span", { className: "text-[13px] font-normal text-quiet", children: s.asks })] }), stage === s.id && (_jsxs("div", { className: "flex flex-col gap-2 py-1.5 pl-1.5", children: [s.id === 'mark' && _jsx(MarkStage, { ...props }), s.id === 'follow' && _jsx(FollowStage, { ...props }), s.id === 'fill' && _jsx(FillStage, { ...props }), s.id === 'settle' && _jsx(SettleStage, { ...props }), s.id === 'guard' && _jsx(GuardStage, { ...props })] }))] }, s.id)))] })] }));
}
