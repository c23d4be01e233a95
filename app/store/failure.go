package store

import (
	"database/sql"
	"database/sql/driver"
	"errors"
	"io"
	"net"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5/pgconn"
)

// Away reports whether an error says that the database cannot be reached now. Only errors of
// the database's driver count: what the system says of a file is about that file.
func Away(err error) bool {
	if err == nil {
		return false
	}
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		// Class 57: shut down, crashed, or starting up; 08: the connection.
		return strings.HasPrefix(refused.Code, "57P") || strings.HasPrefix(refused.Code, "08")
	}
	var connect *pgconn.ConnectError
	if errors.As(err, &connect) {
		return true
	}
	var lost *ConnectionError
	// A connection that was found broken before anything was sent on it has no error but this one.
	return errors.As(err, &lost) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, sql.ErrConnDone) ||
		strings.Contains(err.Error(), "conn closed") ||
		strings.Contains(err.Error(), "closed pool")
}

// ConnectionError is an error of the connection to the database.
type ConnectionError struct{ Err error }

func (l *ConnectionError) Error() string { return l.Err.Error() }
func (l *ConnectionError) Unwrap() error { return l.Err }

// asConnectionError tells errors of the connection from all others that look alike: those that come back
// from a statement are the database's.
func asConnectionError(err error) error {
	if err == nil {
		return nil
	}
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return err
	}
	for _, what := range []error{io.EOF, io.ErrUnexpectedEOF, syscall.ECONNRESET, syscall.ECONNREFUSED, syscall.EPIPE,
		syscall.ENOENT, syscall.ETIMEDOUT, net.ErrClosed} {
		if errors.Is(err, what) {
			return &ConnectionError{err}
		}
	}
	return err
}

// Unfit reports whether the database refused a value: a number out of range, a text that is
// none (class 22 of SQLSTATE).
func Unfit(err error) bool {
	var refused *pgconn.PgError
	return errors.As(err, &refused) && strings.HasPrefix(refused.Code, "22") ||
		err != nil && strings.Contains(err.Error(), "is greater than maximum value for") ||
		err != nil && strings.Contains(err.Error(), "is less than minimum value for")
}

// Foreign reports whether an error is the database driver's own.
func Foreign(err error) bool {
	var refused *pgconn.PgError
	var connect *pgconn.ConnectError
	var lost *ConnectionError
	return errors.As(err, &refused) || errors.As(err, &connect) || errors.As(err, &lost) ||
		errors.Is(err, driver.ErrBadConn) ||
		errors.Is(err, sql.ErrConnDone)
}
