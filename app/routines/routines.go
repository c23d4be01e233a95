// Package routines starts goroutines: the one place from which they may be started. A
// panic in a goroutine of its own takes the whole program along, with everybody's work; in
// one of these it is an error of the request or the task that it works for.
package routines

import (
	"context"
	"errors"
	"log/slog"

	"golang.org/x/sync/errgroup"

	"jardin/core/memo"
)

// A Group is several functions at work on one thing. Wait returns the first error; a panic
// counts as one (package errgroup, with that).
type Group struct{ *errgroup.Group }

// NewGroup returns a group that has at most limit functions at work at once, and a context
// that ends with its first error.
func NewGroup(ctx context.Context, limit int) (Group, context.Context) {
	inner, ctx := errgroup.WithContext(ctx)
	inner.SetLimit(limit)
	return Group{inner}, ctx
}

// Go calls f, as soon as there is room.
func (g Group) Go(f func() error) {
	g.Group.Go(func() error { return told(memo.Guard(f)) })
}

// Go calls f beside what goes on. what says in the log what broke, if it does; ended is
// closed when it has ended, one way or the other.
func Go(what string, f func()) (ended <-chan struct{}) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		if err := told(memo.Guard(func() error { f(); return nil })); err != nil {
			slog.Error("a goroutine broke", "what", what, "error", err)
		}
	}()
	return done
}

// Guard calls f in this goroutine; a panic becomes its error.
func Guard(f func() error) error { return told(memo.Guard(f)) }

// told writes where something broke into the log: whoever is told of the error only hears
// what.
func told(err error) error {
	var broken *memo.Panic
	if errors.As(err, &broken) {
		slog.Error("something broke", "panic", broken.Value, "stack", string(broken.Stack))
	}
	return err
}
