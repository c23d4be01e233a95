import { notify } from '../ui/notice';
/**
 * The brush channel: sends a stroke while the hand moves, and takes back the pixels that it changes. Strokes that
 * were not confirmed when the connection broke are sent again, whole, when it is back.
 */
export class BrushChannel {
    shot;
    socket = null;
    pending = [];
    closed = false;
    queue = [];
    scheduled = false;
    /** Called with pixels of the stroke in progress. */
    onPixels = () => undefined;
    onSaved = () => undefined;
    onRefused = () => undefined;
    /** When the last pointer event came, and how long it took until its pixels were on the screen: for the bench. */
    sentAt = 0;
    latencies = [];
    /** How long it took until the pixels were back from the server. */
    trips = [];
    constructor(shot) {
        this.shot = shot;
        this.open();
    }
    open() {
        const socket = new WebSocket(`${location.origin.replace(/^http/, 'ws')}/api/shots/${this.shot}/brush`);
        socket.binaryType = 'arraybuffer';
        this.socket = socket;
        socket.onopen = () => {
            for (const p of this.pending) {
                this.send({ type: 'begin', removal: p.removal, source: p.source, stroke: p.stroke, points: p.points });
                if (p.ended)
                    this.send({ type: 'end' });
            }
        };
        socket.onmessage = (e) => {
            if (typeof e.data !== 'string') {
                const sent = this.sentAt;
                this.trips.push(performance.now() - sent);
                requestAnimationFrame(() => setTimeout(() => {
                    this.latencies.push(performance.now() - sent);
                    if (this.latencies.length > 2000)
                        this.latencies.shift();
                }));
                const head = new DataView(e.data);
                const at = (i) => head.getInt32(4 * i, true);
                this.onPixels(this.pending[0]?.stroke.home ?? 0, at(0), at(1), at(2), at(3), new Uint8Array(e.data, 16));
                return;
            }
            const reply = JSON.parse(e.data);
            this.pending = this.pending.filter((p) => p.stroke.id !== reply.stroke);
            if (reply.type === 'saved')
                this.onSaved(reply.revision, reply.stroke);
            else {
                notify(`The stroke was not kept: ${reply.detail}`);
                this.onRefused();
            }
        };
        socket.onclose = () => {
            this.socket = null;
            if (this.closed)
                return;
            if (this.pending.length)
                notify('The connection broke. Your stroke is kept here and sent again as soon as the server answers.');
            setTimeout(() => !this.closed && this.open(), 700);
        };
    }
    send(message) {
        if (this.socket?.readyState === WebSocket.OPEN)
            this.socket.send(JSON.stringify(message));
    }
    begin(removal, source, stroke, point, at) {
        this.pending.push({ removal, source, stroke, points: [point], ended: false });
        this.sentAt = at;
        this.send({ type: 'begin', removal, source, stroke, points: [point] });
    }
    /** Points of one screen frame go together. */
    move(points, at) {
        const p = this.pending.at(-1);
        if (!p || p.ended)
            return;
        this.sentAt = at;
        p.points.push(...points);
        this.queue.push(...points);
        if (this.scheduled)
            return;
        this.scheduled = true;
        queueMicrotask(() => this.flush());
    }
    flush() {
        this.scheduled = false;
        if (!this.queue.length)
            return;
        this.send({ type: 'move', points: this.queue });
        this.queue = [];
    }
    end() {
        const p = this.pending.at(-1);
        if (!p || p.ended)
            return;
        this.flush();
        p.ended = true;
        this.send({ type: 'end' });
    }
    get waiting() {
        return this.pending.length;
    }
    close() {
        this.closed = true;
        this.socket?.close();
    }
}
