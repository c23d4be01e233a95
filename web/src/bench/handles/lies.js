import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { answer, api } from '../../api/client';
import { useLive } from '../../api/live';
import { apply, identity } from '../matrix';
const run = 32; // frames asked for at once
/** Shapes whose points change over time need the server to say how they lie; others are as they were drawn. */
const changes = (s) => !!s.keys?.length || !!s.placement?.length || s.points.some((k) => k.follows);
/** How the keyed shapes of a removal or track lie on a frame, by id, and of which revision that is told. */
export function useLies(shot, revision, of, shapes, frame) {
    const first = Math.floor(frame / run) * run;
    const { data } = useQuery({
        queryKey: ['lies', shot, revision.number, of.removal ?? '', of.track ?? '', first],
        queryFn: async () => ({
            revision: revision.number,
            ...(await answer(api.GET('/api/shots/{id}/lies', { params: { path: { id: shot }, query: { revision: revision.number, removal: of.removal ?? '', track: of.track ?? '', first, last: first + run - 1 } } }))),
        }),
        enabled: shapes.some(changes),
        placeholderData: keepPreviousData,
        gcTime: 60_000,
    });
    const here = data?.frames[frame - data.first];
    const edges = useLive((s) => s.edges);
    const lie = (s) => {
        const known = changes(s) ? (here?.[s.id] ?? null) : still(s);
        const found = edges[s.id]?.[frame];
        return found ? { ...(known ?? still(s)), points: found } : known;
    };
    return { lie, revision: data?.revision ?? revision.number };
}
const still = (s) => ({ points: s.points, placement: identity, ride: identity });
const point = (v) => ({ x: v[0], y: v[1] });
const pair = (p) => [Math.round(p.x * 100) / 100, Math.round(p.y * 100) / 100];
/** Points as they lie in home coordinates, after placement and shifts. */
export function placed(lie) {
    return lie.points.map((k, i) => {
        const at = apply(lie.placement, point(k.at));
        const arm = (v) => {
            if (!v)
                return undefined;
            const end = apply(lie.placement, { x: k.at[0] + v[0], y: k.at[1] + v[1] });
            return [end.x - at.x, end.y - at.y];
        };
        const s = lie.shifts?.[i] ?? [0, 0];
        return { ...k, at: [at.x + s[0], at.y + s[1]], in: arm(k.in), out: arm(k.out) };
    });
}
/** The way back: points in home coordinates as they were before placement and shifts. */
export function unplaced(lie, knots, invert) {
    const back = invert(lie.placement);
    return knots.map((k, i) => {
        const s = lie.shifts?.[i] ?? [0, 0];
        const here = { x: k.at[0] - s[0], y: k.at[1] - s[1] };
        const at = apply(back, here);
        const arm = (v) => {
            if (!v)
                return undefined;
            const end = apply(back, { x: here.x + v[0], y: here.y + v[1] });
            return pair({ x: end.x - at.x, y: end.y - at.y });
        };
        const out = { ...k, at: pair(at) };
        const [i1, o1] = [arm(k.in), arm(k.out)];
        if (i1)
            out.in = i1;
        else
            delete out.in;
        if (o1)
            out.out = o1;
        else
            delete out.out;
        return out;
    });
}
