package render

import (
	"container/list"
	"strings"
	"sync"
)

// A Cache keeps values under the hash of what they were made from, and forgets
// those used longest ago when their sizes exceed its budget. A nil Cache keeps
// nothing. It is safe for concurrent use.
type Cache struct {
	mu     sync.Mutex
	budget int
	used   int
	order  *list.List // of *entry, most recently used first
	byKey  map[string]*list.Element
}

type entry struct {
	key   string
	value any
	bytes int
}

// NewCache returns an empty cache with a budget in bytes.
func NewCache(budget int) *Cache {
	return &Cache{budget: budget, order: list.New(), byKey: map[string]*list.Element{}}
}

// Get returns the value under a key.
func (c *Cache) Get(key string) (any, bool) {
	if c == nil {
		return nil, false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	e, ok := c.byKey[key]
	if !ok {
		return nil, false
	}
	c.order.MoveToFront(e)
	return e.Value.(*entry).value, true
}

// Put keeps a value of the given size. A value larger than the whole budget is
// not kept.
func (c *Cache) Put(key string, value any, bytes int) {
	if c == nil || bytes > c.budget {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if e, ok := c.byKey[key]; ok {
		c.used -= e.Value.(*entry).bytes
		c.order.Remove(e)
	}
	c.byKey[key] = c.order.PushFront(&entry{key, value, bytes})
	c.used += bytes
	for c.used > c.budget {
		last := c.order.Back()
		old := c.order.Remove(last).(*entry)
		delete(c.byKey, old.key)
		c.used -= old.bytes
	}
}

// Kinds returns the bytes kept now by what stands before the first slash of their
// keys; those without one are together under the empty word.
func (c *Cache) Kinds() map[string]int {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := map[string]int{}
	for key, e := range c.byKey {
		kind, _, ok := strings.Cut(key, "/")
		if !ok {
			kind = ""
		}
		out[kind] += e.Value.(*entry).bytes
	}
	return out
}

// Budget returns how many bytes may be kept.
func (c *Cache) Budget() int { return c.budget }

// Clear forgets everything.
func (c *Cache) Clear() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.order.Init()
	clear(c.byKey)
	c.used = 0
}

// Used returns the bytes kept now.
func (c *Cache) Used() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.used
}

// Gates let one at a time through for each name. The zero value is ready.
type gates struct {
	mu   sync.Mutex
	open map[string]*gate
}

type gate struct {
	mu   sync.Mutex
	wait int
}

// enter waits until nobody else is through the gate, and returns what leaves it.
func (g *gates) enter(name string) (leave func()) {
	g.mu.Lock()
	if g.open == nil {
		g.open = map[string]*gate{}
	}
	one := g.open[name]
	if one == nil {
		one = &gate{}
		g.open[name] = one
	}
	one.wait++
	g.mu.Unlock()
	one.mu.Lock()
	return func() {
		one.mu.Unlock()
		g.mu.Lock()
		defer g.mu.Unlock()
		if one.wait--; one.wait == 0 {
			delete(g.open, name)
		}
	}
}
