/**
 * The frames of one shot in the browser's memory: decoded plate pictures by number, overlays by the hash of
 * what they were made from. Those used longest ago leave when the budget is reached.
 */
export class FrameStore {
    shot;
    budget;
    plates = new Map();
    exact = new Map();
    overlays = new Map();
    loading = new Map();
    listeners = new Set();
    version = 0;
    constructor(shot, budget = 700 << 20) {
        this.shot = shot;
        this.budget = budget;
    }
    subscribe = (f) => {
        this.listeners.add(f);
        return () => this.listeners.delete(f);
    };
    snapshot = () => this.version;
    changed() {
        this.version++;
        this.listeners.forEach((f) => f());
    }
    url(frame, what) {
        return `/api/shots/${this.shot.id}/frames/${frame}/${what}`;
    }
    bytes() {
        let sum = 0;
        for (const b of this.plates.values())
            sum += b.width * b.height * 4;
        for (const o of this.overlays.values())
            sum += o.bitmap.width * o.bitmap.height * 4;
        return sum;
    }
    trim() {
        while (this.bytes() > this.budget && this.plates.size > 2) {
            const [oldest, bitmap] = this.plates.entries().next().value;
            bitmap.close();
            this.plates.delete(oldest);
        }
        while (this.overlays.size > 600) {
            const [oldest, o] = this.overlays.entries().next().value;
            o.bitmap.close();
            this.overlays.delete(oldest);
        }
        while (this.exact.size > 4) {
            const [oldest, bitmap] = this.exact.entries().next().value;
            bitmap.close();
            this.exact.delete(oldest);
        }
    }
    once(key, load) {
        let running = this.loading.get(key);
        if (!running) {
            running = load()
                .catch(() => undefined) // a frame that did not come is asked for again when it is next shown
                .finally(() => this.loading.delete(key));
            this.loading.set(key, running);
        }
        return running;
    }
    static key(set, frame) {
        const found = set?.live?.at.get(frame);
        if (set && found)
            return `${set.view} ${set.revision} ${frame} ${found.join()}`;
        return set ? (set.keys[frame - set.first] ?? '') : '';
    }
    /**
     * What is in memory for a frame. ready says that nothing is missing for the view: as long as it is not known which
     * overlays there are (a set of null), a plate alone is not the answer.
     */
    get(frame, set) {
        const plate = this.exact.get(frame) ?? this.plates.get(frame);
        const key = FrameStore.key(set, frame);
        const overlay = key ? this.overlays.get(key) : null;
        return { plate, overlay, ready: !!plate && set !== null && overlay !== undefined };
    }
    /** The plate's picture of a frame, if it is in memory. */
    plate(frame) {
        return this.plates.get(frame);
    }
    has(frame, set) {
        return this.get(frame, set).ready;
    }
    /** Loads a frame and what lies on it. */
    async load(frame, set) {
        const jobs = [];
        const plate = this.plates.get(frame);
        if (plate) {
            this.plates.delete(frame); // to the end of the line
            this.plates.set(frame, plate);
        }
        else {
            jobs.push(this.once(`plate ${frame}`, async () => {
                this.plates.set(frame, (await fetchBitmap(this.url(frame, 'screen'))).bitmap);
            }));
        }
        const key = FrameStore.key(set, frame);
        if (set && key && !this.overlays.has(key)) {
            jobs.push(this.once(key, async () => {
                const found = set.live?.at.get(frame);
                const query = `overlay?revision=${set.revision}&view=${set.view}&removal=${found ? `${set.live.removal}&at=${found.join()}` : set.removal}`;
                const { bitmap, place } = await fetchBitmap(this.url(frame, query));
                const [x, y] = (place ?? '0 0').split(' ').map(Number);
                this.overlays.set(key, { bitmap, x, y });
            }));
        }
        if (jobs.length === 0)
            return;
        await Promise.all(jobs);
        this.trim();
        this.changed();
    }
    /** Loads the frame without loss, for looking closely while nothing moves. */
    loadExact(frame) {
        if (this.exact.has(frame))
            return;
        void this.once(`exact ${frame}`, async () => {
            this.exact.set(frame, (await fetchBitmap(this.url(frame, 'exact'))).bitmap);
            this.trim();
            this.changed();
        });
    }
}
async function fetchBitmap(url) {
    const response = await fetch(url);
    if (!response.ok)
        throw new Error(`${url}: ${response.status}`);
    const bitmap = await createImageBitmap(await response.blob(), { colorSpaceConversion: 'none' });
    return { bitmap, place: response.headers.get('Jardin-Place') };
}
const stores = new WeakMap();
/** One store for each shot, as long as the page lives. */
export function frameStore(queries, shot) {
    let byShot = stores.get(queries);
    if (!byShot)
        stores.set(queries, (byShot = new Map()));
    let store = byShot.get(shot.id);
    if (!store)
        byShot.set(shot.id, (store = new FrameStore(shot)));
    return store;
}
