package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"jardin/app/document"
	"jardin/app/picture"
)

func settleCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "settle",
		Short: "Settle a treatment's removals by themselves, and write it with what was found; needs no database",
		Args:  cobra.NoArgs,
	}
	f := c.Flags()
	plate := f.String("plate", "", "folder of numbered stills, or a movie")
	file := f.String("treatment", "", "treatment, see docs/formats.md")
	out := f.String("out", "", "file for the treatment, settled, with its tracks in it")
	var set renderSettings
	set.reading(f)
	asJSON := f.Bool("json", false, "print what was found as JSON")
	required(c, "plate", "treatment", "out")
	c.RunE = func(c *cobra.Command, _ []string) error {
		o, err := open(c.Context(), *plate, *file, set)
		if err != nil {
			return err
		}
		defer o.close()
		if err := o.settle(c.Context()); err != nil {
			return err
		}
		if err := writeDocument(*out, o); err != nil {
			return err
		}
		if *asJSON {
			enc := json.NewEncoder(os.Stdout)
			enc.SetIndent("", "  ")
			return enc.Encode(o.removals)
		}
		for _, s := range o.removals {
			fmt.Printf("%s: %s\n", s.Name, s.Settled)
		}
		return nil
	}
	return c
}

// settle settles every removal by itself, as the button does. One that cannot be settled stays as it is, and says why.
func (o *opened) settle(ctx context.Context) error {
	for i := range o.doc.Removals {
		r := &o.doc.Removals[i]
		if err := picture.MayBeSettled(r); err != nil {
			o.removals[i].Settled = "not settled: " + err.Error()
			continue
		}
		found, err := o.source.Settle(ctx, o.doc, r.ID, nil, func(int, int) {})
		if err != nil {
			return fmt.Errorf("settle %q: %w", r.Name, err)
		}
		r.Settle, o.removals[i].Settled = found.Settle, found.Words
	}
	return nil
}

// writeDocument writes the treatment beside its place first, so that a file that is there is whole or untouched.
func writeDocument(path string, o *opened) error {
	blob, err := json.MarshalIndent(o.doc, "", "  ")
	if err != nil {
		return err
	}
	if _, err := document.Parse(blob, nil); err != nil {
		return fmt.Errorf("the settled treatment is not valid: %w", err)
	}
	draft, err := os.CreateTemp(filepath.Dir(path), ".settled-*")
	if err != nil {
		return fmt.Errorf("write the treatment: %w", err)
	}
	defer os.Remove(draft.Name())
	if _, err := draft.Write(append(blob, '\n')); err != nil {
		return fmt.Errorf("write the treatment: %w", err)
	}
	if err := draft.Close(); err != nil {
		return fmt.Errorf("write the treatment: %w", err)
	}
	if err := os.Chmod(draft.Name(), 0o644); err != nil {
		return fmt.Errorf("write the treatment: %w", err)
	}
	return os.Rename(draft.Name(), path)
}
