import { jsx as _jsx, jsxs as _jsxs } from "react/jsx-runtime";
export function Leaf({ className }) {
    return (_jsxs("svg", { "aria-hidden": true, viewBox: "0 0 32 32", className: className, children: [_jsx("path", { d: "M6 26C4 12 14 5 27 5c0 13-7 22-19 20", fill: "#7fae74" }), _jsx("path", { d: "M5 29C9 20 14 14 21 10", fill: "none", stroke: "#23331f", strokeWidth: "2", strokeLinecap: "round" })] }));
}
