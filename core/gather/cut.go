package gather

// A network is a graph whose cheapest cut between two terminals is sought: augmenting paths are
// found by two search trees that are kept from one to the next (Boykov & Kolmogorov 2004).
type network struct {
	first  []int32 // of each node's arcs; -1 for none
	arcs   []arc   // in pairs: an arc and the one back
	excess []float32
	// The search: of each node its parent's arc, the tree, how far from the terminal it is known to
	// be and when that was found.
	parent     []int32
	tree       []int8
	far, found []int32
	active     []int32
	queued     []bool
	orphans    []int32
	time       int32
}

type arc struct {
	to, next int32
	room     float32
}

const (
	noTree, sourceTree, sinkTree = 0, 1, -1
	terminal, orphan, root       = -2, -3, -1
)

func newNetwork(nodes, edges int) *network {
	g := &network{
		first: make([]int32, nodes), arcs: make([]arc, 0, 2*edges), excess: make([]float32, nodes),
		parent: make([]int32, nodes), tree: make([]int8, nodes), far: make([]int32, nodes),
		found: make([]int32, nodes), queued: make([]bool, nodes),
	}
	for i := range g.first {
		g.first[i] = -1
	}
	return g
}

// terminals adds the capacities from the source to a node and from it to the sink.
func (g *network) terminals(node int, source, sink float32) { g.excess[node] += source - sink }

// edge adds an edge with its capacities there and back.
func (g *network) edge(a, b int, there, back float32) {
	k := int32(len(g.arcs))
	g.arcs = append(g.arcs, arc{int32(b), g.first[a], there}, arc{int32(a), g.first[b], back})
	g.first[a], g.first[b] = k, k+1
}

func (g *network) activate(i int32) {
	if !g.queued[i] {
		g.queued[i] = true
		g.active = append(g.active, i)
	}
}

// cut saturates the network. Afterwards onSource tells on which side a node lies.
func (g *network) cut() {
	for i := range g.first {
		g.parent[i] = root
		switch {
		case g.excess[i] > 0:
			g.tree[i] = sourceTree
		case g.excess[i] < 0:
			g.tree[i] = sinkTree
		default:
			continue
		}
		g.parent[i], g.far[i] = terminal, 1
		g.activate(int32(i))
	}
	for head := 0; head < len(g.active); {
		i := g.active[head]
		if g.parent[i] == root { // it is in no tree any more
			g.queued[i] = false
			head++
			continue
		}
		between := g.grow(i)
		if between < 0 {
			g.queued[i] = false
			head++
			if head > 1<<16 && head > len(g.active)/2 {
				g.active = append(g.active[:0], g.active[head:]...)
				head = 0
			}
			continue
		}
		g.time++
		g.augment(between)
		for len(g.orphans) > 0 {
			o := g.orphans[len(g.orphans)-1]
			g.orphans = g.orphans[:len(g.orphans)-1]
			g.adopt(o)
		}
	}
}

// onSource reports whether a node is on the source's side of the cut.
func (g *network) onSource(node int) bool { return g.tree[node] == sourceTree }

// grow lets a node's tree take free neighbours, until it meets the other: then it returns the arc
// between them, from the source's tree to the sink's; else -1.
func (g *network) grow(i int32) int32 {
	for k := g.first[i]; k >= 0; k = g.arcs[k].next {
		open := k
		if g.tree[i] == sinkTree {
			open = k ^ 1
		}
		if g.arcs[open].room <= 0 {
			continue
		}
		j := g.arcs[k].to
		switch {
		case g.tree[j] == noTree:
			g.tree[j], g.parent[j] = g.tree[i], k^1
			g.far[j], g.found[j] = g.far[i]+1, g.found[i]
			g.activate(j)
		case g.tree[j] != g.tree[i]:
			return open
		case g.found[j] <= g.found[i] && g.far[j] > g.far[i]: // a shorter way
			g.parent[j], g.far[j], g.found[j] = k^1, g.far[i]+1, g.found[i]
		}
	}
	return -1
}

// augment sends as much as can go along a path through an arc between the trees. In the source's
// tree a parent's arc leads against the flow, in the sink's along it.
func (g *network) augment(between int32) {
	least := g.arcs[between].room
	from, to := g.arcs[between^1].to, g.arcs[between].to
	i := from
	for ; g.parent[i] != terminal; i = g.arcs[g.parent[i]].to {
		least = min(least, g.arcs[g.parent[i]^1].room)
	}
	least = min(least, g.excess[i])
	for i = to; g.parent[i] != terminal; i = g.arcs[g.parent[i]].to {
		least = min(least, g.arcs[g.parent[i]].room)
	}
	least = min(least, -g.excess[i])

	g.arcs[between].room -= least
	g.arcs[between^1].room += least
	leave := func(i int32) {
		g.parent[i] = orphan
		g.orphans = append(g.orphans, i)
	}
	for i = from; g.parent[i] != terminal; {
		k := g.parent[i]
		g.arcs[k].room += least
		g.arcs[k^1].room -= least
		if g.arcs[k^1].room <= 0 {
			leave(i)
		}
		i = g.arcs[k].to
	}
	if g.excess[i] -= least; g.excess[i] <= 0 {
		g.excess[i] = 0
		leave(i)
	}
	for i = to; g.parent[i] != terminal; {
		k := g.parent[i]
		g.arcs[k].room -= least
		g.arcs[k^1].room += least
		if g.arcs[k].room <= 0 {
			leave(i)
		}
		i = g.arcs[k].to
	}
	if g.excess[i] += least; g.excess[i] >= 0 {
		g.excess[i] = 0
		leave(i)
	}
}

// adopt finds a new parent for an orphan in its tree, the one nearest to the terminal, or sets it
// free.
func (g *network) adopt(o int32) {
	best, nearest := int32(root), int32(1<<30)
	for k := g.first[o]; k >= 0; k = g.arcs[k].next {
		open := k ^ 1 // from a parent in the source's tree
		if g.tree[o] == sinkTree {
			open = k
		}
		j := g.arcs[k].to
		if g.arcs[open].room <= 0 || g.tree[j] != g.tree[o] {
			continue
		}
		if d := g.distance(j); d < nearest {
			best, nearest = k, d
		}
	}
	if best >= 0 {
		g.parent[o], g.far[o], g.found[o] = best, nearest+1, g.time
		return
	}
	for k := g.first[o]; k >= 0; k = g.arcs[k].next {
		j := g.arcs[k].to
		if g.tree[j] != g.tree[o] {
			continue
		}
		open := k ^ 1
		if g.tree[o] == sinkTree {
			open = k
		}
		if g.arcs[open].room > 0 {
			g.activate(j)
		}
		if p := g.parent[j]; p >= 0 && g.arcs[p].to == o {
			g.parent[j] = orphan
			g.orphans = append(g.orphans, j)
		}
	}
	g.tree[o], g.parent[o] = noTree, root
}

// distance returns how far a node is from its terminal; 1 << 30 where its way there is broken.
// What it learns on the way is kept.
func (g *network) distance(j int32) int32 {
	d := int32(0)
	i := j
	for {
		if g.found[i] == g.time && g.parent[i] != orphan && g.parent[i] != root {
			d += g.far[i]
			break
		}
		switch g.parent[i] {
		case terminal:
			g.found[i], g.far[i] = g.time, 1
			d++
		case orphan, root:
			return 1 << 30
		default:
			d++
			i = g.arcs[g.parent[i]].to
			continue
		}
		break
	}
	far := d
	for i = j; g.found[i] != g.time; i = g.arcs[g.parent[i]].to {
		g.found[i], g.far[i] = g.time, far
		far--
	}
	return d
}
