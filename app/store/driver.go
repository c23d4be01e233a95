package store

import (
	"context"
	"database/sql/driver"
	"io"

	"github.com/jackc/pgx/v5/stdlib"
)

// The driver below is pgx's, with errors of the connection told from all others: an end of
// file, or a broken pipe, may also be a plate's or FFmpeg's.

type connector struct{ driver.Connector }

func (c connector) Connect(ctx context.Context) (driver.Conn, error) {
	inner, err := c.Connector.Connect(ctx)
	if err != nil {
		if ctx.Err() == nil {
			err = &Lost{err}
		}
		return nil, err
	}
	return conn{inner.(*stdlib.Conn)}, nil
}

type conn struct{ *stdlib.Conn }

func (c conn) BeginTx(ctx context.Context, opts driver.TxOptions) (driver.Tx, error) {
	inner, err := c.Conn.BeginTx(ctx, opts)
	if err != nil {
		return nil, lost(err)
	}
	return tx{inner}, nil
}

func (c conn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	r, err := c.Conn.ExecContext(ctx, query, args)
	return r, lost(err)
}

func (c conn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	r, err := c.Conn.QueryContext(ctx, query, args)
	if err != nil {
		return nil, lost(err)
	}
	return rows{r}, nil
}

func (c conn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	s, err := c.Conn.PrepareContext(ctx, query)
	return s, lost(err)
}

func (c conn) Ping(ctx context.Context) error { return lost(c.Conn.Ping(ctx)) }

type rows struct{ driver.Rows }

func (r rows) Next(into []driver.Value) error {
	err := r.Rows.Next(into)
	if err == io.EOF { // the last one was read
		return err
	}
	return lost(err)
}

type tx struct{ driver.Tx }

func (t tx) Commit() error { return lost(t.Tx.Commit()) }
