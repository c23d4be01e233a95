import { create } from 'zustand';
import { bench } from '../bench/state';
/** What the server tells as it happens and no query keeps: running work and what running tracks find. */
export const useLive = create(() => ({
    connected: true,
    found: {},
    latest: {},
    edges: {},
}));
/** Connects to the live events and keeps the queries fresh. Returns what ends it. */
export function listen(queries) {
    const source = new EventSource('/api/events');
    const on = (name, f) => source.addEventListener(name, (e) => f(JSON.parse(e.data)));
    let before = false;
    on('hello', () => {
        useLive.setState({ connected: true });
        // After a break anything may have changed.
        if (before)
            void queries.invalidateQueries();
        before = true;
    });
    source.onerror = () => useLive.setState({ connected: false });
    on('task', ({ task }) => {
        queries.setQueriesData({ queryKey: ['tasks'] }, (old) => {
            if (!old)
                return old;
            const rest = old.filter((t) => t.id !== task.id);
            return [task, ...rest].sort((a, b) => b.createdAt.localeCompare(a.createdAt));
        });
        if (task.kind === 'scout' && task.state === 'done')
            void queries.invalidateQueries({ queryKey: ['scores', task.shotId] });
        if (task.kind === 'edge' && (task.state === 'waiting' || task.endedAt))
            useLive.setState({ edges: {} });
        // A new track replaces what the one before it told.
        if (task.kind === 'track' && task.state === 'waiting')
            useLive.setState({ found: {}, latest: {} });
    });
    on('edge', ({ found }) => {
        useLive.setState((s) => ({ edges: { ...s.edges, [found.shape]: { ...s.edges[found.shape], [found.frame]: found.points } } }));
        if (bench.get().outline === found.shape)
            bench.set({ frame: found.frame, playing: false });
    });
    on('followed', ({ taskId, found }) => useLive.setState((s) => ({
        found: { ...s.found, [taskId]: { ...s.found[taskId], [found.frame]: found } },
        latest: { ...s.latest, [taskId]: found.frame },
    })));
    on('revision', (e) => {
        const known = queries.getQueryData(['treatment', e.shotId]);
        if (known && known.number !== e.number)
            void queries.invalidateQueries({ queryKey: ['treatment', e.shotId] });
    });
    on('shot', () => void queries.invalidateQueries({ queryKey: ['shots'] }));
    return () => source.close();
}
