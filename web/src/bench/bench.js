import { jsx as _jsx, jsxs as _jsxs } from "react/jsx-runtime";
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useMemo } from 'react';
import { Link } from 'wouter';
import { answer, api } from '../api/client';
import { useEdit, useTreatment } from '../api/treatment';
import { frameStore } from './frames';
import { useKeys } from './keys';
import { useMotions } from './motion';
import { invert, multiply } from './matrix';
import { Path } from './path';
import { Picture } from './picture';
import { usePlayback } from './playback';
import { Ribbon } from './ribbon';
import { bench, initial, useBench } from './state';
import { ViewBar } from './viewbar';
/** The bench: the path on the left, the picture, the frame ribbon. */
export function BenchRoom({ id }) {
    const shot = useQuery({ queryKey: ['shots', id], queryFn: () => answer(api.GET('/api/shots/{id}', { params: { path: { id } } })) });
    const treatment = useTreatment(id);
    const failed = shot.error ?? treatment.error;
    if (failed) {
        return (_jsxs("main", { className: "p-8", children: [_jsx("p", { className: "mb-4 text-clay", children: failed.message }), _jsx(Link, { href: "/", className: "text-fern underline", children: "Back to the shot wall" })] }));
    }
    if (!shot.data || !treatment.data)
        return _jsx("p", { className: "p-8 text-quiet", children: "Opening the shot\u2026" });
    if (shot.data.state !== 'ready')
        return _jsxs("p", { className: "p-8 text-quiet", children: ["This shot is still being brought in. ", _jsx(Link, { href: "/", className: "text-fern underline", children: "Back to the shot wall" })] });
    return _jsx(Bench, { shot: shot.data, revision: treatment.data });
}
function Bench({ shot, revision }) {
    const queries = useQueryClient();
    const frames = useMemo(() => frameStore(queries, shot), [queries, shot]);
    const { removal: open, view, locked, beside } = useBench();
    useEffect(() => {
        bench.set({ ...initial, frame: shot.first, centre: { x: shot.width / 2, y: shot.height / 2 } });
    }, [shot.id]);
    useEffect(() => {
        document.title = `${shot.name} · Jardin`;
        return () => {
            document.title = 'Jardin';
        };
    }, [shot.name]);
    const removal = revision.document.removals.find((r) => r.id === open) ?? null;
    const motions = useMotions(shot.id, revision);
    const motion = motions.of(removal?.follow.track);
    const asked = view === 'plate' || view === 'difference' ? 'result' : view;
    const saved = useOverlays(shot, revision, asked, asked === 'result' ? '' : (open ?? ''));
    // A track that is being measured carries the patch as it goes: from the reference frame to each that is found.
    const found = motion?.found;
    const home = removal && motion ? motion.at(removal.reference) : null;
    const overlays = useMemo(() => {
        if (!saved || !found || !open || !home)
            return saved;
        const back = invert(home);
        return { ...saved, live: { removal: open, at: new Map([...found].map(([n, m]) => [n, multiply(m, back)])) } };
    }, [saved, found, open, home?.join()]);
    const props = { shot, revision, frames, overlays, motions, motion };
    usePlayback(props);
    useKeys(props, useEdit(shot.id));
    return (_jsxs("div", { className: "grid h-full grid-cols-[20.5rem_minmax(0,1fr)] grid-rows-[auto_1fr_auto]", children: [_jsx(Path, { ...props }), _jsx(ViewBar, { ...props }), beside ? (_jsxs("div", { className: "grid min-h-0 min-w-0 grid-cols-2 gap-px bg-rule", children: [_jsx(Picture, { ...props, locked: false }), _jsx(Picture, { ...props, locked: true, second: true })] })) : (_jsx(Picture, { ...props, locked: locked })), _jsx(Ribbon, { ...props })] }));
}
/** The keys of all overlays of a view. The last known ones stay until the newer are here. */
function useOverlays(shot, revision, view, removal) {
    const { data } = useQuery({
        queryKey: ['keys', shot.id, revision.number, view, removal],
        queryFn: async () => {
            const keys = await answer(api.GET('/api/shots/{id}/keys', { params: { path: { id: shot.id }, query: { revision: revision.number, view, removal } } }));
            return { revision: revision.number, view, removal, ...keys };
        },
        placeholderData: (old) => (old?.view === view && old.removal === removal ? old : undefined),
        gcTime: 60_000,
    });
    return data ?? null;
}
