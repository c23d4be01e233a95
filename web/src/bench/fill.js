import { newId } from '../api/treatment';
import { boundsOf, vec } from './handles/curve';
import { bench } from './state';
export const modes = [
    { value: 'clone', label: 'Clone', hint: 'Copies pixels from elsewhere' },
    { value: 'heal', label: 'Heal', hint: 'Texture from elsewhere, light and colour of the place itself' },
    { value: 'erase', label: 'Erase', hint: 'Takes paint away; what was there before shows again' },
    { value: 'colour', label: 'Colour', hint: 'A plain colour; hold P and click to pick one' },
    { value: 'soften', label: 'Soften', hint: 'Blurs what is there' },
    { value: 'smear', label: 'Smear', hint: 'Drags what is there along' },
    { value: 'lift', label: 'Lift', hint: 'More light' },
    { value: 'lower', label: 'Lower', hint: 'Less light' },
];
export const copies = (m) => m === 'clone' || m === 'heal';
export const kindWords = { plate: 'clean plate', paint: 'travelling paint', neighbour: 'live neighbour', piece: 'piece' };
export const allStrokes = (r) => r.fill.sources.flatMap((s) => s.strokes ?? []);
/** The source that a stroke belongs to. */
export const bedOf = (r, stroke) => r.fill.sources.find((s) => s.strokes?.some((x) => x.id === stroke));
export const paintable = (s) => s.kind === 'plate' || s.kind === 'paint';
/** What is painted on now: the chosen source, or the last that can be painted on; null where there is none yet. */
export function paintedOn(r, bed) {
    const chosen = r.fill.sources.find((s) => s.id === bed);
    if (chosen)
        return chosen;
    return [...r.fill.sources].reverse().find((s) => paintable(s) && !s.picture) ?? null;
}
/** The frame that is painted on: of a clean plate its own, else the one that is shown. */
export const paintFrame = (r, bed, shown) => {
    const s = paintedOn(r, bed);
    return s && s.kind === 'plate' ? s.frame : shown;
};
export function newPlate(r, frame) {
    const same = r.fill.sources.filter((s) => s.kind === 'plate' && s.frame === frame).length;
    return { id: newId(), name: `Clean plate ${frame}${same ? `, ${same + 1}` : ''}`, kind: 'plate', frame, strokes: [] };
}
export function newPaint(r, frame) {
    const n = r.fill.sources.filter((s) => s.kind === 'paint').length;
    return { id: newId(), name: n ? `Travelling paint ${n + 1}` : 'Travelling paint', kind: 'paint', frame, strokes: [] };
}
export function newNeighbour(r, frame) {
    const n = r.fill.sources.filter((s) => s.kind === 'neighbour').length;
    // Beginning a little farther to the side than the thing is wide.
    const b = r.mark.outlines.length ? boundsOf(r.mark.outlines[0].points) : null;
    const aside = b ? Math.round(1.2 * (b.right - b.left)) : 40;
    return { id: newId(), name: n ? `Live neighbour ${n + 1}` : 'Live neighbour', kind: 'neighbour', frame, offsets: [{ frame, ease: 'eased', offset: [aside, 0] }] };
}
export const onSource = (removal, id, change) => (d) => {
    const s = d.removals.find((r) => r.id === removal)?.fill.sources.find((x) => x.id === id);
    if (s)
        change(s);
};
export const onStroke = (removal, id, change) => (d) => {
    for (const s of d.removals.find((r) => r.id === removal)?.fill.sources ?? []) {
        const i = s.strokes?.findIndex((x) => x.id === id) ?? -1;
        if (i >= 0)
            change(s.strokes[i], { list: s.strokes, i });
    }
};
/** Moves a stroke and all that belongs to it; its source goes along. */
export function moveStroke(s, d) {
    if (s.path) {
        const [x, y] = s.path.shift ?? [0, 0];
        s.path.shift = vec({ x: x + d.x, y: y + d.y });
    }
    if (s.area)
        s.area.points = s.area.points.map((k) => ({ ...k, at: vec({ x: k.at[0] + d.x, y: k.at[1] + d.y }) }));
    if (s.from?.middle)
        s.from.middle = vec({ x: s.from.middle[0] + d.x, y: s.from.middle[1] + d.y });
}
/** A neighbour's offset on a frame: eased between keys is worked out by the server; here straight, for handles. */
export function offsetAt(s, frame) {
    const keys = s.offsets ?? [];
    const after = keys.findIndex((k) => k.frame >= frame);
    const of = (i) => ({ x: keys[i].offset[0], y: keys[i].offset[1] });
    if (keys.length === 0)
        return { x: 0, y: 0 };
    if (after < 0)
        return of(keys.length - 1);
    if (after === 0 || keys[after].frame === frame)
        return of(after);
    const [a, b] = [of(after - 1), of(after)];
    const u = (frame - keys[after - 1].frame) / (keys[after].frame - keys[after - 1].frame);
    return { x: a.x + (b.x - a.x) * u, y: a.y + (b.y - a.y) * u };
}
/** Changes a neighbour's offset: its only one, or the key of a frame. */
export function setOffset(s, frame, to) {
    const next = vec(to(offsetAt(s, frame)));
    const keys = (s.offsets ??= []);
    const here = keys.length === 1 ? keys[0] : keys.find((k) => k.frame === frame);
    if (here)
        here.offset = next;
    else {
        const i = keys.findIndex((k) => k.frame > frame);
        keys.splice(i < 0 ? keys.length : i, 0, { frame, ease: 'eased', offset: next });
    }
}
/** The origin in hand as a stroke keeps it. */
export function fromOf(o, offset) {
    return {
        offset: vec(offset),
        ...(o.turn ? { turn: o.turn } : {}),
        ...(o.scale !== 1 ? { scale: o.scale } : {}),
        ...(o.mirror ? { mirror: true } : {}),
        ...(o.middle && o.frame !== null ? { middle: vec(o.middle) } : {}),
        ...(o.frame !== null ? { frame: o.frame } : {}),
        ...(o.plain ? { plain: true } : {}),
        ...(o.crisp ? { crisp: true } : {}),
    };
}
/** Where painted pixels come from, as a matrix; begin stands for a middle that is not given. */
export function matrixOf(f, begin) {
    const m = f.middle ? { x: f.middle[0], y: f.middle[1] } : begin;
    const k = f.scale || 1;
    const a = ((f.turn ?? 0) * Math.PI) / 180;
    const [c, s] = [Math.cos(a) * k, Math.sin(a) * k];
    const w = f.mirror ? -1 : 1;
    const round = f.crisp ? Math.round : (v) => v;
    const to = { x: m.x + round(f.offset[0]), y: m.y + round(f.offset[1]) };
    return [c * w, -s, to.x - c * w * m.x + s * m.y, s * w, c, to.y - s * w * m.x - c * m.y, 0, 0, 1];
}
/** A new stroke with the brush in hand; its path comes with the hand. */
export function newStroke(b, frame, travelling, from) {
    const amount = b.mode === 'soften' || b.mode === 'smear' || b.mode === 'lift' || b.mode === 'lower' ? b.amounts[b.mode] : undefined;
    return {
        id: newId(), mode: b.mode, home: frame, size: b.size, hardness: b.hardness, opacity: b.opacity,
        ...(b.flow < 1 ? { flow: b.flow } : {}),
        ...(b.spacing !== 0.1 ? { spacing: b.spacing } : {}),
        ...(b.roundness < 1 ? { roundness: b.roundness, angle: b.angle } : {}),
        ...(b.jitter ? { jitter: b.jitter } : {}),
        ...(b.pen.length ? { pen: b.pen } : {}),
        ...(b.channels !== 'rgb' ? { channels: b.channels } : {}),
        ...(b.mode === 'colour' ? { colour: b.colour } : {}),
        ...(amount !== undefined ? { amount } : {}),
        ...(from ? { from } : {}),
        ...(b.still ? { ride: 'still' } : {}),
        ...(travelling && b.lasts === 'this' ? { range: { first: frame, last: frame } } : {}),
    };
}
/** The frames on which travelling strokes are there. */
export function paintedFrames(r, first, last) {
    const out = new Set();
    for (const s of r.fill.sources) {
        if (s.kind !== 'paint' || s.off)
            continue;
        for (const x of s.strokes ?? []) {
            if (x.off)
                continue;
            for (let n = Math.max(first, x.range?.first ?? first); n <= Math.min(last, x.range?.last ?? last); n++)
                out.add(n);
        }
    }
    return out;
}
/** The next frame of the removal without travelling paint; null where there is none. */
export function nextUnpainted(r, frame) {
    const painted = paintedFrames(r, r.range.first, r.range.last);
    for (let n = Math.max(frame + 1, r.range.first); n <= r.range.last; n++)
        if (!painted.has(n))
            return n;
    return null;
}
/** Copies the strokes of the frame painted last before this one to here: the track carries them. */
export function repeatHere(r, bed, frame) {
    const own = (bed.strokes ?? []).filter((s) => s.range && s.range.first === s.range.last && !s.off);
    const before = Math.max(...own.map((s) => s.range.first).filter((n) => n < frame));
    if (!Number.isFinite(before))
        return null;
    const copy = own.filter((s) => s.range.first === before).map((s) => ({ ...structuredClone(s), id: newId(), range: { first: frame, last: frame } }));
    return onSource(r.id, bed.id, (s) => { (s.strokes ??= []).push(...structuredClone(copy)); });
}
/** Linear light as an sRGB colour (IEC 61966-2-1), and back. */
export const toCode = (l) => Math.round(255 * Math.min(1, Math.max(0, l <= 0.0031308 ? l * 12.92 : 1.055 * l ** (1 / 2.4) - 0.055)));
export const toLight = (v) => { const c = v / 255; return Math.round(1e6 * (c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4)) / 1e6; };
export const cssOf = (c) => `rgb(${c.map(toCode).join(' ')})`;
export const setBrush = (change) => bench.set((s) => ({ brush: { ...s.brush, ...change } }));
export const setOrigin = (change) => bench.set((s) => ({ origin: { ...s.origin, ...change } }));
