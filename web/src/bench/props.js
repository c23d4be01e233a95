import { apply, invert } from './matrix';
/** Coordinates that a matrix takes to those of another placement; unplaced, and taken as they are, for none. */
export function within(placement, toIt) {
    if (!toIt)
        return { ...placement, placed: false };
    const back = invert(toIt);
    return {
        toRoom: (p) => placement.toRoom(apply(toIt, p)),
        fromRoom: (p) => apply(back, placement.fromRoom(p)),
        scale: placement.scale * Math.sqrt(Math.abs(toIt[0] * toIt[4] - toIt[1] * toIt[3])) / Math.abs(toIt[8] || 1),
        placed: placement.placed,
    };
}
/** Where a pointer is. */
export function pointerAt(e, svg, placement) {
    const box = svg.getBoundingClientRect();
    return placement.fromRoom({ x: e.clientX - box.left, y: e.clientY - box.top });
}
