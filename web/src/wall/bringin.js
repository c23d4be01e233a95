import { jsx as _jsx, jsxs as _jsxs } from "react/jsx-runtime";
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { answer, api } from '../api/client';
import { Select } from '../ui/choice';
import { Button, Field, inputStyle } from '../ui/controls';
import { Sheet } from '../ui/sheet';
/** Choosing footage from the folders that the server may read, and saying what it is. */
export function BringIn({ open, onClose, shows }) {
    const [trail, setTrail] = useState([]); // the folders gone through, the one shown last
    const path = trail.at(-1) ?? '';
    const [chosen, setChosen] = useState('');
    const folder = useQuery({
        queryKey: ['folder', path],
        queryFn: () => answer(api.GET('/api/folders', { params: { query: { path } } })),
        enabled: open,
        staleTime: 0,
    });
    const material = useQuery({
        queryKey: ['material', chosen],
        queryFn: () => answer(api.GET('/api/material', { params: { query: { path: chosen } } })),
        enabled: open && chosen !== '',
        staleTime: 0,
        retry: false,
    });
    useEffect(() => {
        if (!open)
            setChosen('');
    }, [open]);
    const go = (to) => {
        setTrail(to);
        setChosen('');
    };
    const enter = (to) => go([...trail, to]);
    return (_jsx(Sheet, { title: "Bring in a shot", open: open, onClose: onClose, wide: true, children: _jsxs("div", { className: "grid grid-cols-2 gap-6", children: [_jsxs("div", { children: [_jsxs("div", { className: "mb-2 flex items-center gap-2", children: [_jsx(Button, { disabled: path === '', onClick: () => go(trail.slice(0, -1)), children: "Up" }), _jsx("span", { className: "truncate font-mono text-[13px] text-quiet", title: path, children: path === '' ? 'Folders the server may read' : path.split('/').slice(-2).join(' / ') })] }), _jsxs("ul", { className: "h-72 overflow-y-auto rounded border border-rule bg-soil p-1", children: [folder.isError && _jsx("li", { className: "p-2 text-clay", children: folder.error.message }), folder.data?.length === 0 && _jsx("li", { className: "p-2 text-quiet", children: path === '' ? 'The server was not told of any folder. Start it with --media FOLDER.' : 'No folders and no movies here.' }), folder.data?.map((e) => (_jsx("li", { children: _jsxs("button", { type: "button", className: `flex w-full items-baseline justify-between gap-2 rounded-sm px-2 py-1 text-left hover:bg-slab ${chosen === e.path ? 'text-fern' : ''}`, onClick: () => (e.kind === 'movie' || e.stills ? setChosen(e.path) : enter(e.path)), onDoubleClick: () => e.kind === 'folder' && enter(e.path), children: [_jsxs("span", { className: "truncate", children: [e.name, e.kind === 'folder' && '/'] }), _jsx("span", { className: "shrink-0 text-[13px] text-quiet", children: e.kind === 'movie' ? 'movie' : e.stills ? `${e.stills} stills` : '' })] }) }, e.path)))] }), _jsx("p", { className: "mt-2 text-[13px] text-quiet", children: "A folder with numbered stills is one shot. Double click opens it as a folder." })] }), _jsxs("div", { children: [chosen === '' && _jsx("p", { className: "text-quiet", children: "Choose a movie or a folder of numbered stills on the left." }), material.isFetching && _jsx("p", { className: "text-quiet", children: "Looking at it\u2026" }), material.isError && !material.isFetching && _jsx("p", { role: "alert", className: "text-clay", children: material.error.message }), material.data && !material.isFetching && _jsx(Facts, { material: material.data, shows: shows, onDone: onClose }, chosen)] })] }) }));
}
function Facts({ material: m, shows, onDone }) {
    const queries = useQueryClient();
    const [show, setShow] = useState(shows[0] ?? 'My show');
    const [name, setName] = useState(m.name);
    const [first, setFirst] = useState(String(m.first));
    const [rate, setRate] = useState(m.rate.den === 1 ? String(m.rate.num) : `${m.rate.num}/${m.rate.den}`);
    const [transfer, setTransfer] = useState(m.kind === 'movie' ? 'bt709' : 'srgb');
    const [problem, setProblem] = useState('');
    const add = async () => {
        const [num, den = '1'] = rate.split('/');
        try {
            await answer(api.POST('/api/shots', { body: { show, name, path: m.path, first: Number(first), rate: { num: Number(num), den: Number(den) }, transfer } }));
            await queries.invalidateQueries({ queryKey: ['shots'] });
            onDone();
        }
        catch (e) {
            setProblem(e.message);
        }
    };
    return (_jsxs("form", { className: "flex flex-col gap-2", onSubmit: (e) => {
            e.preventDefault();
            void add();
        }, children: [_jsxs("p", { className: "mb-1", children: [m.last - m.first + 1, " frames, ", m.first, " to ", m.last, _jsx("br", {}), m.width, " \u00D7 ", m.height, " pixels, ", m.depth, " bit", _jsx("br", {}), _jsx("span", { className: "text-quiet", children: m.format })] }), _jsx(Field, { label: "Show", children: _jsx("input", { className: inputStyle, value: show, onChange: (e) => setShow(e.target.value) }) }), _jsx(Field, { label: "Shot", children: _jsx("input", { className: inputStyle, value: name, onChange: (e) => setName(e.target.value) }) }), _jsx(Field, { label: "First frame", children: _jsx("input", { className: inputStyle, inputMode: "numeric", value: first, onChange: (e) => setFirst(e.target.value) }) }), _jsx(Field, { label: "Frames/s", hint: "A whole number, or a fraction such as 24000/1001", children: _jsx("input", { className: inputStyle, value: rate, onChange: (e) => setRate(e.target.value) }) }), _jsxs("div", { className: "grid grid-cols-[5.5rem_1fr] items-center gap-2", children: [_jsx("span", { className: "text-quiet", children: "Code values" }), _jsx(Select, { label: "How code values relate to light", value: transfer, onChange: setTransfer, options: [
                            { value: 'srgb', label: 'sRGB', hint: 'stills and renders for the screen' },
                            { value: 'bt709', label: 'BT.709', hint: 'video' },
                            { value: 'linear', label: 'Linear', hint: 'code values are light' },
                        ] })] }), problem && _jsx("p", { role: "alert", className: "text-clay", children: problem }), _jsx(Button, { type: "submit", weight: "main", className: "mt-2 self-start", children: "Bring in" })] }));
}
