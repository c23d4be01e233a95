package jobs

import (
	"context"

	"jardin/app/store"
)

// A kind is a kind of long work.
type kind interface {
	// run does a task, or goes on with one that was interrupted; note is for the artist: where
	// it stopped, and why.
	run(ctx context.Context, r *Runner, t *store.Task, p *progress) (note string, err error)
}

// kinds are all there are, by name. A new one gets a file of its own and a line here.
var kinds = map[string]kind{
	"import": importing{},
	"track":  tracking{},
	"scout":  scouting{},
	"edge":   edgeFollowing{},
	"settle": settling{},
	"solve":  solving{},
	"render": rendering{},
}

// What a kind may have besides.
type (
	// A fragile kind may take the server along: it is not begun for ever without coming any
	// further. reached is how far it is.
	fragile interface {
		reached(r *Runner, t *store.Task) int
		brokenDown(times int) error
	}
	// Some clean up when a task is cancelled.
	givenUp interface {
		givenUp(ctx context.Context, r *Runner, t *store.Task)
	}
	// Some go on from what they had found though they failed or were cancelled; others begin
	// anew, on the treatment that is in force then.
	resuming interface{ resumes() }
	// Some have more to do before a task that ended is done again; false refuses.
	repeating interface {
		again(ctx context.Context, r *Runner, t *store.Task) (bool, error)
	}
)

// mostAttempts is how often fragile work is begun: what takes the server along does so each
// time.
const mostAttempts = 3
