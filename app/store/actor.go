package store

import "context"

// An Actor is who does something: for now what a browser says of itself. Accounts would come
// in here.
type Actor struct {
	Name    string // that the browser keeps
	Window  string // of the browser: its identifier
	Browser string // the identifier that all windows of one browser share
}

type actorKey struct{}

// WithActor returns a context in which somebody acts.
func WithActor(ctx context.Context, a Actor) context.Context {
	return context.WithValue(ctx, actorKey{}, a)
}

// ActorOf returns who acts in a context; nobody where that is not known.
func ActorOf(ctx context.Context) Actor {
	a, _ := ctx.Value(actorKey{}).(Actor)
	return a
}
