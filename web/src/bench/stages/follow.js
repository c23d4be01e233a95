import { jsx as _jsx, Fragment as _Fragment, jsxs as _jsxs } from "react/jsx-runtime";
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/react';
import { useEffect, useRef, useState } from 'react';
import { answer, api } from '../../api/client';
import { useLive } from '../../api/live';
import { useTasks } from '../../api/tasks';
import { useEdit } from '../../api/treatment';
import { Select } from '../../ui/choice';
import { Button, Check, NumberInput, Text } from '../../ui/controls';
import { bringIn } from '../../ui/files';
import { Item } from '../../ui/menu';
import { notify } from '../../ui/notice';
import { Progress } from '../../ui/progress';
import { on, onTrack } from '../edits';
import { still } from '../motion';
import { bench, useBench } from '../state';
import { newTrack, ridersOf } from '../tracks';
import { Mending } from './mending';
import { PlaneFields } from './plane';
import { PointFields } from './points';
/** Follow: the track that carries the patch. */
export function FollowStage(props) {
    const { shot, revision, removal: r, motion } = props;
    const { edit } = useEdit(shot.id);
    const tool = useBench((s) => s.tool);
    const region = !motion || motion.track.kind === 'plane';
    return (_jsxs(_Fragment, { children: [_jsx(TrackPicker, { ...props }), region && r.follow.track !== still && (_jsx(Button, { on: tool === 'region', title: "Drag a box around a piece of the surface (O)", onClick: () => bench.set(tool === 'region' ? { tool: 'look' } : { tool: 'region', playing: false }), children: tool === 'region' ? 'Drag a box on the picture' : (motion?.track.region?.length ?? 0) < 3 ? 'Draw a region' : 'Draw the region anew' })), !motion && r.follow.track !== still && (_jsxs(_Fragment, { children: [_jsx("p", { className: "text-[13px] text-quiet", children: "A region is a piece of the one flat surface under the thing, with texture in it. It may hold the thing itself as long as that moves with the surface." }), _jsx(Button, { title: "Small patterns that are followed one by one", onClick: () => {
                            const track = newTrack(revision.document, 'points', bench.get().frame);
                            void edit('New points', (d) => {
                                d.tracks.push(structuredClone(track));
                                on(r.id, (x) => { x.follow.track = track.id; })(d);
                            });
                            bench.set({ tool: 'point' });
                        }, children: "Put points instead" })] })), motion && (_jsxs(_Fragment, { children: [motion.track.kind === 'plane' && _jsx(PlaneFields, { ...props, motion: motion }), motion.track.kind === 'points' && _jsx(PointFields, { ...props, motion: motion }), motion.track.kind !== 'given' && _jsx(Run, { ...props, motion: motion }), _jsx(Quality, { ...props, motion: motion }), motion.samples.size > 1 && _jsx(Mending, { ...props, motion: motion })] }))] }));
}
/** Which of the shot's tracks carries the removal, and what can be done with it as a whole. */
function TrackPicker({ shot, revision, removal: r, motion }) {
    const { edit, adopt } = useEdit(shot.id);
    const frame = useBench((s) => s.frame);
    const file = useRef(null);
    const { tracks } = revision.document;
    const begin = (kind) => {
        const track = newTrack(revision.document, kind, frame);
        void edit(`New track ${track.name}`, (d) => {
            d.tracks.push(structuredClone(track));
            on(r.id, (x) => { x.follow.track = track.id; })(d);
        });
        bench.set({ tool: kind === 'plane' ? 'region' : 'point', points: [] });
    };
    const t = motion?.track;
    const files = t ? `/api/shots/${shot.id}/tracks/${t.id}/file` : '';
    return (_jsxs("div", { className: "flex items-center gap-1.5", children: [tracks.length > 0 && (_jsx("div", { className: "min-w-0 flex-1", children: _jsx(Select, { label: "The track that carries the removal", value: r.follow.track ?? '', onChange: (v) => void edit('Choose a track', on(r.id, (d) => { d.follow.track = v || undefined; })), options: [...tracks.map((x) => ({ value: x.id, label: x.name, hint: { plane: 'a plane', points: 'points', given: 'brought in' }[x.kind] })), { value: still, label: 'Still', hint: 'the camera does not move' }, { value: '', label: 'None yet' }] }) })), t && _jsx(Text, { label: "Name of the track", className: "w-24", value: t.name, onDone: (name) => void edit(`Rename to ${name}`, onTrack(t.id, (x) => { x.name = name; })) }), _jsxs(Menu, { children: [_jsx(MenuButton, { className: "rounded border border-stone bg-slab px-2 py-1 leading-5 hover:bg-stone", "aria-label": "More for tracks", children: "\u00B7\u00B7\u00B7" }), _jsxs(MenuItems, { anchor: "bottom end", className: "z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none", children: [_jsx(Item, { onClick: () => begin('plane'), children: "New track of a plane" }), _jsx(Item, { onClick: () => begin('points'), children: "New track of points" }), _jsx(Item, { onClick: () => file.current?.click(), children: "Bring in a track (CSV, JSON)" }), t && (_jsxs(_Fragment, { children: [_jsx(Item, { onClick: () => {
                                            const track = { ...newTrack(revision.document, 'plane', t.home), over: t.id, region: t.region, name: `${t.name}, once more` };
                                            void edit('Once more, locked', (d) => {
                                                d.tracks.push(structuredClone(track));
                                                on(r.id, (x) => { x.follow.track = track.id; })(d);
                                            });
                                            if (!track.region)
                                                bench.set({ tool: 'region' });
                                        }, children: "Once more, locked: a plane in the locked picture" }), _jsx(Item, { onClick: () => {
                                            const track = { ...newTrack(revision.document, 'points', t.home), over: t.id, motion: 'position', name: `${t.name}, once more` };
                                            void edit('Once more, locked', (d) => {
                                                d.tracks.push(structuredClone(track));
                                                on(r.id, (x) => { x.follow.track = track.id; })(d);
                                            });
                                            bench.set({ tool: 'point', points: [], locked: true, frame: t.home });
                                        }, children: "Once more, locked: points in the locked picture" }), _jsx(Save, { href: `${files}?as=json`, children: "Save as JSON" }), _jsx(Save, { href: `${files}?as=matrices`, children: "Save matrices as CSV" }), _jsx(Save, { href: `${files}?as=corners`, children: "Save corners as CSV" }), t.kind === 'points' && _jsx(Save, { href: `${files}?as=points`, children: "Save points as CSV" }), _jsx(Save, { href: `${files}?as=st&from=${r.reference}&to=${frame}`, children: "Save this frame\u2019s warp as an ST map" }), _jsx(Item, { onClick: () => {
                                            const riders = ridersOf(revision.document, t.id).filter((name) => name !== r.name);
                                            if (riders.length)
                                                return notify(`${t.name} cannot be deleted: ${riders.join(', ')} ${riders.length > 1 ? 'ride' : 'rides'} on it.`);
                                            void edit(`Delete ${t.name}`, (d) => {
                                                d.tracks = d.tracks.filter((x) => x.id !== t.id);
                                                on(r.id, (x) => { x.follow.track = undefined; })(d);
                                            });
                                        }, children: "Delete the track" })] }))] })] }), _jsx("input", { ref: file, type: "file", accept: ".csv,.json", className: "hidden", "aria-label": "Track file", onChange: (e) => void bringIn(e, `/api/shots/${shot.id}/tracks/file?home=${frame}`).then((rev) => rev && adopt(rev)) })] }));
}
function Save({ href, children }) {
    return (_jsx(MenuItem, { children: _jsx("a", { href: href, className: "block w-full rounded-sm px-3 py-1 text-left data-focus:bg-stone", children: children }) }));
}
/** Following: both ways, one way, or one frame, from the track's home or from the frame shown. */
function Run({ shot, removal: r, motion }) {
    const { track } = motion;
    const frame = useBench((s) => s.frame);
    const points = useBench((s) => s.points);
    const [here, setHere] = useState(false);
    const task = useTasks(shot.id).find((t) => t.kind === 'track' && t.subject === track.id);
    const running = motion.running !== null;
    // The picture goes along with the track until the artist goes elsewhere.
    const latest = useLive((s) => (motion.running ? s.latest[motion.running] : undefined));
    const along = useRef(null);
    const began = useRef(null);
    useEffect(() => {
        if (latest === undefined || along.current !== bench.get().frame)
            return;
        along.current = latest;
        bench.set({ frame: latest });
    }, [latest]);
    // When it is done and the artist went along, the picture returns to where it began; a single step stays where it led.
    useEffect(() => {
        if (running)
            return;
        if (began.current !== null && along.current === bench.get().frame)
            bench.set({ frame: began.current });
        began.current = null;
    }, [running]);
    const from = here ? frame : track.home;
    const { edit } = useEdit(shot.id);
    const range = track.range ?? r.range;
    const over = (f) => void edit('Range of the track', onTrack(track.id, (t) => {
        t.range ??= { ...range };
        f(t.range);
    }));
    const follow = (first, last, start = from) => {
        along.current = start;
        began.current = last - first > 1 ? start : null;
        bench.set({ frame: start, playing: false, ...(bench.get().tool === 'point' ? { tool: 'look' } : {}) });
        const chosen = track.kind === 'points' && points.length ? { points } : {};
        void answer(api.POST('/api/shots/{id}/follow', { params: { path: { id: shot.id } }, body: { track: track.id, from: start, first: Math.min(first, start), last: Math.max(last, start), ...chosen } })).catch((e) => notify(e.message));
    };
    const nothing = track.kind === 'plane' ? (track.region?.length ?? 0) < 3 : !track.points?.length;
    const off = nothing || running;
    return (_jsxs(_Fragment, { children: [_jsx(Check, { label: `From frame ${frame}, not from ${track.home}`, hint: "Follow from the frame shown: to go on from there, or to follow a piece anew", value: here, onChange: setHere }), _jsxs("div", { className: "flex items-center gap-2 text-[13px]", title: "Frames over which it is followed", children: [_jsx("span", { className: "flex-1 text-quiet", children: "Over frames" }), _jsx(NumberInput, { label: "First frame to follow to", className: "w-16", value: range.first, min: shot.first, max: range.last, onDone: (v) => over((x) => { x.first = Math.round(v); }) }), _jsx("span", { className: "text-quiet", children: "to" }), _jsx(NumberInput, { label: "Last frame to follow to", className: "w-16", value: range.last, min: range.first, max: shot.last, onDone: (v) => over((x) => { x.last = Math.round(v); }) })] }), _jsxs("div", { className: "grid grid-cols-2 gap-1.5", children: [_jsx(Button, { disabled: off, weight: "main", className: "col-span-2", title: `From frame ${from} in both directions`, onClick: () => follow(range.first, range.last), children: "Follow both ways" }), _jsx(Button, { disabled: off, title: `From frame ${from} back to ${range.first}`, onClick: () => follow(range.first, from), children: "Backwards" }), _jsx(Button, { disabled: off, title: `From frame ${from} on to ${range.last}`, onClick: () => follow(from, range.last), children: "Forwards" }), _jsx(Button, { disabled: off || frame <= shot.first, title: "From the frame shown to the one before", onClick: () => follow(frame - 1, frame, frame), children: "One back" }), _jsx(Button, { disabled: off || frame >= shot.last, title: "From the frame shown to the next", onClick: () => follow(frame, frame + 1, frame), children: "One on" })] }), track.kind === 'points' && points.length > 0 && _jsxs("p", { className: "text-[13px] text-quiet", children: ["Follows the ", points.length === 1 ? 'selected point' : `${points.length} selected points`, "; select none for all."] }), running && task && (_jsxs("div", { className: "flex items-center gap-2", role: "status", children: [_jsx(Progress, { label: "Frames followed", done: task.done, total: task.total }), _jsxs("span", { className: "font-mono text-[13px]", children: [task.done, " of ", task.total] }), _jsx(Button, { weight: "bare", className: "py-0!", onClick: () => void answer(api.POST('/api/tasks/{id}/cancel', { params: { path: { id: task.id } } })).catch((e) => notify(e.message)), children: "Cancel" })] })), !running && task?.problem && _jsx("p", { className: "text-[13px] text-clay", children: task.problem })] }));
}
/** How good the track is: over the range, and on this frame, with words on what to do. */
function Quality({ revision, removal: r, motion }) {
    const frame = useBench((s) => s.frame);
    const here = motion.samples.get(frame);
    const values = [...motion.samples.values()];
    if (values.length < 2 && !here)
        return null;
    const inRange = values.filter((s) => s.frame >= r.range.first && s.frame <= r.range.last);
    const doubtful = inRange.filter((s) => s.grade !== 'good');
    const worst = inRange.reduce((a, b) => ((b.residual ?? 0) > (a.residual ?? 0) ? b : a), inRange[0]);
    return (_jsxs(_Fragment, { children: [!motion.running && revision.stale.includes(motion.track.id) && _jsx("p", { className: "text-[13px] text-clay", children: "What it follows changed after it was measured. Follow again to bring it up to date." }), _jsxs("dl", { className: "grid grid-cols-[6.4rem_1fr] gap-x-1 text-[13px]", children: [_jsx("dt", { className: "text-quiet", children: "Followed" }), _jsxs("dd", { className: "font-mono", children: [inRange.length, " of ", r.range.last - r.range.first + 1, " frames"] }), worst && (_jsxs(_Fragment, { children: [_jsx("dt", { className: "text-quiet", children: "Largest residual" }), _jsx("dd", { children: _jsxs("button", { type: "button", className: "rounded font-mono underline decoration-stone underline-offset-2", title: "Go there", onClick: () => bench.set({ frame: worst.frame, playing: false }), children: [(worst.residual ?? 0).toFixed(2), " px on ", worst.frame] }) })] })), doubtful.length > 0 && (_jsxs(_Fragment, { children: [_jsx("dt", { className: "text-quiet", children: "Look at" }), _jsx("dd", { children: _jsxs("button", { type: "button", className: "rounded font-mono text-clay underline decoration-stone underline-offset-2", title: "Go to the next one", onClick: () => bench.set({ frame: (doubtful.find((s) => s.frame > frame) ?? doubtful[0]).frame, playing: false }), children: [doubtful.length, " ", doubtful.length === 1 ? 'frame' : 'frames'] }) })] })), here && (_jsxs(_Fragment, { children: [_jsx("dt", { className: "text-quiet", children: "This frame" }), _jsx("dd", { className: "font-mono", title: "What is left over, and the share of the region that agrees", children: frame === motion.track.home ? 'its home' : here.byHand ? 'by hand' : `${(here.residual ?? 0).toFixed(2)} px, ${Math.round((here.agree ?? 1) * 100)} %` })] }))] }), here?.advice && _jsx("p", { className: "text-[13px] text-clay", children: here.advice })] }));
}
