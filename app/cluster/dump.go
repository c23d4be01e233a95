package cluster

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
)

// Dump writes a database into a file, as it was at one moment (pg_dump).
func Dump(ctx context.Context, url, file string) error {
	bin, err := programs()
	if err != nil {
		return err
	}
	out, err := exec.CommandContext(ctx, filepath.Join(bin, "pg_dump"), "--format=custom", "--no-owner", "--file="+file, url).CombinedOutput()
	if err != nil {
		return fmt.Errorf("save the database: %w: %s", err, lastLines(string(out), 3))
	}
	return nil
}

// Restore puts what Dump wrote in place of a database's tables, wholly or not at all.
func Restore(ctx context.Context, url, file string) error {
	bin, err := programs()
	if err != nil {
		return err
	}
	if out, err := exec.CommandContext(ctx, filepath.Join(bin, "psql"), "-v", "ON_ERROR_STOP=1", "-q", "-d", url, "-c", "drop schema public cascade; create schema public").CombinedOutput(); err != nil {
		return fmt.Errorf("empty the database: %w: %s", err, lastLines(string(out), 3))
	}
	out, err := exec.CommandContext(ctx, filepath.Join(bin, "pg_restore"), "--no-owner", "--single-transaction", "--exit-on-error", "--dbname="+url, file).CombinedOutput()
	if err != nil {
		return fmt.Errorf("restore the database: %w: %s", err, lastLines(string(out), 3))
	}
	return nil
}
