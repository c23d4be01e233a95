import { jsx as _jsx, jsxs as _jsxs, Fragment as _Fragment } from "react/jsx-runtime";
import { useEffect, useState } from 'react';
import { Button } from '../ui/controls';
import { Sheet } from '../ui/sheet';
const keys = [
    ['Frames', [
            ['Left, Right', 'one frame back, on'], ['Home, End', 'first, last frame'], ['Space', 'play in a loop, stop'], ['J', 'go to the reference frame; in Fill, to the frame that is painted on'],
        ]],
    ['Looking', [
            ['Q W E D', 'plate, patch, result, difference'], ['L', 'locked or free'], ['B', 'free and locked side by side'], ['C', 'next channel'], ['0', 'fit'], ['+ −, wheel', 'closer, farther'],
            ['drag', 'move the picture (with Space held while a tool is in hand)'], ['H', 'hide or show all that lies on the picture'], ['S', 'before and after, split (not while painting)'], ['M', 'mattes: white on black, over the plate, off'], ['K', 'play only the frames around this one'],
        ]],
    ['Working', [
            ['1 2 3 4 5', 'Mark, Follow, Fill, Settle, Guard'], ['N', 'new removal'], ['O', 'draw a shape (Mark, Guard) or a region (Follow)'], ['Shift + click', 'select several points'], ['Shift + drag', 'select the points in a box'], ['Ctrl A', 'select all points of the outline'], ['Shift + arrows', 'move selected points by a pixel'], ['Alt + drag', 'copy a key on the ribbon'], ['V', 'the untouched plate, as long as it is held'], ['Delete', 'remove what is selected: key, points, shape or stroke'], ['Escape', 'put the tool down'],
            ['Ctrl Z, Ctrl Shift Z', 'undo, redo'],
        ]],
    ['Painting (Fill)', [
            ['F', 'take the brush, put it down'], ['S + click or drag', 'choose the source'], ['Shift + arrows', 'move the source by a pixel; or the selected stroke'], ['X + drag', 'size (sideways) and hardness (up and down) of the brush'], ['[ ]', 'smaller, larger brush'],
            ['P + click', 'pick a colour under the brush'], ['Shift + click', 'a straight line from the end of the last stroke'], ['A', 'copy an area'], ['R', 'repeat the last frame’s strokes here'], ['U', 'next unpainted frame'],
        ]],
];
/** All keys, behind "?". */
export function Help() {
    const [open, setOpen] = useState(false);
    useEffect(() => {
        const show = (e) => e.key === '?' && !(e.target instanceof HTMLInputElement) && setOpen(true);
        addEventListener('keydown', show);
        return () => removeEventListener('keydown', show);
    }, []);
    return (_jsxs(_Fragment, { children: [_jsx(Button, { weight: "bare", title: "All keys (?)", onClick: () => setOpen(true), children: "Keys" }), _jsx(Sheet, { title: "Keys", open: open, onClose: () => setOpen(false), children: keys.map(([title, list]) => (_jsxs("section", { className: "mb-4", children: [_jsx("h3", { className: "mb-1 text-quiet", children: title }), _jsx("dl", { className: "grid grid-cols-[11rem_1fr] gap-y-1", children: list.map(([k, what]) => (_jsxs("div", { className: "contents", children: [_jsx("dt", { className: "font-mono text-[13px] text-fern", children: k }), _jsx("dd", { children: what })] }, k))) })] }, title))) })] }));
}
