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
			err = &ConnectionError{err}
		}
		return nil, err
	}
	return conn{inner.(*stdlib.Conn)}, nil
}

type conn struct{ *stdlib.Conn }

func (c conn) BeginTx(ctx context.Context, opts driver.TxOptions) (driver.Tx, error) {
	inner, err := c.Conn.BeginTx(ctx, opts)
	if err != nil {
		return nil, asConnectionError(err)
	}
	return tx{inner}, nil
}

func (c conn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	result, err := c.Conn.ExecContext(ctx, query, args)
	return result, asConnectionError(err)
}

func (c conn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	set, err := c.Conn.QueryContext(ctx, query, args)
	if err != nil {
		return nil, asConnectionError(err)
	}
	return rows{set}, nil
}

func (c conn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	s, err := c.Conn.PrepareContext(ctx, query)
	return s, asConnectionError(err)
}

func (c conn) Ping(ctx context.Context) error { return asConnectionError(c.Conn.Ping(ctx)) }

type rows struct{ driver.Rows }

func (set rows) Next(into []driver.Value) error {
	err := set.Rows.Next(into)
	if err == io.EOF { // the last one was read
		return err
	}
	return asConnectionError(err)
}

type tx struct{ driver.Tx }

func (t tx) Commit() error { return asConnectionError(t.Tx.Commit()) }
