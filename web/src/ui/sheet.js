import { jsx as _jsx, jsxs as _jsxs } from "react/jsx-runtime";
import { Dialog, DialogBackdrop, DialogPanel, DialogTitle } from '@headlessui/react';
import { Button } from './controls';
/** A dialog with a title and a way out. */
export function Sheet({ title, open, onClose, children, wide }) {
    return (_jsxs(Dialog, { open: open, onClose: onClose, className: "relative z-30", onKeyDown: (e) => e.stopPropagation(), children: [_jsx(DialogBackdrop, { className: "fixed inset-0 bg-black/50" }), _jsx("div", { className: "fixed inset-0 flex items-start justify-center overflow-y-auto p-10", children: _jsxs(DialogPanel, { className: `w-full ${wide ? 'max-w-3xl' : 'max-w-xl'} rounded-lg border border-stone bg-bed p-5 shadow-2xl shadow-black/60`, children: [_jsxs("div", { className: "mb-4 flex items-center justify-between", children: [_jsx(DialogTitle, { className: "text-lg font-semibold", children: title }), _jsx(Button, { weight: "bare", onClick: onClose, children: "Close" })] }), children] }) })] }));
}
