import { jsx as _jsx, Fragment as _Fragment, jsxs as _jsxs } from "react/jsx-runtime";
import { useEffect, useRef, useState } from 'react';
import { useEdit } from '../../api/treatment';
import { boundsOf, distance, inOf, insertKnot, middleOf, minus, nearest, outOf, pathOf, plus, point, toggleSmooth, vec } from './curve';
import { everywhere, onShape, putKey, setPoints } from '../edits';
import { placed, unplaced, useLies } from './lies';
import { drag, Grip, Line, Words } from './lines';
import { apply, identity, invert, multiply } from '../matrix';
import { pointerAt, within } from '../props';
import { bench, useBench } from '../state';
/** The shapes of a removal or a track on the picture. */
export function Shapes(props) {
    const { shot, revision, owner, shapes, seen } = props;
    const { lie } = useLies(shot.id, revision, owner, shapes, seen);
    return (_jsx(_Fragment, { children: shapes.map((s) => {
            const l = lie(s);
            const there = !s.off && (!s.range || (seen >= s.range.first && seen <= s.range.last));
            return l && there ? _jsx(ShapeHandles, { ...props, shape: s, lie: l }, s.id) : null;
        }) }));
}
function ShapeHandles({ shot, motions, owner, shape, own, placement, seen, lie, editable }) {
    const { edit } = useEdit(shot.id);
    const selected = useBench((s) => s.outline === shape.id);
    const chosen = useBench((s) => (s.outline === shape.id ? s.knots : none));
    const [draft, setDraft] = useState(null);
    const [whole, setWhole] = useState(null);
    // What was dragged stays until the shape is known to lie there.
    const told = JSON.stringify(lie);
    const dragging = useRef(false);
    useEffect(() => {
        if (dragging.current)
            return;
        setDraft(null);
        setWhole(null);
    }, [told, seen]);
    const closed = shape.kind === 'outline';
    const ride = lie.shifts ? identity : motions.between(shape.ride || own || '', shape.home, seen);
    const here = within(placement, ride ?? (seen === shape.home ? identity : null));
    const at = placed(lie);
    // What is shown: the next drag begins from there, also before the server has confirmed the last one.
    const knots = (draft ?? at).map((k) => (whole ? moved(k, whole) : k));
    const save = (label, next) => void edit(label, onShape(owner, shape.id, (s) => setPoints(s, seen, unplaced(lie, next, invert))));
    const root = (e) => e.target.closest('svg');
    const colour = shape.colour;
    const move = (e, label, change) => {
        const svg = root(e);
        const from = pointerAt(e, svg, here);
        let last = null;
        dragging.current = true;
        drag(e, (m) => {
            last = structuredClone(knots);
            const p = pointerAt(m, svg, here);
            change(last, minus(p, from), p);
            setWhole(null);
            setDraft(last);
        }, (did) => {
            dragging.current = false;
            if (did && last)
                save(label, last);
        });
    };
    /** Moves, turns or scales the whole shape: its placement if that is keyed, else its points. */
    const transform = (e, label, by) => {
        const svg = root(e);
        const from = pointerAt(e, svg, here);
        let last = null;
        const start = knots;
        dragging.current = true;
        setDraft(start);
        setWhole(null);
        drag(e, (m) => setWhole((last = by(from, pointerAt(m, svg, here)))), (did) => {
            dragging.current = false;
            if (!did || !last) {
                setDraft(null);
                return;
            }
            const t = last;
            if (shape.placement?.length)
                void edit(label, onShape(owner, shape.id, (s) => putKey(s.placement, placementKey(s, seen, multiply(t, lie.placement)))));
            else
                save(label, start.map((k) => moved(k, t)));
        });
    };
    // A box drawn with Shift selects the points inside it.
    const box = useBench((s) => (selected ? s.box : null));
    useEffect(() => {
        if (!box || !editable)
            return;
        const within = (a, b, v) => v >= Math.min(a, b) && v <= Math.max(a, b);
        bench.set({ knots: knots.flatMap((k, i) => { const p = here.toRoom(point(k.at)); return within(box[0].x, box[1].x, p.x) && within(box[0].y, box[1].y, p.y) ? [i] : []; }) });
    }, [box]);
    const d = pathOf(knots, here.toRoom, closed);
    if (!editable)
        return _jsx(Line, { d: d, dashed: !here.placed, colour: colour });
    const toggle = (i, more) => bench.set({ outline: shape.id, key: null, knots: more ? (chosen.includes(i) ? chosen.filter((k) => k !== i) : [...chosen, i]) : chosen.includes(i) ? chosen : [i] });
    return (_jsxs("g", { children: [shape.kind === 'strand' && _jsx(Sides, { knots: knots, here: here }), _jsx(Line, { d: d, on: selected, colour: colour, dashed: !here.placed, className: "pointer-events-auto cursor-move", onPointerDown: (e) => {
                    if (e.button !== 0)
                        return;
                    bench.set({ outline: shape.id, knots: [], key: null });
                    transform(e, `Move ${shape.name}`, (from, to) => [1, 0, to.x - from.x, 0, 1, to.y - from.y, 0, 0, 1]);
                }, onDoubleClick: (e) => {
                    const where = nearest(at, pointerAt(e, root(e), here), closed);
                    void edit('Add a point', onShape(owner, shape.id, (s) => everywhere(s, (points) => insertKnot(points, where))));
                    bench.set({ outline: shape.id, knots: [where.i + 1] });
                } }), selected && chosen.length === 0 && _jsx(Frame, { knots: knots, here: here, name: shape.name, transform: transform }), selected &&
                knots.map((k, i) => {
                    const spot = here.toRoom(point(k.at));
                    const arms = chosen.length === 1 && chosen[0] === i ? [['in', k.in], ['out', k.out]].filter(([, v]) => v) : [];
                    return (_jsxs("g", { children: [arms.map(([side, v]) => {
                                const end = here.toRoom(plus(point(k.at), point(v)));
                                return (_jsxs("g", { children: [_jsx(Line, { d: `M${spot.x} ${spot.y}L${end.x} ${end.y}` }), _jsx(Grip, { small: true, p: end, label: `Handle ${side} of point ${i + 1}`, onPointerDown: (e) => move(e, 'Bend the outline', (ks, _, p) => {
                                                const arm = minus(p, point(ks[i].at));
                                                const other = side === 'in' ? 'out' : 'in';
                                                ks[i][side] = vec(arm);
                                                // A smooth point keeps both handles on one line; Alt breaks it.
                                                if (ks[i][other] && !e.altKey) {
                                                    const length = Math.hypot(...ks[i][other]);
                                                    const k2 = -length / (Math.hypot(arm.x, arm.y) || 1);
                                                    ks[i][other] = vec({ x: arm.x * k2, y: arm.y * k2 });
                                                }
                                            }) })] }, side));
                            }), shape.kind === 'strand' && chosen.length === 1 && chosen[0] === i && (_jsx(WidthGrip, { knots: knots, i: i, here: here, move: move })), _jsx(Grip, { p: spot, on: chosen.includes(i), square: !k.in && !k.out, label: `Point ${i + 1} of ${shape.name}`, onPointerDown: (e) => {
                                    if (e.button !== 0)
                                        return;
                                    toggle(i, e.shiftKey);
                                    const group = chosen.includes(i) || e.shiftKey ? [...new Set([...chosen, i])] : [i];
                                    move(e, group.length > 1 ? 'Move points' : 'Move a point', (ks, delta) => group.forEach((g) => (ks[g].at = vec(plus(point(ks[g].at), delta)))));
                                }, onDoubleClick: (e) => {
                                    e.stopPropagation();
                                    const smooth = !(k.in || k.out);
                                    void edit(smooth ? 'Make a point smooth' : 'Make a point sharp', onShape(owner, shape.id, (s) => everywhere(s, (points) => {
                                        const next = structuredClone(points);
                                        if (!(next[i].in || next[i].out) === smooth)
                                            toggleSmooth(next, i, closed);
                                        return next;
                                    })));
                                } })] }, i));
                }), _jsx(Words, { p: here.toRoom(point(knots[0].at)), children: shape.name })] }));
}
const none = [];
function moved(k, m) {
    const at = apply(m, point(k.at));
    const arm = (v) => {
        if (!v)
            return undefined;
        return vec(minus(apply(m, plus(point(k.at), point(v))), at));
    };
    const scale = Math.sqrt(Math.abs(m[0] * m[4] - m[1] * m[3]));
    return { ...k, at: [at.x, at.y], in: arm(k.in), out: arm(k.out), ...(k.width ? { width: k.width * scale } : {}) };
}
/** The placement key that a matrix stands for, around the shape's middle. */
export function placementKey(s, frame, m) {
    const c = middleOf(s);
    const to = apply(m, c);
    const sx = Math.hypot(m[0], m[3]);
    const old = s.placement?.find((k) => k.frame === frame);
    return {
        frame,
        ease: old?.ease ?? 'eased',
        offset: vec(minus(to, c)),
        turn: Math.round((Math.atan2(m[3], m[0]) * 180 * 1000) / Math.PI) / 1000,
        scale: [Math.round(sx * 1e5) / 1e5, Math.round(((m[0] * m[4] - m[1] * m[3]) / sx) * 1e5) / 1e5],
    };
}
/** The frame around a whole shape: its corners scale, the knob above turns. */
function Frame({ knots, here, name, transform }) {
    const b = boundsOf(knots);
    const grow = 14 / here.scale;
    const c = { x: (b.left + b.right) / 2, y: (b.top + b.bottom) / 2 };
    const corners = [{ x: b.left - grow, y: b.top - grow }, { x: b.right + grow, y: b.top - grow }, { x: b.right + grow, y: b.bottom + grow }, { x: b.left - grow, y: b.bottom + grow }];
    const top = here.toRoom({ x: c.x, y: b.top - grow });
    const knob = here.toRoom({ x: c.x, y: b.top - 2.6 * grow });
    return (_jsxs("g", { children: [_jsx("path", { d: corners.map((p, i) => { const q = here.toRoom(p); return `${i ? 'L' : 'M'}${q.x} ${q.y}`; }).join('') + `ZM${top.x} ${top.y}L${knob.x} ${knob.y}`, fill: "none", stroke: "#000", strokeOpacity: "0.5", strokeWidth: "2.5" }), _jsx("path", { d: corners.map((p, i) => { const q = here.toRoom(p); return `${i ? 'L' : 'M'}${q.x} ${q.y}`; }).join('') + `ZM${top.x} ${top.y}L${knob.x} ${knob.y}`, fill: "none", stroke: "#fff", strokeOpacity: "0.7", strokeWidth: "1" }), corners.map((p, i) => (_jsx(Grip, { small: true, square: true, p: here.toRoom(p), label: `Scale ${name}, corner ${i + 1}`, onPointerDown: (e) => transform(e, `Scale ${name}`, (from, to) => {
                    // Evenly, from the middle; with Shift along each side by itself.
                    const k = Math.max(0.02, distance(to, c) / Math.max(distance(from, c), 1e-6));
                    const sx = e.shiftKey ? (to.x - c.x) / (from.x - c.x || 1) : k;
                    const sy = e.shiftKey ? (to.y - c.y) / (from.y - c.y || 1) : k;
                    return [sx, 0, c.x - sx * c.x, 0, sy, c.y - sy * c.y, 0, 0, 1];
                }) }, i))), _jsx(Grip, { small: true, p: knob, label: `Turn ${name}`, onPointerDown: (e) => transform(e, `Turn ${name}`, (from, to) => {
                    const a = Math.atan2(to.y - c.y, to.x - c.x) - Math.atan2(from.y - c.y, from.x - c.x);
                    const [cos, sin] = [Math.cos(a), Math.sin(a)];
                    return [cos, -sin, c.x - cos * c.x + sin * c.y, sin, cos, c.y - sin * c.x - cos * c.y, 0, 0, 1];
                }) })] }));
}
/** The unit vector across a strand at one of its points. */
function across(knots, i) {
    const ahead = i < knots.length - 1 ? (knots[i].out ? plus(point(knots[i].at), outOf(knots[i])) : point(knots[i + 1].at)) : point(knots[i].at);
    const behind = i > 0 ? (knots[i].in ? plus(point(knots[i].at), inOf(knots[i])) : point(knots[i - 1].at)) : point(knots[i].at);
    const d = minus(ahead, behind);
    const l = Math.hypot(d.x, d.y) || 1;
    return { x: d.y / l, y: -d.x / l };
}
/** Both sides of a strand, drawn thinly. */
function Sides({ knots, here }) {
    const side = (sign) => knots.map((k, i) => ({ ...k, at: vec(plus(point(k.at), { x: (across(knots, i).x * sign * (k.width ?? 0)) / 2, y: (across(knots, i).y * sign * (k.width ?? 0)) / 2 })) }));
    return (_jsx(_Fragment, { children: [1, -1].map((sign) => (_jsxs("g", { fill: "none", children: [_jsx("path", { d: pathOf(side(sign), here.toRoom, false), stroke: "#000", strokeOpacity: "0.6", strokeWidth: "2.500" }), _jsx("path", { d: pathOf(side(sign), here.toRoom, false), stroke: "#fff", strokeOpacity: "0.8", strokeWidth: "1", strokeDasharray: "3 3" })] }, sign))) }));
}
function WidthGrip({ knots, i, here, move }) {
    const n = across(knots, i);
    const reach = (knots[i].width ?? 0) / 2 + 8 / here.scale;
    return (_jsx(Grip, { small: true, square: true, p: here.toRoom(plus(point(knots[i].at), { x: n.x * reach, y: n.y * reach })), label: `Width at point ${i + 1}`, onPointerDown: (e) => move(e, 'Change the width', (ks, _, p) => {
            const d = minus(p, point(ks[i].at));
            ks[i].width = Math.round(Math.max(0.5, 2 * (Math.abs(d.x * n.x + d.y * n.y) - 8 / here.scale)) * 100) / 100;
        }) }));
}
