import { jsx as _jsx, jsxs as _jsxs } from "react/jsx-runtime";
import { useEffect, useId, useState } from 'react';
const weights = {
    plain: 'bg-slab hover:bg-stone border-stone',
    main: 'bg-moss hover:bg-[#4d7344] border-fern/40 text-white',
    bare: 'border-transparent hover:bg-slab text-quiet hover:text-text',
};
export function Button({ weight = 'plain', on, className = '', ...rest }) {
    return (_jsx("button", { type: "button", "aria-pressed": on, className: `rounded border px-2.5 py-1 leading-5 whitespace-nowrap disabled:opacity-40 ${weights[weight]} ${on ? 'border-fern! text-fern' : ''} ${className}`, ...rest }));
}
/** A choice between yes and no. */
export function Check({ label, hint, value, onChange }) {
    return (_jsxs("label", { className: "flex items-center gap-2", title: hint, children: [_jsx("input", { type: "checkbox", checked: value, onChange: (e) => onChange(e.target.checked), className: "size-4 accent-fern" }), label] }));
}
/** A name and its value on one line. */
export function Field({ label, hint, children }) {
    return (_jsxs("label", { className: "grid grid-cols-[5.5rem_1fr] items-center gap-2", title: hint, children: [_jsx("span", { className: "text-quiet", children: label }), children] }));
}
export const inputStyle = 'min-w-0 rounded border border-stone bg-soil px-2 py-1 leading-5';
/** A line of text, given back when it is left or Enter is pressed. */
export function Text({ value, onDone, label, className = '' }) {
    const [draft, setDraft] = useState(value);
    useEffect(() => setDraft(value), [value]);
    const done = () => {
        const v = draft.trim();
        if (v && v !== value)
            onDone(v);
        else
            setDraft(value);
    };
    return (_jsx("input", { "aria-label": label, className: `${inputStyle} ${className}`, value: draft, onChange: (e) => setDraft(e.target.value), onBlur: done, onKeyDown: (e) => {
            if (e.key === 'Enter')
                e.currentTarget.blur();
            if (e.key === 'Escape')
                setDraft(value);
            e.stopPropagation();
        } }));
}
/** A number in a field, given back when it is left or Enter is pressed. */
export function NumberInput({ id, label, value, min, max, onDone, className = '' }) {
    const [draft, setDraft] = useState(null);
    return (_jsx("input", { id: id, "aria-label": label, inputMode: "decimal", className: `${inputStyle} text-right font-mono text-[13px] ${className}`, value: draft ?? String(Math.round(value * 1000) / 1000), onChange: (e) => setDraft(e.target.value), onBlur: () => {
            const v = Number(draft);
            if (draft && Number.isFinite(v)) {
                const kept = Math.min(max, Math.max(min, v));
                if (kept !== value)
                    onDone(kept);
            }
            setDraft(null);
        }, onKeyDown: (e) => {
            if (e.key === 'Enter')
                e.currentTarget.blur();
            e.stopPropagation();
        } }));
}
/** A number with its unit: a slider for the hand, a field for the exact value. */
export function NumberField({ label, unit, hint, value, min, max, step = 1, onMove, onDone }) {
    const id = useId();
    const [draft, setDraft] = useState(null);
    const settle = () => {
        if (draft !== null && draft !== value)
            onDone(draft);
        setDraft(null);
    };
    return (_jsxs("div", { className: "grid grid-cols-[4.9rem_1fr_3.2rem_1.1rem] items-center gap-2", title: hint, children: [_jsx("label", { htmlFor: id, className: "text-quiet", children: label }), _jsx("input", { type: "range", "aria-label": `${label}, slider`, min: min, max: max, step: step, value: draft ?? value, onChange: (e) => {
                    setDraft(Number(e.target.value));
                    onMove?.(Number(e.target.value));
                }, onPointerUp: settle, onKeyUp: settle, onBlur: settle, className: "min-w-0" }), _jsx(NumberInput, { id: id, value: draft ?? value, min: min, max: max, onDone: onDone }), _jsx("span", { className: "text-quiet", children: unit })] }));
}
