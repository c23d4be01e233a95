package store

import (
	"slices"
	"sync"
)

// What is remembered of revisions, which never change: only one program works on a database
// at a time.

// documents are those used last.
type documents struct {
	mu    sync.Mutex
	order []name // the newest last
	by    map[name]savedDocument
}

type name struct {
	shot   string
	number int
}

// mostDocuments is how many are remembered, and mostBytes about how many bytes of them.
const (
	mostDocuments = 64
	mostBytes     = 32 << 20
)

func (d *documents) get(shot string, number int) (savedDocument, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := name{shot, number}
	doc, ok := d.by[n]
	if ok {
		d.order = append(slices.DeleteFunc(d.order, func(o name) bool { return o == n }), n)
	}
	return doc, ok
}

func (d *documents) put(shot string, number int, doc savedDocument) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.by == nil {
		d.by = map[name]savedDocument{}
	}
	n := name{shot, number}
	d.order = append(slices.DeleteFunc(d.order, func(o name) bool { return o == n }), n)
	d.by[n] = doc
	sum := 0
	for _, o := range d.by {
		sum += o.size
	}
	for len(d.order) > 1 && (len(d.order) > mostDocuments || sum > mostBytes) {
		sum -= d.by[d.order[0]].size
		delete(d.by, d.order[0])
		d.order = d.order[1:]
	}
}

func (d *documents) forget(shot string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.order = slices.DeleteFunc(d.order, func(o name) bool { return o.shot == shot })
	for n := range d.by {
		if n.shot == shot {
			delete(d.by, n)
		}
	}
}

// lines are the revisions that lead to the one in force, by shot.
type lines struct {
	mu sync.Mutex
	by map[string][]revisionRow
}

func (l *lines) get(shot string, head int) ([]revisionRow, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	line := l.by[shot]
	// The last one may be on its way to the database still.
	for n := len(line); n > 0 && n > len(line)-8; n-- {
		if line[n-1].Number == head {
			return line[:n:n], true
		}
	}
	return nil, false
}

func (l *lines) set(shot string, line []revisionRow) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.by == nil {
		l.by = map[string][]revisionRow{}
	}
	l.by[shot] = line
}

// add appends a revision that was made on the last one; what was handed out before stays as
// it is.
func (l *lines) add(shot string, r revisionRow) {
	l.mu.Lock()
	defer l.mu.Unlock()
	line := l.by[shot]
	if len(line) == 0 || line[len(line)-1].Number != int(r.Parent.Int64) {
		delete(l.by, shot)
		return
	}
	if len(line) > 2*reachBack {
		line = line[reachBack:]
	}
	l.by[shot] = append(line[:len(line):len(line)], r)
}

func (l *lines) forget(shot string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.by, shot)
}
