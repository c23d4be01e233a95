import { jsx as _jsx, jsxs as _jsxs, Fragment as _Fragment } from "react/jsx-runtime";
import { useRef } from 'react';
import { useEdit } from '../../api/treatment';
import { bringIn } from '../../ui/files';
import { Button } from '../../ui/controls';
import { bench, useBench } from '../state';
import { ShapeList } from './shapes';
const toolWords = { curve: 'Outline', box: 'Box', ellipse: 'Ellipse', strand: 'Strand' };
/** Mark: the outlines and strands of what goes. */
export function MarkStage(props) {
    const { shot, removal: r } = props;
    const { tool, drawn, outline: selected, frame } = useBench();
    const { adopt } = useEdit(shot.id);
    const file = useRef(null);
    const drawing = tool === 'outline';
    const shape = r.mark.outlines.find((o) => o.id === selected);
    const begin = (d) => bench.set({ tool: 'outline', drawn: d, outline: null, knots: [] });
    return (_jsxs(_Fragment, { children: [_jsx("div", { className: "grid grid-cols-2 gap-1.5", children: ['curve', 'strand', 'box', 'ellipse'].map((d) => (_jsx(Button, { on: drawing && drawn === d, title: { curve: 'Click for corners, drag for curves; Enter or the first point closes (O)', strand: 'An open path with a width, for a wire; Enter ends it', box: 'Drag a box', ellipse: 'Drag an ellipse' }[d], onClick: () => (drawing && drawn === d ? bench.set({ tool: 'look' }) : begin(d)), children: drawing && drawn === d ? `Drawing ${d === 'curve' || d === 'ellipse' ? 'an' : 'a'} ${toolWords[d].toLowerCase()}` : `Draw ${d === 'curve' || d === 'ellipse' ? 'an' : 'a'} ${toolWords[d].toLowerCase()}` }, d))) }), drawing && (_jsxs("p", { className: "text-[13px] text-quiet", children: [drawn === 'curve' && 'Click to set corners, press and drag for curves. Click the first point, or press Enter, to close. Draw it with room around the thing.', drawn === 'strand' && 'Click along the wire; its ends may lie beyond the picture. Click the last point again, or press Enter, to end it.', (drawn === 'box' || drawn === 'ellipse') && 'Press and drag from corner to corner.'] })), _jsx(ShapeList, { ...props, owner: { removal: r.id }, shapes: r.mark.outlines, label: "Shapes" }), _jsxs("div", { className: "flex gap-1.5 text-[13px]", children: [_jsx("a", { className: "rounded px-1 text-quiet underline decoration-stone underline-offset-2 hover:text-text", href: `/api/shots/${shot.id}/removals/${r.id}/outlines.svg?frame=${frame}`, title: "The shapes as they lie on this frame", children: "Save as SVG" }), _jsx("button", { type: "button", className: "rounded px-1 text-quiet underline decoration-stone underline-offset-2 hover:text-text", title: "Outlines from an SVG file, on this frame", onClick: () => file.current?.click(), children: "Bring in SVG" }), _jsx("input", { ref: file, type: "file", accept: ".svg", className: "hidden", "aria-label": "SVG file", onChange: (e) => void bringIn(e, `/api/shots/${shot.id}/removals/${r.id}/outlines.svg?frame=${frame}`).then((rev) => rev && adopt(rev)) })] }), !shape && r.mark.outlines.length > 0 && !drawing && _jsx("p", { className: "text-[13px] text-quiet", children: "Click a shape\u2019s line to take hold of it." })] }));
}
