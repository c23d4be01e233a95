// Package memo remembers results: the one place in which what was worked out is kept.
//
// A computation gets a typed value, and an environment that it may read; the key of its
// result is derived from just these, so that it cannot leave out what the result depends
// on. Nothing is kept of a computation that failed or whose context ended, a panic in it
// becomes an error, and two requests for one key wait for one computation.
package memo

import (
	"container/list"
	"context"
	"errors"
	"fmt"
	"reflect"
	"runtime/debug"
	"sync"
)

// A Memo keeps results within a budget and forgets those used longest ago. A nil Memo
// keeps nothing. It is safe for concurrent use.
type Memo struct {
	mu      sync.Mutex
	budget  int
	used    int
	order   *list.List // of *entry, most recently used first
	byKey   map[string]*list.Element
	flights map[string]*flight
}

type entry struct {
	key   string
	kind  string
	value any
	bytes int
}

// A flight is a computation that is under way.
type flight struct {
	done  chan struct{}
	value any
	err   error
}

// New returns an empty memo with a budget in bytes.
func New(budget int) *Memo {
	return &Memo{budget: budget, order: list.New(), byKey: map[string]*list.Element{}, flights: map[string]*flight{}}
}

// An Environment is what a computation may read besides its input.
type Environment interface {
	// Key names all of it: equal keys mean that equal inputs give equal results.
	Key() string
}

// A Panic is an error that a panic of a computation became.
type Panic struct {
	Value any
	Stack []byte
}

func (p *Panic) Error() string {
	return fmt.Sprintf("something broke while it was worked out: %v", p.Value)
}

// Do returns what compute makes of in, from the memo if it is there. compute must depend on
// nothing but its arguments: pass a function of a package, not one that closes over more.
//
// It returns an error if in has no key (see KeyOf), if compute fails or panics, or if the
// context ends. If the context of another request that is computing the same ends first,
// this one computes it itself.
func Do[E Environment, In, V any](
	ctx context.Context,
	m *Memo,
	env E,
	in In,
	compute func(context.Context, E, In) (V, error),
) (V, error) {
	var none V
	key, err := Name(env, in)
	if err != nil {
		return none, err
	}
	if m == nil {
		return guarded(ctx, env, in, compute)
	}
	for {
		m.mu.Lock()
		if e, ok := m.byKey[key]; ok {
			m.order.MoveToFront(e)
			m.mu.Unlock()
			return e.Value.(*entry).value.(V), nil
		}
		f, busy := m.flights[key]
		if !busy {
			f = &flight{done: make(chan struct{})}
			m.flights[key] = f
		}
		m.mu.Unlock()
		if !busy {
			v, err := guarded(ctx, env, in, compute)
			if err == nil {
				err = ctx.Err() // what is worked out for somebody who left may be half of it
			}
			f.value, f.err = v, err
			m.mu.Lock()
			delete(m.flights, key)
			if err == nil {
				m.put(key, kindOf(in), v)
			}
			m.mu.Unlock()
			close(f.done)
			if err != nil {
				return none, err
			}
			return v, nil
		}
		select {
		case <-ctx.Done():
			return none, ctx.Err()
		case <-f.done:
		}
		if f.err == nil {
			return f.value.(V), nil
		}
		if !errors.Is(f.err, context.Canceled) && !errors.Is(f.err, context.DeadlineExceeded) {
			return none, f.err
		}
		if ctx.Err() != nil {
			return none, ctx.Err()
		}
	}
}

// Peek returns a result that is kept, and does not compute it.
func Peek[V any, E Environment, In any](m *Memo, env E, in In) (v V, ok bool) {
	if m == nil {
		return v, false
	}
	key, err := Name(env, in)
	if err != nil {
		return v, false
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	e, ok := m.byKey[key]
	if !ok {
		return v, false
	}
	m.order.MoveToFront(e)
	v, ok = e.Value.(*entry).value.(V)
	return v, ok
}

// Name returns the key under which the result of a computation on an input is kept.
func Name[E Environment, In any](env E, in In) (string, error) {
	if k, ok := any(in).(keyed); ok {
		key, err := k.Key()
		return env.Key() + "/" + string(key), err
	}
	key, err := KeyOf(in)
	return env.Key() + "/" + string(key), err
}

func guarded[E Environment, In, V any](
	ctx context.Context,
	env E,
	in In,
	compute func(context.Context, E, In) (V, error),
) (v V, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &Panic{p, debug.Stack()}
		}
	}()
	if err := ctx.Err(); err != nil {
		return v, err
	}
	return compute(ctx, env, in)
}

func kindOf(in any) string {
	t := reflect.TypeOf(in)
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t.Kind() == reflect.Struct && t.NumField() > 0 && t.Field(0).Name == "Value" {
		t = t.Field(0).Type
	}
	return t.Name()
}

// put puts a value in; the lock is held. A value larger than the whole budget is not kept.
func (m *Memo) put(key, kind string, v any) {
	bytes := bytesOf(v)
	if bytes > m.budget {
		return
	}
	if e, ok := m.byKey[key]; ok {
		m.used -= m.order.Remove(e).(*entry).bytes
	}
	m.byKey[key] = m.order.PushFront(&entry{key, kind, v, bytes})
	m.used += bytes
	for m.used > m.budget {
		old := m.order.Remove(m.order.Back()).(*entry)
		delete(m.byKey, old.key)
		m.used -= old.bytes
	}
}

// bytesOf is the memory that a value takes: what it says itself, or a little.
func bytesOf(v any) int {
	const least = 128
	if s, ok := v.(interface{ Bytes() int }); ok && !isNil(v) {
		return least + s.Bytes()
	}
	if b, ok := v.([]byte); ok {
		return least + len(b)
	}
	return least
}

func isNil(v any) bool {
	r := reflect.ValueOf(v)
	return r.Kind() == reflect.Pointer && r.IsNil()
}

// Kinds returns the bytes kept now by the names of the inputs' types.
func (m *Memo) Kinds() map[string]int {
	out := map[string]int{}
	if m == nil {
		return out
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, e := range m.byKey {
		v := e.Value.(*entry)
		out[v.kind] += v.bytes
	}
	return out
}

// Budget returns how many bytes may be kept.
func (m *Memo) Budget() int { return m.budget }

// Used returns the bytes kept now.
func (m *Memo) Used() int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.used
}

// Clear forgets everything that is kept. What is being computed is kept once it is done.
func (m *Memo) Clear() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.order.Init()
	clear(m.byKey)
	m.used = 0
}

// Guard calls f; a panic in it becomes an error.
func Guard(f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &Panic{p, debug.Stack()}
		}
	}()
	return f()
}
