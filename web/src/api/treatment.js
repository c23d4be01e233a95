import { useQuery, useQueryClient } from '@tanstack/react-query';
import jsonpatch from 'fast-json-patch';
import { useCallback } from 'react';
import { notify } from '../ui/notice';
import { answer, api, Refusal } from './client';
const key = (shot) => ['treatment', shot];
export function useTreatment(shot) {
    return useQuery({
        queryKey: key(shot),
        queryFn: async () => {
            const revision = await answer(api.GET('/api/shots/{id}/treatment', { params: { path: { id: shot } } }));
            saved.set(shot, revision);
            return present(shot, revision);
        },
    });
}
// The last revision that the server confirmed, by shot: what a patch is worked out against.
const saved = new Map();
// Changes that are shown already, but not yet confirmed, in the order in which they were made.
const waiting = new Map();
/** A confirmed revision with the waiting changes on top: what the artist sees. */
function present(shot, revision) {
    const changes = waiting.get(shot);
    if (!changes?.length)
        return revision;
    const document = structuredClone(revision.document);
    changes.forEach((change) => change(document));
    return { ...revision, document };
}
/** Puts a revision that the server sent in force. */
function adopt(queries, shot, revision) {
    saved.set(shot, revision);
    queries.setQueryData(key(shot), present(shot, revision));
}
// Edits of a shot are sent one after the other, each from the revision that the last one made.
const lines = new Map();
function inLine(shot, job) {
    const last = lines.get(shot) ?? Promise.resolve();
    const next = last.then(job, job);
    lines.set(shot, next.catch(() => undefined));
    return next;
}
/**
 * Changes the treatment: shows the change at once, and saves it as a JSON Patch with the revision that it
 * started from. If someone else was faster, the change is made again on the newer state.
 */
async function edit(queries, shot, label, change) {
    waiting.set(shot, [...(waiting.get(shot) ?? []), change]);
    const settled = () => waiting.set(shot, (waiting.get(shot) ?? []).filter((c) => c !== change));
    const confirmed = saved.get(shot);
    if (confirmed)
        queries.setQueryData(key(shot), present(shot, confirmed));
    await inLine(shot, async () => {
        let base = saved.get(shot);
        for (let tries = 0; base; tries++) {
            const draft = structuredClone(base.document);
            change(draft);
            const patch = jsonpatch.compare(base.document, draft);
            if (patch.length === 0)
                break;
            try {
                const revision = await answer(api.PATCH('/api/shots/{id}/treatment', {
                    params: { path: { id: shot } },
                    body: { revision: base.number, label, patch: patch },
                }));
                settled();
                adopt(queries, shot, revision);
                return;
            }
            catch (error) {
                const newer = error instanceof Refusal && error.status === 409 ? error.body.revision : undefined;
                if (newer && tries < 3) {
                    if (tries === 0)
                        notify(`${newer.undo ? `“${newer.undo}” was done elsewhere meanwhile` : 'The shot was changed elsewhere meanwhile'}: your change is made on top of it.`);
                    base = newer;
                    continue;
                }
                notify(error instanceof Error ? error.message : String(error));
                break;
            }
        }
        settled();
        void queries.invalidateQueries({ queryKey: key(shot) });
    });
}
async function move(queries, shot, way) {
    await inLine(shot, async () => {
        try {
            const revision = await answer(api.POST(`/api/shots/{id}/${way}`, { params: { path: { id: shot } } }));
            adopt(queries, shot, revision);
        }
        catch (error) {
            notify(error instanceof Error ? error.message : String(error));
        }
    });
}
/** How components change a shot's treatment. */
export function useEdit(shot) {
    const queries = useQueryClient();
    return {
        edit: useCallback((label, change) => edit(queries, shot, label, change), [queries, shot]),
        undo: useCallback(() => move(queries, shot, 'undo'), [queries, shot]),
        redo: useCallback(() => move(queries, shot, 'redo'), [queries, shot]),
        /** Takes over a revision that came another way, such as over the brush channel. */
        adopt: useCallback((revision) => adopt(queries, shot, revision), [queries, shot]),
    };
}
/** A name for a new thing in a document. */
export const newId = () => crypto.randomUUID().slice(0, 8);
