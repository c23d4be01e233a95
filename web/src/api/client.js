import createClient from 'openapi-fetch';
export const api = createClient({ baseUrl: '' });
/** A refusal by the server, with its own words. */
export class Refusal extends Error {
    status;
    body;
    constructor(status, detail, body) {
        super(detail);
        this.status = status;
        this.body = body;
    }
}
/** Unwraps an answer, or throws the problem document as a Refusal. */
export async function answer(call) {
    let result;
    try {
        result = await call;
    }
    catch {
        throw new Refusal(0, 'The server does not answer. Your work is saved up to the last change it confirmed.', null);
    }
    if (result.error !== undefined || !result.response.ok) {
        const problem = result.error;
        const more = problem?.errors?.map((e) => `${e.location ?? ''} ${e.message}`.trim()).join('; ');
        throw new Refusal(result.response.status, more || problem?.detail || problem?.title || result.response.statusText, result.error);
    }
    return result.data;
}
