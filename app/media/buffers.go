package media

import "sync"

// buffers are bytes that were of use before: a frame's memory is larger than what the
// runtime keeps at hand, and takes as long to be cleared as to be filled.
var buffers bufferPool

type bufferPool struct{ pool sync.Pool }

// get returns n bytes of any value.
func (p *bufferPool) get(n int) []byte {
	if b, ok := p.pool.Get().(*[]byte); ok && cap(*b) >= n {
		return (*b)[:n]
	}
	return make([]byte, n)
}

func (p *bufferPool) put(b []byte) { p.pool.Put(&b) }
