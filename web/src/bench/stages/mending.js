import { jsx as _jsx, jsxs as _jsxs } from "react/jsx-runtime";
import { useState } from 'react';
import { useEdit } from '../../api/treatment';
import { Button, NumberField, NumberInput } from '../../ui/controls';
import { onTrack, putKey } from '../edits';
import { bench, useBench } from '../state';
import { newCorrection } from '../handles/surface';
/** Mending a track: corrections on top of it, frames dropped or placed by hand, smoothing. */
export function Mending({ shot, motion }) {
    const { edit } = useEdit(shot.id);
    const { tool, frame } = useBench();
    const { track } = motion;
    const [open, setOpen] = useState(false);
    const change = (label, f) => void edit(label, onTrack(track.id, f));
    const add = (kind) => {
        change('Begin a correction', (t) => { (t.corrections ??= []).push(newCorrection(t, kind)); });
        bench.set({ tool: 'correct', locked: true, handles: true, outline: null, points: [] });
    };
    const dropped = track.dropped?.some((r) => frame >= r.first && frame <= r.last);
    const last = [...(track.corrections ?? [])].reverse().find((c) => !c.off);
    return (_jsxs("div", { className: "rounded border border-rule", children: [_jsxs("button", { type: "button", "aria-expanded": open, className: "flex w-full items-baseline gap-2 rounded px-2 py-1 text-left hover:bg-slab", onClick: () => setOpen(!open), children: ["Mending ", _jsx("span", { className: "text-[13px] text-quiet", children: track.corrections?.length ? `${track.corrections.length} ${track.corrections.length === 1 ? 'correction' : 'corrections'}` : 'corrections, dropped frames, smoothing' })] }), open && (_jsxs("div", { className: "flex flex-col gap-2 border-t border-rule p-2", children: [track.corrections?.map((c) => (_jsxs("div", { className: "flex items-center gap-1.5", children: [_jsx("input", { type: "checkbox", "aria-label": `Use ${c.name}`, title: "Switch off to compare", checked: !c.off, className: "size-4 accent-fern", onChange: () => change(c.off ? 'Use a correction' : 'Leave a correction out', (t) => { const x = t.corrections?.find((k) => k.id === c.id); if (x)
                                    x.off = c.off ? undefined : true; }) }), _jsxs("span", { className: "min-w-0 flex-1 truncate", children: [c.name, " ", _jsxs("span", { className: "text-[13px] text-quiet", children: [c.keys.length, " ", c.keys.length === 1 ? 'key' : 'keys'] })] }), _jsx(Button, { weight: "bare", className: "py-0!", "aria-label": `Delete ${c.name}`, onClick: () => { bench.set({ tool: 'look' }); change('Delete a correction', (t) => { t.corrections = t.corrections?.filter((k) => k.id !== c.id); }); }, children: "Delete" })] }, c.id))), last ? (_jsx(Button, { on: tool === 'correct', title: "Drag the surface\u2019s corners where they should be on this frame, best in the locked view", onClick: () => bench.set(tool === 'correct' ? { tool: 'look' } : { tool: 'correct', locked: true }), children: tool === 'correct' ? 'Correcting: drag the surface' : 'Correct on the picture' })) : null, last?.kind === 'placement' && _jsx(PlacementKey, { motion: motion, correction: last, change: change, frame: frame }), _jsxs("div", { className: "grid grid-cols-2 gap-1.5", children: [_jsx(Button, { title: "The whole surface moved, turned and scaled", onClick: () => add('placement'), children: "By placement" }), _jsx(Button, { title: "Each of the surface\u2019s four corners by itself", onClick: () => add('corners'), children: "By corners" }), _jsx(Button, { title: "The crossings of a coarse grid: for a surface that bends a little", onClick: () => add('grid'), children: "By grid" }), _jsx(Button, { on: tool === 'surface', title: "Lay the four corners on another part of the plane", onClick: () => bench.set({ tool: tool === 'surface' ? 'look' : 'surface' }), children: "Lay the surface" }), _jsx(Button, { on: tool === 'place', title: "Drag the surface to where it is on this frame; frames between are filled", onClick: () => bench.set({ tool: tool === 'place' ? 'look' : 'place' }), children: "Place by hand" }), _jsx(Button, { title: "Its measurement is not used; the frames beside it are joined", onClick: () => change(dropped ? 'Use a frame again' : 'Drop a frame', (t) => {
                                    if (dropped)
                                        t.dropped = t.dropped?.flatMap((r) => (frame < r.first || frame > r.last ? [r] : [...(r.first < frame ? [{ first: r.first, last: frame - 1 }] : []), ...(r.last > frame ? [{ first: frame + 1, last: r.last }] : [])]));
                                    else
                                        (t.dropped ??= []).push({ first: frame, last: frame });
                                }), children: dropped ? 'Use it again' : 'Drop this frame' })] }), _jsx(NumberField, { label: "Smooth", unit: "fr", hint: "Over so many frames (standard deviation); 0 leaves the track as measured", value: track.smooth ?? 0, min: 0, max: 10, step: 0.5, onDone: (v) => change('Smooth the track', (t) => { t.smooth = v || undefined; }) })] }))] }));
}
/** The numbers of a correction by placement on this frame. */
function PlacementKey({ motion, correction: c, change, frame }) {
    const key = c.keys.find((k) => k.frame === frame);
    const here = key ?? c.keys.filter((k) => k.frame <= frame).pop() ?? c.keys[0];
    if (!here)
        return null;
    const set = (f) => change('Correct the track', (t) => {
        const x = t.corrections?.find((k) => k.id === c.id);
        if (!x)
            return;
        const next = { ...structuredClone(here), frame };
        f(next);
        putKey(x.keys, next);
    });
    const fields = [
        { label: 'Offset x', unit: 'px', value: here.offset[0], set: (v) => set((k) => { k.offset = [v, k.offset[1]]; }) },
        { label: 'Offset y', unit: 'px', value: here.offset[1], set: (v) => set((k) => { k.offset = [k.offset[0], v]; }) },
        { label: 'Turn', unit: '°', value: here.turn ?? 0, set: (v) => set((k) => { k.turn = v; }) },
        { label: 'Scale', unit: '%', value: (here.scale || 1) * 100, set: (v) => set((k) => { k.scale = v / 100; }) },
    ];
    return (_jsx("div", { className: "grid grid-cols-2 gap-x-3 gap-y-1 text-[13px]", title: `${key ? 'Keyed' : 'Not keyed'} on frame ${frame} of ${motion.track.name}`, children: fields.map((f) => (_jsxs("label", { className: "flex items-center gap-1", children: [_jsx("span", { className: "flex-1 text-quiet", children: f.label }), _jsx(NumberInput, { label: `${f.label} of the correction`, className: "w-14", value: f.value, min: -5000, max: 5000, onDone: f.set }), _jsx("span", { className: "w-4 text-quiet", children: f.unit })] }, f.label))) }));
}
