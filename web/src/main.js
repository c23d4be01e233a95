import { jsx as _jsx, jsxs as _jsxs, Fragment as _Fragment } from "react/jsx-runtime";
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode, useEffect } from 'react';
import { createRoot } from 'react-dom/client';
import { Route, Switch } from 'wouter';
import { listen, useLive } from './api/live';
import { BenchRoom } from './bench/bench';
import './index.css';
import { Notices } from './ui/notice';
import { Wall } from './wall/wall';
const queries = new QueryClient({ defaultOptions: { queries: { staleTime: Infinity, retry: 1, refetchOnWindowFocus: false } } });
function App() {
    const connected = useLive((s) => s.connected);
    useEffect(() => listen(queries), []);
    return (_jsxs(_Fragment, { children: [_jsxs(Switch, { children: [_jsx(Route, { path: "/shots/:id", children: ({ id }) => _jsx(BenchRoom, { id: id }, id) }), _jsx(Route, { children: _jsx(Wall, {}) })] }), _jsx(Notices, {}), !connected && (_jsx("p", { role: "status", className: "fixed bottom-3 left-1/2 z-50 -translate-x-1/2 rounded border border-clay bg-bed px-3 py-1", children: "The server does not answer. Trying again." }))] }));
}
createRoot(document.getElementById('root')).render(_jsx(StrictMode, { children: _jsx(QueryClientProvider, { client: queries, children: _jsx(App, {}) }) }));
