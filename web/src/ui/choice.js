import { jsx as _jsx, jsxs as _jsxs } from "react/jsx-runtime";
import { Listbox, ListboxButton, ListboxOption, ListboxOptions, Radio, RadioGroup } from '@headlessui/react';
/** One of a few, all in sight. */
export function Pick({ label, options, value, onChange }) {
    return (_jsx(RadioGroup, { value: value, onChange: onChange, "aria-label": label, className: "inline-flex rounded border border-stone bg-soil p-0.5", children: options.map((o) => (_jsx(Radio, { value: o.value, title: o.hint, className: "cursor-pointer rounded-sm px-2 py-0.5 leading-5 text-quiet data-checked:bg-stone data-checked:text-text data-focus:outline-2 data-focus:outline-fern", children: o.label }, o.value))) }));
}
/** One of several, unfolded when wanted. */
export function Select({ label, options, value, onChange }) {
    return (_jsxs(Listbox, { value: value, onChange: onChange, children: [_jsxs(ListboxButton, { "aria-label": label, title: label, className: "flex items-center justify-between gap-3 rounded border border-stone bg-soil px-2 py-1 text-left leading-5", children: [options.find((o) => o.value === value)?.label, _jsx("svg", { "aria-hidden": true, viewBox: "0 0 10 6", className: "h-1.5 w-2.5 text-quiet", children: _jsx("path", { d: "M1 1l4 4 4-4", fill: "none", stroke: "currentColor", strokeWidth: "1.5" }) })] }), _jsx(ListboxOptions, { anchor: { to: 'bottom start', gap: 4 }, className: "z-40 rounded border border-stone bg-bed p-1 shadow-lg shadow-black/50 focus:outline-none", children: options.map((o) => (_jsxs(ListboxOption, { value: o.value, className: "cursor-pointer rounded-sm px-3 py-1 data-focus:bg-stone data-selected:text-fern", children: [o.label, o.hint && _jsx("span", { className: "block text-[13px] text-quiet", children: o.hint })] }, o.value))) })] }));
}
