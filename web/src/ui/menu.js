import { jsx as _jsx, jsxs as _jsxs } from "react/jsx-runtime";
import { MenuItem } from '@headlessui/react';
/** A line of a menu, with words on what it does where its name does not say it. */
export function Item({ onClick, hint, children }) {
    return (_jsx(MenuItem, { children: _jsxs("button", { type: "button", className: "block w-full rounded-sm px-3 py-1 text-left data-focus:bg-stone", onClick: onClick, children: [children, hint && _jsx("span", { className: "block text-[13px] text-quiet", children: hint })] }) }));
}
