import { jsx as _jsx, jsxs as _jsxs, Fragment as _Fragment } from "react/jsx-runtime";
import { Menu, MenuButton, MenuItems } from '@headlessui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { answer, api } from '../../api/client';
import { newId } from '../../api/treatment';
import { Select } from '../../ui/choice';
import { Button, Check, NumberField, NumberInput } from '../../ui/controls';
import { Item } from '../../ui/menu';
import { dropStroke, on } from '../edits';
import { allStrokes, bedOf, copies, modes, newPaint, newPlate, nextUnpainted, onStroke, repeatHere } from '../fill';
import { boundsOf, pathOf } from '../handles/curve';
import { bench, useBench } from '../state';
/** The points of a removal's strokes, by stroke. */
export function usePaths(shot, r, enabled = true) {
    return useQuery({
        queryKey: ['paths', shot, r.id, allStrokes(r).map((s) => s.path?.artifact).join()],
        queryFn: () => answer(api.GET('/api/shots/{id}/paths/{removal}', { params: { path: { id: shot, removal: r.id } } })),
        placeholderData: (old) => old,
        enabled,
    }).data;
}
const words = (s) => modes.find((m) => m.value === s.mode).label;
const lasts = (s) => (!s.range ? '' : s.range.first === s.range.last ? `, only ${s.range.first}` : `, ${s.range.first} to ${s.range.last}`);
/** The strokes of a removal, in the order in which they are laid. */
export function Strokes({ shot, revision, removal: r, onPaint, edit }) {
    const { stroke: chosen, frame, faint, bed } = useBench();
    const strokes = allStrokes(r);
    const picked = strokes.find((s) => s.id === chosen);
    const few = strokes.length <= 300;
    const [all, setAll] = useState(false);
    const from = all ? 0 : Math.max(0, strokes.length - 120);
    const paths = usePaths(shot.id, r, few && strokes.length > 0);
    const travelling = onPaint?.kind === 'paint' ? onPaint : null;
    const repeat = travelling && repeatHere(r, travelling, frame);
    const unpainted = travelling && nextUnpainted(r, frame);
    return (_jsxs(_Fragment, { children: [travelling && (_jsxs("div", { className: "grid grid-cols-2 gap-1.5", children: [_jsx(Button, { disabled: !repeat, title: "The strokes of the frame painted last, carried here by the track (R)", onClick: () => repeat && void edit('Repeat strokes here', repeat), children: "Repeat here" }), _jsx(Button, { disabled: unpainted === null, title: "Go to the next frame of the removal without travelling paint (U)", onClick: () => unpainted !== null && bench.set({ frame: unpainted, playing: false }), children: "Next unpainted" }), _jsx("div", { className: "col-span-2", children: _jsx(Check, { label: "Show the last frame\u2019s strokes faintly", value: faint, onChange: (v) => bench.set({ faint: v }) }) })] })), strokes.length > 0 && (_jsxs("ol", { className: "max-h-56 overflow-y-auto rounded border border-rule", "aria-label": "Strokes", children: [from > 0 && _jsx("li", { children: _jsxs(Button, { weight: "bare", className: "w-full", onClick: () => setAll(true), children: ["Show the ", from, " before these"] }) }), strokes.map((s, i) => (i < from || (bed && bedOf(r, s.id)?.id !== bed && r.fill.sources.some((x) => x.id === bed && (x.strokes?.length ?? 0) > 0)) ? null : (_jsx("li", { className: `${s.id === chosen ? 'bg-slab' : ''} ${s.off ? 'opacity-50' : ''}`, children: _jsxs("button", { type: "button", "aria-pressed": s.id === chosen, className: "flex w-full items-center gap-2 rounded px-1 py-0.5 text-left text-[13px]", onClick: () => bench.set({ stroke: s.id === chosen ? null : s.id, tool: 'look', outline: null }), children: [few && _jsx(Thumb, { shot: shot, stroke: s, path: paths?.[s.id] }), _jsxs("span", { className: "min-w-0 flex-1 truncate", children: ["Stroke ", i + 1, _jsxs("span", { className: "text-quiet", children: [", ", words(s), s.area ? ', area' : ` ${Math.round(s.size)} px`] })] }), _jsxs("span", { className: "font-mono text-quiet", children: [s.home, lasts(s) && '*'] })] }) }, s.id))))] })), picked && _jsx(StrokeFields, { shot: shot, revision: revision, removal: r, stroke: picked, edit: edit, number: strokes.indexOf(picked) + 1 })] }));
}
/** Where a stroke lies, on its own frame. */
function Thumb({ shot, stroke: s, path }) {
    const [dx, dy] = s.path?.shift ?? [0, 0];
    const at = s.area ? s.area.points.map((k) => k.at) : (path ?? []).map((p) => [p[0] + dx, p[1] + dy]);
    if (at.length === 0)
        return _jsx("span", { "aria-hidden": true, className: "size-7 shrink-0 rounded border border-stone" });
    const b = boundsOf(at.map((p) => ({ at: p })));
    const span = Math.max(b.right - b.left, b.bottom - b.top) + (s.area ? 12 : s.size * 1.6);
    const k = 28 / span;
    const [x, y] = [(b.left + b.right) / 2, (b.top + b.bottom) / 2];
    const room = (p) => ({ x: 14 + (p.x - x) * k, y: 14 + (p.y - y) * k });
    const d = s.area ? pathOf(s.area.points, room) : pathOf(at.filter((_, i) => i % Math.ceil(at.length / 24) === 0 || i === at.length - 1).map((p) => ({ at: p })), room, false) + (at.length === 1 ? 'h0.01' : '');
    return (_jsx("span", { "aria-hidden": true, className: "relative size-7 shrink-0 overflow-hidden rounded border border-stone", style: { backgroundImage: `url(/api/shots/${shot.id}/frames/${s.home}/screen)`, backgroundSize: `${shot.width * k}px ${shot.height * k}px`, backgroundPosition: `${14 - x * k}px ${14 - y * k}px`, backgroundRepeat: 'no-repeat' }, children: _jsx("svg", { viewBox: "0 0 28 28", className: "absolute inset-0", children: _jsx("path", { d: d, fill: s.area ? 'var(--color-fern)' : 'none', fillOpacity: "0.35", stroke: "var(--color-fern)", strokeOpacity: "0.75", strokeLinecap: "round", strokeLinejoin: "round", strokeWidth: s.area ? 1.5 : Math.max(1.5, s.size * k) }) }) }));
}
/** All that can be changed about a stroke later. */
function StrokeFields({ shot, revision, removal: r, stroke: s, edit, number }) {
    const frame = useBench((x) => x.frame);
    const change = (label, f) => void edit(label, onStroke(r.id, s.id, f));
    const held = bedOf(r, s.id)?.kind === 'plate';
    const span = s.range ?? r.range;
    /** Puts it into another removal, on a source of the same kind and frame. */
    const copyTo = (id) => void edit(`Copy a stroke to ${revision.document.removals.find((x) => x.id === id)?.name}`, on(id, (d) => {
        let into = d.fill.sources.find((x) => (held ? x.kind === 'plate' && x.frame === s.home : x.kind === 'paint'));
        if (!into)
            d.fill.sources.push((into = held ? newPlate(d, s.home) : newPaint(d, s.home)));
        (into.strokes ??= []).push({ ...structuredClone(s), id: newId(), ride: s.ride || r.follow.track || undefined });
    }));
    return (_jsxs("div", { className: "flex flex-col gap-2 border-l-2 border-stone py-1 pl-2", children: [!s.area && _jsx(NumberField, { label: "Size", unit: "px", value: s.size, min: 1, max: 500, onDone: (v) => change('Size of a stroke', (x) => { x.size = v; }) }), s.area && _jsx(NumberField, { label: "Feather", unit: "px", hint: "Half of it lies inside the outline", value: s.area.feather ?? 0, min: 0, max: 60, step: 0.5, onDone: (v) => change('Feather of an area', (x) => { if (x.area)
                    x.area.feather = v; }) }), !s.area && _jsx(NumberField, { label: "Hardness", unit: "%", value: s.hardness * 100, min: 0, max: 100, onDone: (v) => change('Hardness of a stroke', (x) => { x.hardness = v / 100; }) }), _jsx(NumberField, { label: "Opacity", unit: "%", value: s.opacity * 100, min: 0, max: 100, onDone: (v) => change('Opacity of a stroke', (x) => { x.opacity = v / 100; }) }), s.from && (_jsxs("div", { className: "flex items-center gap-1.5", title: "From the painted pixel to the copied one; drag the source on the picture", children: [_jsx("span", { className: "flex-1 text-quiet", children: "Source" }), _jsx(NumberInput, { label: "Source of the stroke, x", className: "w-16", value: s.from.offset[0], min: -8000, max: 8000, onDone: (v) => change('Source of a stroke', (x) => { if (x.from)
                            x.from.offset = [v, x.from.offset[1]]; }) }), _jsx(NumberInput, { label: "Source of the stroke, y", className: "w-16", value: s.from.offset[1], min: -8000, max: 8000, onDone: (v) => change('Source of a stroke', (x) => { if (x.from)
                            x.from.offset = [x.from.offset[0], v]; }) }), s.from.frame !== undefined && _jsxs("span", { className: "text-[13px] text-quiet", children: ["of ", s.from.frame] })] })), copies(s.mode) && (_jsxs("div", { className: "grid grid-cols-[4.9rem_1fr] items-center gap-2", children: [_jsx("span", { className: "text-quiet", children: "Does" }), _jsx(Select, { label: "What the stroke does", value: s.mode, onChange: (v) => change('What a stroke does', (x) => { x.mode = v; }), options: modes.slice(0, 2) })] })), _jsxs("div", { className: "flex items-center gap-1.5 text-[13px]", title: "Frames on which it is there", children: [_jsx("span", { className: "flex-1 text-quiet", children: "Frames" }), _jsx(NumberInput, { label: "First frame of the stroke", className: "w-16", value: span.first, min: shot.first, max: span.last, onDone: (v) => change('Range of a stroke', (x) => { x.range = { ...span, first: Math.round(v) }; }) }), _jsx("span", { className: "text-quiet", children: "to" }), _jsx(NumberInput, { label: "Last frame of the stroke", className: "w-16", value: span.last, min: span.first, max: shot.last, onDone: (v) => change('Range of a stroke', (x) => { x.range = { ...span, last: Math.round(v) }; }) })] }), _jsxs("div", { className: "flex gap-1.5 text-[13px]", children: [_jsx(Button, { className: "flex-1 py-0.5!", on: !s.range, onClick: () => change('Stroke on all frames', (x) => { x.range = undefined; }), children: "All frames" }), _jsxs(Button, { className: "flex-1 py-0.5!", on: s.range?.first === frame && s.range.last === frame, onClick: () => change('Stroke on this frame only', (x) => { x.range = { first: frame, last: frame }; }), children: ["Only ", frame] })] }), _jsxs("div", { className: "flex items-center gap-2", children: [_jsx(Check, { label: "Stays on the screen", hint: "It is not carried by the track", value: s.ride === 'still', onChange: (v) => change('What carries a stroke', (x) => { x.ride = v ? 'still' : undefined; }) }), _jsx("span", { className: "flex-1" }), _jsxs(Menu, { children: [_jsx(MenuButton, { className: "rounded px-1.5 py-0.5 text-quiet hover:bg-stone hover:text-text", "aria-label": `More for stroke ${number}`, children: "\u00B7\u00B7\u00B7" }), _jsxs(MenuItems, { anchor: "bottom end", className: "z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none", children: [_jsx(Item, { onClick: () => bench.set({ frame: s.home, playing: false }), children: "Go to its frame" }), _jsx(Item, { onClick: () => change(s.off ? 'Use a stroke' : 'Leave out a stroke', (x) => { x.off = s.off ? undefined : true; }), children: s.off ? 'Use it again' : 'Leave it out' }), _jsx(Item, { onClick: () => void edit('Earlier in the order', onStroke(r.id, s.id, (x, { list, i }) => { if (i > 0)
                                            list.splice(i - 1, 2, x, list[i - 1]); })), children: "Earlier in the order" }), _jsx(Item, { onClick: () => void edit('Later in the order', onStroke(r.id, s.id, (x, { list, i }) => { if (i < list.length - 1)
                                            list.splice(i, 2, list[i + 1], x); })), children: "Later in the order" }), revision.document.removals.filter((x) => x.id !== r.id).map((x) => _jsxs(Item, { onClick: () => copyTo(x.id), children: ["Copy to ", x.name] }, x.id))] })] }), _jsx(Button, { weight: "bare", className: "py-0!", "aria-label": `Delete stroke ${number}`, onClick: () => { bench.set({ stroke: null }); void edit('Delete a stroke', on(r.id, (d) => dropStroke(d, s.id))); }, children: "Delete" })] })] }));
}
