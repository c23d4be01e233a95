// Package app puts the rooms together: database, queue, pictures and the HTTP
// interface make one server.
package app

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"time"

	"jardin/app/api"
	"jardin/app/cluster"
	"jardin/app/jobs"
	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/app/store"
	"jardin/web"
)

// Settings say how to serve.
type Settings struct {
	Data         string   // folder for plates, renders and the database
	Database     string   // address of a PostgreSQL database; empty starts one of Jardin's own
	DatabasePort int      // of Jardin's own; 0 takes a free one
	Listen       string   // address to serve on
	Media        []string // folders that may be read
	Memory       int      // for frames, results and work under way, in MiB
	Disk         int      // budget for paint that is kept on disk, in MiB
}

// A Service is a server at work.
type Service struct {
	*api.Server
	Address string // http://host:port

	http    *http.Server
	store   *store.Store
	runner  *jobs.Runner
	closing context.CancelFunc
	own     *cluster.Cluster // if the database is one of Jardin's own
}

// Start starts a server and returns when it takes requests.
func Start(ctx context.Context, set Settings) (*Service, error) {
	data, err := filepath.Abs(set.Data)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(data, 0o755); err != nil {
		return nil, fmt.Errorf("make the data folder: %w", err)
	}
	s, url := &Service{}, set.Database
	if url == "" {
		if s.own, err = cluster.Start(filepath.Join(data, "postgres"), set.DatabasePort); err != nil {
			return nil, err
		}
		if err := s.own.Create("jardin"); err != nil {
			return nil, err
		}
		url = s.own.URL("jardin")
	}
	if s.store, err = store.Open(ctx, url); err != nil {
		return nil, err
	}
	// What is kept, what is being worked on, and what the collector has not taken back yet.
	debug.SetMemoryLimit(int64(set.Memory) << 20)
	hub := &live.Hub{}
	rooms := picture.NewRooms(s.store, data, set.Memory<<20, int64(set.Disk)<<20)
	if err := s.missing(ctx, rooms); err != nil {
		s.store.Close()
		return nil, err
	}
	if s.runner, err = jobs.Start(ctx, s.store, rooms, hub); err != nil {
		s.store.Close()
		return nil, err
	}
	var roots media.Roots
	for _, m := range set.Media {
		full, err := filepath.Abs(m)
		if err != nil {
			return nil, err
		}
		roots = append(roots, full)
	}
	uploads := filepath.Join(data, "uploads")
	listener, err := net.Listen("tcp", set.Listen)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("serve on %s: %w; choose another address with --listen", set.Listen, err), s.Stop(ctx))
	}
	closing, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.closing = stop
	s.Server = &api.Server{Store: s.store, Rooms: rooms, Jobs: s.runner, Hub: hub, Roots: roots, Uploads: uploads, Web: web.Files(), Closing: closing}
	handler, _ := s.Server.Handler()
	s.http = &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	s.Address = "http://" + listener.Addr().String()
	go s.http.Serve(listener)
	if s.own != nil {
		go s.own.Keep(closing)
	}
	return s, nil
}

// missing marks shots whose plates are not here, as after a restore without them.
func (s *Service) missing(ctx context.Context, rooms *picture.Rooms) error {
	shots, err := s.store.Shots(ctx)
	if err != nil {
		return err
	}
	for _, shot := range shots {
		if _, err := os.Stat(rooms.PlateDir(shot.ID)); shot.State != "ready" || err == nil {
			continue
		}
		if err := s.store.SetState(ctx, shot.ID, "failed", "Its plates are not on this machine. Its treatment is: bring the plates in again."); err != nil {
			return err
		}
	}
	return nil
}

// Stop ends the server. Work that is not finished goes on at the next start.
func (s *Service) Stop(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	var err error
	if s.closing != nil {
		s.closing()
	}
	if s.http != nil {
		err = s.http.Shutdown(ctx)
	}
	if s.runner != nil {
		err = errors.Join(err, s.runner.Stop(ctx))
	}
	s.store.Close()
	if s.own != nil && s.own.Started {
		err = errors.Join(err, s.own.Stop())
	}
	return err
}
