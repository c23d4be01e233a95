import { jsx as _jsx, jsxs as _jsxs, Fragment as _Fragment } from "react/jsx-runtime";
import { useState } from 'react';
import { useEdit } from '../../api/treatment';
import { allStrokes, copies, fromOf, matrixOf, moveStroke, newPlate, newStroke, offsetAt, onSource, onStroke, paintable, paintedOn, setOffset } from '../fill';
import { on } from '../edits';
import { apply, invert } from '../matrix';
import { pointerAt, within } from '../props';
import { bench, useBench } from '../state';
import { usePaths } from '../stages/strokes';
import { notify } from '../../ui/notice';
import { boundsOf, minus, pathOf, plus, point, vec } from './curve';
import { DrawPath, DrawShape } from './draw';
import { placed, useLies } from './lies';
import { drag, Grip, Line, Words } from './lines';
import { Shapes } from './shapes';
/** What can be taken hold of in Fill while no brush is in hand: strokes, areas, a neighbour's source, a piece's corners. */
export function FillHandles(props) {
    const { removal: r, motions, placement, seen } = props;
    const { bed, tool, stroke, faint } = useBench();
    const source = r.fill.sources.find((s) => s.id === bed);
    const few = allStrokes(r).length <= 300;
    const paths = usePaths(props.shot.id, r, stroke !== null || faint || (tool === 'look' && few));
    /** Of the coordinates that a stroke was made in. */
    const at = (s) => within(placement, motions.between(s.ride || r.follow.track, s.home, seen));
    const there = (s) => !s.off && (!s.range || (seen >= s.range.first && seen <= s.range.last));
    const before = faint && source?.kind !== 'neighbour' ? lastPainted(r, seen) : [];
    return (_jsxs(_Fragment, { children: [_jsxs("svg", { className: "pointer-events-none absolute inset-0 h-full w-full", "data-testid": "fill-handles", children: [before.map((s) => _jsx("path", { d: outlineOf(s, paths?.[s.id], at(s)), fill: "none", stroke: "#fff", strokeOpacity: "0.35", strokeLinecap: "round", strokeLinejoin: "round", strokeWidth: Math.max(2, s.size * placement.scale * 0.5) }, s.id)), tool === 'look' && allStrokes(r).map((s) => (s.id === stroke || (few && there(s)) ? _jsx(StrokeHandle, { ...props, stroke: s, path: paths?.[s.id], here: at(s), on: s.id === stroke }, s.id) : null)), tool === 'look' && source?.kind === 'neighbour' && _jsx(NeighbourHandle, { ...props, source: source }), tool === 'look' && source?.kind === 'piece' && _jsx(PieceHandle, { ...props, source: source }), tool === 'look' && source?.where?.length ? _jsx(Shapes, { ...props, owner: { removal: r.id, source: source.id }, shapes: source.where, own: r.follow.track, editable: true }) : null] }), tool === 'area' && _jsx(DrawArea, { ...props }), tool === 'where' && source && _jsx(DrawShape, { ...props, owner: { removal: r.id, source: source.id } })] }));
}
/** The travelling strokes of the last frame before this one that has its own. */
function lastPainted(r, seen) {
    const own = allStrokes(r).filter((s) => s.range && s.range.first === s.range.last && s.range.first < seen && !s.off);
    const last = Math.max(...own.map((s) => s.range.first));
    return own.filter((s) => s.range.first === last);
}
function outlineOf(s, path, here) {
    if (s.area)
        return pathOf(s.area.points, here.toRoom);
    const [dx, dy] = s.path?.shift ?? [0, 0];
    const d = (path ?? []).map((v, i) => { const p = here.toRoom({ x: v[0] + dx, y: v[1] + dy }); return `${i ? 'L' : 'M'}${p.x.toFixed(1)} ${p.y.toFixed(1)}`; }).join('');
    return path?.length === 1 ? `${d}h0.01` : d;
}
const beginOf = (s, path) => {
    if (s.area) {
        const b = boundsOf(s.area.points);
        return { x: (b.left + b.right) / 2, y: (b.top + b.bottom) / 2 };
    }
    const [dx, dy] = s.path?.shift ?? [0, 0];
    return path?.length ? { x: path[0][0] + dx, y: path[0][1] + dy } : null;
};
/** A stroke: a click selects it, a drag moves it; its source is dragged by itself. */
function StrokeHandle({ shot, removal: r, stroke: s, path, here, on: chosen }) {
    const { edit } = useEdit(shot.id);
    const [moved, setMoved] = useState({ x: 0, y: 0 });
    const [from, setFrom] = useState({ x: 0, y: 0 });
    const begin = beginOf(s, path);
    if (!begin)
        return null;
    const root = (e) => e.target.closest('svg');
    const shifted = { ...here, toRoom: (p) => here.toRoom(plus(p, moved)) };
    const d = outlineOf(s, path, shifted);
    const dragBy = (e, tell, done) => {
        if (e.button !== 0)
            return;
        const start = pointerAt(e, root(e), here);
        let by = { x: 0, y: 0 };
        bench.set({ stroke: s.id });
        drag(e, (m) => tell((by = minus(pointerAt(m, root(e), here), start))), (did) => {
            if (did)
                done(by);
            tell({ x: 0, y: 0 });
        });
    };
    const take = chosen && s.from && copies(s.mode) ? matrixOf({ ...s.from, offset: vec(plus(point(s.from.offset), from)) }, begin) : null;
    const source = take && apply(take, begin);
    const setSource = (by) => void edit('Source of a stroke', onStroke(r.id, s.id, (x) => {
        if (x.from)
            x.from.offset = x.from.crisp ? [Math.round(x.from.offset[0] + by.x), Math.round(x.from.offset[1] + by.y)] : vec(plus(point(x.from.offset), by));
    }));
    return (_jsxs("g", { children: [_jsx("path", { d: d, fill: s.area ? 'transparent' : 'none', stroke: "transparent", strokeWidth: Math.max(10, s.area ? 10 : s.size * here.scale), strokeLinecap: "round", strokeLinejoin: "round", className: "pointer-events-auto cursor-move", "aria-label": `Stroke made on ${s.home}`, onPointerDown: (e) => dragBy(e, setMoved, (by) => void edit('Move a stroke', onStroke(r.id, s.id, (x) => moveStroke(x, { x: Math.round(by.x), y: Math.round(by.y) })))) }), (chosen || s.area) && _jsx(Line, { on: chosen, d: d, dashed: !here.placed }), source && (_jsxs(_Fragment, { children: [_jsx(Line, { dashed: true, d: `M${shifted.toRoom(begin).x} ${shifted.toRoom(begin).y}L${here.toRoom(source).x} ${here.toRoom(source).y}` }), s.area && take ? (_jsx(Line, { dashed: true, on: true, d: pathOf(s.area.points.map((k) => carried(k, take)), here.toRoom), className: "pointer-events-auto cursor-move", "aria-label": "Source of the area", onPointerDown: (e) => dragBy(e, setFrom, setSource) })) : null, _jsx(Grip, { p: here.toRoom(source), on: true, label: "Source of the stroke", onPointerDown: (e) => dragBy(e, setFrom, setSource) })] }))] }));
}
function carried(k, m) {
    const at = apply(m, point(k.at));
    const arm = (v) => v && vec(minus(apply(m, plus(point(k.at), point(v))), at));
    return { ...k, at: [at.x, at.y], in: arm(k.in), out: arm(k.out) };
}
/** Where a neighbour takes its pixels: the outlines, dashed, at their source. A drag sets the offset. */
function NeighbourHandle({ shot, revision, removal: r, motions, source, placement, seen }) {
    const { edit } = useEdit(shot.id);
    const [by, setBy] = useState({ x: 0, y: 0 });
    const { lie } = useLies(shot.id, revision, { removal: r.id }, r.mark.outlines, seen);
    const toHere = source.screen ? null : motions.between(r.follow.track, source.frame, seen);
    const back = toHere && invert(toHere);
    const o = plus(offsetAt(source, seen), by);
    const aside = (p) => (toHere && back ? apply(toHere, plus(apply(back, p), o)) : plus(p, o));
    const root = (e) => e.target.closest('svg');
    const inOffset = (p) => (back ? apply(back, p) : p);
    const down = (e) => {
        if (e.button !== 0)
            return;
        const start = inOffset(pointerAt(e, root(e), placement));
        let d = { x: 0, y: 0 };
        drag(e, (m) => setBy((d = minus(inOffset(pointerAt(m, root(e), placement)), start))), (did) => {
            if (did)
                void edit('Offset of a neighbour', onSource(r.id, source.id, (s) => setOffset(s, seen, (p) => ({ x: Math.round(p.x + d.x), y: Math.round(p.y + d.y) }))));
            setBy({ x: 0, y: 0 });
        });
    };
    return (_jsx(_Fragment, { children: r.mark.outlines.map((s) => {
            const l = lie(s);
            if (!l || s.off || s.kind !== 'outline')
                return null;
            const ride = motions.between(s.ride || r.follow.track, s.home, seen);
            if (!ride)
                return null;
            const knots = placed(l).map((k) => carried(k, ride));
            const taken = knots.map((k) => { const at = aside(point(k.at)); return { ...k, at: [at.x, at.y] }; });
            const [a, b] = [middle(knots), middle(taken)].map(placement.toRoom);
            return (_jsxs("g", { children: [_jsx(Line, { d: pathOf(knots, placement.toRoom), colour: s.colour }), _jsx(Line, { dashed: true, d: `M${a.x} ${a.y}L${b.x} ${b.y}` }), _jsx("path", { d: pathOf(taken, placement.toRoom), fill: "transparent", className: "pointer-events-auto cursor-move", "aria-label": `Source of ${s.name}`, onPointerDown: down }), _jsx(Line, { on: true, dashed: true, d: pathOf(taken, placement.toRoom) }), _jsx(Grip, { p: b, on: true, label: `Source of ${s.name}, middle`, onPointerDown: down })] }, s.id));
        }) }));
}
const middle = (knots) => {
    const b = boundsOf(knots);
    return { x: (b.left + b.right) / 2, y: (b.top + b.bottom) / 2 };
};
/** A piece's corners, and the whole of it. */
function PieceHandle({ shot, removal: r, motions, source, placement, seen }) {
    const { edit } = useEdit(shot.id);
    const [draft, setDraft] = useState(null);
    const m = motions.between(r.follow.track, source.frame, seen);
    const here = within(placement, m);
    const corners = draft ?? source.corners ?? [];
    if (!m || corners.length !== 4)
        return null;
    const root = (e) => e.target.closest('svg');
    const begin = (e, which) => {
        if (e.button !== 0)
            return;
        const start = pointerAt(e, root(e), here);
        let next = corners;
        drag(e, (p) => {
            const d = minus(pointerAt(p, root(e), here), start);
            setDraft((next = corners.map((c, i) => (which.includes(i) ? vec(plus(point(c), d)) : c))));
        }, (did) => {
            if (did)
                void edit('Place a piece', onSource(r.id, source.id, (s) => { s.corners = next; })).finally(() => setDraft(null));
            else
                setDraft(null);
        });
    };
    const d = pathOf(corners.map((at) => ({ at })), here.toRoom);
    return (_jsxs("g", { children: [_jsx("path", { d: d, fill: "transparent", className: "pointer-events-auto cursor-move", "aria-label": "The piece", onPointerDown: (e) => begin(e, [0, 1, 2, 3]) }), _jsx(Line, { on: true, d: d }), corners.map((c, i) => _jsx(Grip, { square: true, p: here.toRoom(point(c)), label: `Corner ${i + 1} of the piece`, onPointerDown: (e) => begin(e, [i]) }, i)), _jsx(Words, { p: here.toRoom(point(corners[0])), children: source.name })] }));
}
/** Drawing the outline of an area that is copied as one. */
function DrawArea({ shot, removal: r, placement, seen }) {
    const { edit } = useEdit(shot.id);
    const { bed, brush, origin } = useBench();
    const finish = (points) => {
        const source = paintedOn(r, bed);
        if (source && !paintable(source))
            return notify(`${source.name} cannot be painted on.`);
        if (source?.kind === 'plate' && source.frame !== seen)
            return notify(`${source.name} is of frame ${source.frame}. Press J to go there.`);
        const b = boundsOf(points);
        const target = source ?? newPlate(r, seen);
        const offset = origin.offset ?? { x: Math.round(1.2 * (b.right - b.left)), y: 0 };
        const mode = copies(brush.mode) ? brush.mode : 'clone';
        const stroke = { ...newStroke({ ...brush, mode, opacity: 1, flow: 1, jitter: 0, roundness: 1 }, seen, target.kind === 'paint', fromOf(origin, offset)), area: { points, feather: 4 } };
        void edit('Copy an area', on(r.id, (d) => {
            let into = d.fill.sources.find((s) => s.id === target.id);
            if (!into)
                d.fill.sources.push((into = structuredClone(target)));
            (into.strokes ??= []).push(structuredClone(stroke));
        }));
        bench.set({ tool: 'look', stroke: stroke.id });
    };
    return _jsx(DrawPath, { placement: placement, onDone: finish });
}
