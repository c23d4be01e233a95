package media

import (
	"container/heap"
	"encoding/binary"
)

// PIZ, OpenEXR's compression for grainy pictures: values that occur are numbered, a
// Haar wavelet takes neighbours together, and a Huffman code with runs packs the rest
// ("Technical Introduction to OpenEXR", data compression; the layout from memory, held
// against two readers by a test). It loses nothing.
func (b *exrBlock) piz() []byte {
	// Each channel's samples together, as 16-bit values; floats are two of them.
	total := len(b.data) / 2
	values := make([]uint16, total)
	starts := make([]int, len(b.half)+1)
	for c, half := range b.half {
		n := 2 * b.width * b.lines
		if half {
			n /= 2
		}
		starts[c+1] = starts[c] + n
	}
	at := append([]int(nil), starts...)
	b.rows(func(c int, row []byte) {
		for i := 0; i < len(row); i += 2 {
			values[at[c]] = binary.LittleEndian.Uint16(row[i:])
			at[c]++
		}
	})
	// Zero always counts as occurring, and is not told.
	var occurs [8192]byte
	for _, v := range values {
		occurs[v>>3] |= 1 << (v & 7)
	}
	occurs[0] &^= 1
	first, last := len(occurs)-1, 0
	for i, v := range occurs {
		if v != 0 {
			first, last = min(first, i), i
		}
	}
	number := make([]uint16, 1<<16)
	largest := uint16(0)
	for v := 1; v < len(number); v++ {
		if occurs[v>>3]>>(v&7)&1 == 1 {
			largest++
			number[v] = largest
		}
	}
	for i, v := range values {
		values[i] = number[v]
	}
	for c, half := range b.half {
		size := 2
		if half {
			size = 1
		}
		for k := range size {
			haar(values[starts[c]+k:starts[c+1]], b.width, size, b.lines, b.width*size, largest)
		}
	}
	out := binary.LittleEndian.AppendUint16(nil, uint16(first))
	out = binary.LittleEndian.AppendUint16(out, uint16(last))
	if first <= last {
		out = append(out, occurs[first:last+1]...)
	}
	packed := huffman(values)
	out = binary.LittleEndian.AppendUint32(out, uint32(len(packed)))
	return append(out, packed...)
}

// haar is the wavelet, in place: nx by ny values, dx and dy apart. Where values have no
// more than 14 bits means and differences fit into signed ones; else they wrap around.
func haar(v []uint16, nx, dx, ny, dy int, largest uint16) {
	pair := func(a, b uint16) (mean, apart uint16) {
		x, y := int16(a), int16(b)
		return uint16((int32(x) + int32(y)) >> 1), uint16(x - y)
	}
	if largest >= 1<<14 {
		pair = func(a, b uint16) (mean, apart uint16) {
			x := (int(a) + 1<<15) & 0xffff
			m, d := (x+int(b))>>1, x-int(b)
			if d < 0 {
				m = (m + 1<<15) & 0xffff
			}
			return uint16(m), uint16(d)
		}
	}
	for p := 1; 2*p <= min(nx, ny); p *= 2 {
		y := 0
		for ; y+2*p <= ny; y += 2 * p {
			x := 0
			for ; x+2*p <= nx; x += 2 * p {
				a := y*dy + x*dx
				b, c, d := a+p*dx, a+p*dy, a+p*dx+p*dy
				m0, d0 := pair(v[a], v[b])
				m1, d1 := pair(v[c], v[d])
				v[a], v[c] = pair(m0, m1)
				v[b], v[d] = pair(d0, d1)
			}
			if nx&p != 0 {
				a := y*dy + x*dx
				v[a], v[a+p*dy] = pair(v[a], v[a+p*dy])
			}
		}
		if ny&p != 0 {
			for x := 0; x+2*p <= nx; x += 2 * p {
				a := y*dy + x*dx
				v[a], v[a+p*dx] = pair(v[a], v[a+p*dx])
			}
		}
	}
}

// A bitWriter packs bits, the highest first.
type bitWriter struct {
	out  []byte
	bits uint64
	n    uint
}

func (w *bitWriter) write(n uint, v uint64) {
	for n > 32 { // a code may have up to 58 bits
		w.write(n-32, v>>32)
		n, v = 32, v&(1<<32-1)
	}
	w.bits, w.n = w.bits<<n|v, w.n+n
	for w.n >= 8 {
		w.n -= 8
		w.out = append(w.out, byte(w.bits>>w.n))
	}
}

// end fills the last byte up and returns the bits written.
func (w *bitWriter) end() (data []byte, bits int) {
	bits = 8*len(w.out) + int(w.n)
	if w.n > 0 {
		w.out = append(w.out, byte(w.bits<<(8-w.n)))
	}
	return w.out, bits
}

// huffman packs values with a canonical Huffman code of their own; the symbol after the
// largest value stands for repeats.
func huffman(values []uint16) []byte {
	if len(values) == 0 {
		return nil
	}
	counts := make([]int, 1<<16+1)
	for _, v := range values {
		counts[v]++
	}
	least, repeats := 0, 0
	for counts[least] == 0 {
		least++
	}
	for v, n := range counts {
		if n > 0 {
			repeats = v + 1
		}
	}
	counts[repeats] = 1
	lengths := codeLengths(counts[:repeats+1])
	codes := canonical(lengths)

	table := &bitWriter{}
	for v := least; v <= repeats; v++ {
		zeros := 0
		for v+zeros <= repeats && lengths[v+zeros] == 0 && zeros < 261 {
			zeros++
		}
		switch {
		case zeros >= 6:
			table.write(6, 63)
			table.write(8, uint64(zeros-6))
			v += zeros - 1
		case zeros >= 2:
			table.write(6, uint64(59+zeros-2))
			v += zeros - 1
		default:
			table.write(6, uint64(lengths[v]))
		}
	}
	packedTable, _ := table.end()

	data := &bitWriter{}
	put := func(v int) { data.write(uint(lengths[v]), codes[v]) }
	for i := 0; i < len(values); {
		v, more := int(values[i]), 0
		for i+more+1 < len(values) && values[i+more+1] == values[i] && more < 255 {
			more++
		}
		if int(lengths[v])+int(lengths[repeats])+8 < int(lengths[v])*more {
			put(v)
			put(repeats)
			data.write(8, uint64(more))
		} else {
			for range more + 1 {
				put(v)
			}
		}
		i += more + 1
	}
	packed, bits := data.end()
	var out []byte
	for _, v := range []int{least, repeats, len(packedTable), bits, 0} {
		out = binary.LittleEndian.AppendUint32(out, uint32(v))
	}
	return append(append(out, packedTable...), packed...)
}

// A tree is a node of a Huffman tree: a symbol, or two trees.
type tree struct {
	count       int
	symbol      int
	left, right *tree
}

type forest []*tree

func (f forest) Len() int { return len(f) }
func (f forest) Less(i, j int) bool {
	return f[i].count < f[j].count || f[i].count == f[j].count && f[i].symbol < f[j].symbol
}
func (f forest) Swap(i, j int) { f[i], f[j] = f[j], f[i] }
func (f *forest) Push(x any)   { *f = append(*f, x.(*tree)) }
func (f *forest) Pop() any {
	last := (*f)[len(*f)-1]
	*f = (*f)[:len(*f)-1]
	return last
}

// codeLengths returns how many bits each symbol's code has; 0 for those that do not
// occur (Huffman 1952, "A Method for the Construction of Minimum-Redundancy Codes").
func codeLengths(counts []int) []uint8 {
	var f forest
	for s, n := range counts {
		if n > 0 {
			f = append(f, &tree{count: n, symbol: s})
		}
	}
	heap.Init(&f)
	for len(f) > 1 {
		a, b := heap.Pop(&f).(*tree), heap.Pop(&f).(*tree)
		heap.Push(&f, &tree{count: a.count + b.count, symbol: min(a.symbol, b.symbol), left: a, right: b})
	}
	lengths := make([]uint8, len(counts))
	var walk func(t *tree, depth uint8)
	walk = func(t *tree, depth uint8) {
		if t.left == nil {
			lengths[t.symbol] = depth
			return
		}
		walk(t.left, depth+1)
		walk(t.right, depth+1)
	}
	walk(f[0], 0)
	return lengths
}

// canonical returns codes of these lengths: shorter ones are greater, and among equally
// long ones they grow with the symbol.
func canonical(lengths []uint8) []uint64 {
	var next [59]uint64
	for _, l := range lengths {
		next[l]++
	}
	code := uint64(0)
	for l := 58; l > 0; l-- {
		above := (code + next[l]) >> 1
		next[l] = code
		code = above
	}
	codes := make([]uint64, len(lengths))
	for s, l := range lengths {
		if l > 0 {
			codes[s] = next[l]
			next[l]++
		}
	}
	return codes
}
