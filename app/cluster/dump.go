package cluster

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"
)

// tables are those that a dump is read back of, in the order in which they lean on each other.
var tables = []string{"artifacts", "shots", "revisions", "tasks"}

// Dump writes the tables of a database into a file, as they were at one moment (pg_dump).
func Dump(ctx context.Context, url, file string) error {
	bin, err := programs()
	if err != nil {
		return err
	}
	args := []string{"--format=custom", "--no-owner", "--no-privileges", "--file=" + file}
	for _, t := range tables {
		args = append(args, "--table=public."+t)
	}
	out, err := exec.CommandContext(ctx, filepath.Join(bin, "pg_dump"), append(args, url)...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("save the database: %w: %s", err, lastLines(string(out), 3))
	}
	return os.Chmod(file, 0o600)
}

// A Fresh is a database beside the one in use, into which a backup is read.
type Fresh struct {
	of   *Cluster
	Name string
}

func quoted(name string) string { return pgx.Identifier{name}.Sanitize() }

// Beside makes an empty database beside another.
func (c *Cluster) Beside(ctx context.Context, name string) (*Fresh, error) {
	if err := c.do(ctx, "postgres", `drop database if exists `+quoted(name), `create database `+quoted(name)); err != nil {
		return nil, fmt.Errorf("make a database beside the one in use: %w", err)
	}
	return &Fresh{c, name}, nil
}

// URL returns its address.
func (f *Fresh) URL() string { return f.of.URL(f.Name) }

// Drop removes it.
func (f *Fresh) Drop(ctx context.Context) error {
	return f.of.do(ctx, "postgres", `drop database if exists `+quoted(f.Name)+` with (force)`)
}

// entry is the line of a dump's table of contents for the rows of a table.
var entry = regexp.MustCompile(`^\d+; \d+ \d+ TABLE DATA public (\S+) \S+$`)

// Load reads the rows of the tables that a dump holds into the database, whose tables stand
// already. Nothing else of the dump is looked at; and it is read by a role that may do nothing
// but that, for a dump is a program, and who knows who wrote it.
func (f *Fresh) Load(ctx context.Context, file string) (err error) {
	bin, err := programs()
	if err != nil {
		return err
	}
	contents, err := exec.CommandContext(ctx, filepath.Join(bin, "pg_restore"), "--list", file).CombinedOutput()
	if err != nil {
		return fmt.Errorf("its database is damaged: %s", lastLines(string(contents), 1))
	}
	lines := map[string]string{}
	for scan := bufio.NewScanner(strings.NewReader(string(contents))); scan.Scan(); {
		if m := entry.FindStringSubmatch(scan.Text()); m != nil {
			lines[m[1]] = scan.Text()
		}
	}
	wanted, err := os.CreateTemp("", "jardin-contents-")
	if err != nil {
		return err
	}
	defer os.Remove(wanted.Name())
	defer wanted.Close()
	grants := []string{
		`do $$ begin create role ` + restoring + ` login nosuperuser nocreatedb nocreaterole; exception when duplicate_object then null; end $$`,
		`revoke all on schema public from public`, `grant usage on schema public to ` + restoring,
	}
	var revokes []string
	for _, t := range tables {
		if lines[t] == "" {
			return fmt.Errorf("it lacks the table %s", t)
		}
		fmt.Fprintln(wanted, lines[t])
		grants = append(grants, `delete from public.`+t, `grant insert on public.`+t+` to `+restoring)
		revokes = append(revokes, `revoke all on public.`+t+` from `+restoring)
	}
	if err := f.of.do(ctx, f.Name, grants...); err != nil {
		return fmt.Errorf("get the database ready: %w", err)
	}
	out, err := exec.CommandContext(ctx, filepath.Join(bin, "pg_restore"), "--data-only", "--no-owner",
		"--no-privileges", "--single-transaction", "--exit-on-error",
		"--use-list="+wanted.Name(), "--dbname="+f.of.address(f.Name, restoring), file).
		CombinedOutput()
	if err != nil {
		return fmt.Errorf("its database cannot be read: %s", lastLines(string(out), 3))
	}
	return f.of.do(
		ctx,
		f.Name,
		append(revokes, `revoke all on schema public from `+restoring, `grant usage on schema public to public`)...)
}

// Replace puts the database in the place of another, in one transaction, and removes that.
func (f *Fresh) Replace(ctx context.Context, name string) error {
	before := name + "_before"
	if err := f.of.do(ctx, "postgres", `drop database if exists `+quoted(before)); err != nil {
		return err
	}
	conn, err := pgx.Connect(ctx, f.of.URL("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `alter database `+quoted(name)+` rename to `+quoted(before)); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `alter database `+quoted(f.Name)+` rename to `+quoted(name))
		return err
	})
	if err != nil {
		return fmt.Errorf("put the restored database in place: %w", err)
	}
	f.Name = name
	return f.of.do(ctx, "postgres", `drop database if exists `+quoted(before)+` with (force)`)
}

// do runs statements one after the other.
func (c *Cluster) do(ctx context.Context, database string, statements ...string) error {
	conn, err := pgx.Connect(ctx, c.URL(database))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for _, s := range statements {
		if _, err := conn.Exec(ctx, s); err != nil {
			return errors.Join(errors.New(s), err)
		}
	}
	return nil
}
