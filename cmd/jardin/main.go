// Jardin takes things out of moving footage. "jardin help" lists what it can do.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"

	"jardin/app"
	"jardin/app/api"
	"jardin/app/demo"
	"jardin/app/media"
	"jardin/app/routines"
	"jardin/core/colorspace"
	"jardin/web"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := &cobra.Command{
		Use:           "jardin",
		Short:         "Takes markers, rigs, wires and other things out of moving footage",
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.AddCommand(serveCommand(), demoCommand(), renderCommand(), settleCommand(), backupCommand(), restoreCommand(), openapiCommand())
	if err := root.ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "jardin:", err)
		os.Exit(1)
	}
}

func settings(c *cobra.Command) *app.Settings {
	s := &app.Settings{}
	f := c.Flags()
	f.StringVar(&s.Data, "data", ".jardin", "folder for plates, renders and the database")
	f.StringVar(&s.Database, "database", "", "address of a PostgreSQL database (default: one of Jardin's own)")
	f.StringVar(&s.Listen, "listen", "127.0.0.1:8470", "address to serve on; port 0 takes a free one")
	f.StringArrayVar(
		&s.Hosts,
		"host",
		nil,
		"name by which the server may be asked for, besides those of loopback; may be given several times",
	)
	f.StringVar(
		&s.KeyFile,
		"access-key-file",
		"",
		"file with the key that browsers are asked for; made if it is not there. Needed to serve others",
	)
	f.StringVar(&s.Certificate, "tls-cert", "", "file with a certificate, to serve by TLS")
	f.StringVar(&s.PrivateKey, "tls-key", "", "file with the certificate's key")
	f.IntVar(&s.KeepDeleted, "keep-deleted", 30, "days for which a deleted shot can be taken back; below 0 for ever")
	f.StringArrayVar(&s.Media, "media", nil, "folder with footage that may be read; may be given several times")
	f.IntVar(&s.Memory, "memory", 1536, "memory for frames, results and work under way, in MiB")
	f.IntVar(&s.Disk, "disk", 2048, "room on disk for paint that is kept between starts, in MiB")
	return s
}

func serveCommand() *cobra.Command {
	c := &cobra.Command{Use: "serve", Short: "Serve the application", Args: cobra.NoArgs}
	set := settings(c)
	c.RunE = func(c *cobra.Command, _ []string) error { return serve(c.Context(), *set, nil) }
	return c
}

func demoCommand() *cobra.Command {
	c := &cobra.Command{Use: "demo", Short: "Make the demo footage, bring it in, and serve", Args: cobra.NoArgs}
	set := settings(c)
	only := c.Flags().Bool("footage-only", false, "only make the footage, in DATA/footage")
	c.RunE = func(c *cobra.Command, _ []string) error {
		footage := filepath.Join(set.Data, "footage")
		progress := func(done, total int) {
			fmt.Printf("\rMaking the demo footage: frame %d of %d", done, total)
			if done == total {
				fmt.Println()
			}
		}
		if *only {
			return demo.Write(c.Context(), footage, progress, nil)
		}
		// It opens with the first shot; the others are made and come in meanwhile.
		ctx, stop := context.WithCancelCause(c.Context())
		defer stop(nil)
		made := make(chan demo.Clip, len(demo.Clips()))
		written := routines.Go("making the demo footage", func() {
			defer close(made)
			quiet := false
			err := demo.Write(ctx, footage, func(done, total int) {
				if !quiet { // once it is open, the wall shows what comes in
					progress(done, total)
				}
			}, func(clip demo.Clip) {
				if !quiet {
					fmt.Println()
				}
				quiet = true
				made <- clip
			})
			switch {
			case err == nil || ctx.Err() != nil:
			case quiet: // somebody may be at work already
				slog.Error("the other demo shots cannot be made", "error", err)
			default:
				stop(err)
			}
		})
		first, ok := <-made
		if !ok {
			return context.Cause(ctx)
		}
		set.Media = append(set.Media, footage)
		err := serve(ctx, *set, func(s *app.Service) error {
			if err := bringIn(ctx, s, footage, first); err != nil {
				return err
			}
			routines.Go("bringing the demo footage in", func() {
				for clip := range made {
					if err := bringIn(ctx, s, footage, clip); err != nil && ctx.Err() == nil {
						slog.Error("a demo shot did not come in", "shot", clip.Name, "error", err)
					}
				}
			})
			return nil
		})
		stop(nil)
		<-written
		return err
	}
	return c
}

// bringIn adds a demo shot, unless it is there.
func bringIn(ctx context.Context, s *app.Service, footage string, clip demo.Clip) error {
	shots, err := s.Store.Shots(ctx)
	if err != nil {
		return err
	}
	for _, shot := range shots {
		if shot.Name == clip.Name && shot.Show == demo.Show && shot.State != "failed" {
			return nil
		}
	}
	full, err := filepath.Abs(filepath.Join(footage, clip.Plate))
	if err != nil {
		return err
	}
	_, err = s.AddShot(ctx, api.NewShot{
		Called: api.Called{Show: demo.Show, Name: clip.Name}, Path: full, First: clip.First,
		Rate: media.Rational{Num: demo.Rate, Den: 1}, Transfer: colorspace.SRGB,
	})
	return err
}

func serve(ctx context.Context, set app.Settings, then func(*app.Service) error) error {
	s, err := app.Start(ctx, set)
	if err != nil {
		return err
	}
	if then != nil {
		if err := then(s); err != nil {
			return errors.Join(err, s.Stop(ctx))
		}
	}
	if s.NewKey != "" {
		fmt.Printf(
			"The access key, shown this once, is in %s:\n\n    %s\n\nEach browser asks for it once; tools send it as "+
				"a bearer token.\n",
			set.KeyFile,
			s.NewKey,
		)
	}
	fmt.Printf("Jardin is open at %s\nStop it with Ctrl+C.\n", s.Address)
	<-ctx.Done()
	return s.Stop(ctx)
}

func openapiCommand() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Print the description of the HTTP interface", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, description := (&api.Server{Web: web.Files()}).Handler()
			out := json.NewEncoder(os.Stdout)
			out.SetIndent("", "  ")
			return out.Encode(description)
		},
	}
}
