package store

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5/pgxpool"
)

// A Hold keeps other programs from working on a database.
type Hold struct{ conn *pgxpool.Conn }

// holdKey names the hold among PostgreSQL's advisory locks.
const holdKey = 0x6a617264696e // "jardin"

// Hold takes the database for this program alone, until Release or the end of its connection;
// an error if another has it.
func (s *Store) Hold(ctx context.Context) (*Hold, error) {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	var free bool
	if err := conn.QueryRow(ctx, `select pg_try_advisory_lock($1)`, int64(holdKey)).Scan(&free); err != nil {
		conn.Release()
		return nil, fmt.Errorf("hold the database: %w", err)
	}
	if !free {
		conn.Release()
		return nil, errors.New("another Jardin is at work on this database; stop it first, or name another database")
	}
	return &Hold{conn}, nil
}

// Release lets others work on the database.
func (h *Hold) Release() {
	_ = h.conn.Hijack().Close(context.Background()) // the lock goes with the connection
}
