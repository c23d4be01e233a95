// Package app puts the rooms together: database, queue, pictures and the HTTP
// interface make one server.
package app

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"jardin/app/api"
	"jardin/app/cluster"
	"jardin/app/datafolder"
	"jardin/app/jobs"
	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/app/routines"
	"jardin/app/store"
	"jardin/web"
)

// Settings say how to serve.
type Settings struct {
	Data        string   // folder for plates, renders and the database
	Database    string   // address of a PostgreSQL database; empty starts one of Jardin's own
	Listen      string   // address to serve on
	Hosts       []string // names by which it may be asked for, besides those of loopback
	KeyFile     string   // file with the key that whoever asks needs; made if it is not there
	Certificate string   // file with a certificate for TLS, and the one with its key; both or none
	PrivateKey  string
	Media       []string // folders that may be read
	Memory      int      // for frames, results and work under way, in MiB
	Disk        int      // budget for paint that is kept on disk, in MiB
	KeepDeleted int      // days for which a deleted shot can be taken back
}

// A Service is a server at work.
type Service struct {
	*api.Server
	Address string // http://host:port
	NewKey  string // the access key, if it was made just now

	http    *http.Server
	store   *store.Store
	runner  *jobs.Runner
	closing context.CancelFunc
	folder  *datafolder.Folder
	own     *cluster.Cluster // if the database is one of Jardin's own
	hold    *store.Hold      // on a database that is not
}

// Start starts a server and returns when it takes requests.
func Start(ctx context.Context, set Settings) (s *Service, err error) {
	s = &Service{}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.Stop(ctx))
			s = nil
		}
	}()
	access, err := s.access(set)
	if err != nil {
		return s, err
	}
	if s.folder, err = datafolder.Open(set.Data); err != nil {
		return s, err
	}
	if err := s.folder.Lock(); err != nil {
		return s, err
	}
	if err := s.openDatabase(ctx, set.Database); err != nil {
		return s, err
	}
	// What is kept, what is being worked on, and what the collector has not taken back yet; beside it lies the program itself, and
	// what libraries take that are not Go's.
	debug.SetMemoryLimit(int64(set.Memory-min(72, set.Memory/8)) << 20)
	hub := &live.Hub{}
	s.store.IsOpen = hub.IsOpen
	workspace := picture.NewWorkspace(s.store, s.folder, set.Memory<<20, int64(set.Disk)<<20)
	roots, err := absolute(set.Media)
	if err != nil {
		return s, err
	}
	closing, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.closing = stop
	s.Server = &api.Server{
		Store:       s.store,
		Workspace:   workspace,
		Hub:         hub,
		Roots:       roots,
		Access:      access,
		Memory:      set.Memory << 20,
		KeepDeleted: set.KeepDeleted,
		Web:         web.Files(),
		Closing:     closing,
	}
	if err := s.plates(ctx); err != nil {
		return s, err
	}
	if s.runner, err = jobs.Start(ctx, s.store, workspace, hub, s.Server.Readable); err != nil {
		return s, err
	}
	s.Server.Jobs = s.runner
	listener, err := s.listen(set)
	if err != nil {
		return s, err
	}
	routines.Go("serve", func() { s.http.Serve(listener) })
	if s.own != nil {
		routines.Go("keep the database up", func() { s.own.Keep(closing) })
	}
	routines.Go("look after shots", func() { s.watchShots(closing) })
	return s, nil
}

// openDatabase opens the database at an address, or one of Jardin's own for none.
func (s *Service) openDatabase(ctx context.Context, url string) (err error) {
	if url == "" {
		if s.own, err = cluster.Start(filepath.Join(s.folder.Dir(), "postgres")); err != nil {
			return err
		}
		if err := s.own.Create("jardin"); err != nil {
			return err
		}
		url = s.own.URL("jardin")
	}
	if s.store, err = store.Open(ctx, url); err != nil {
		return err
	}
	if s.own == nil {
		if s.hold, err = s.store.Hold(ctx); err != nil {
			return err
		}
	}
	return nil
}

// absolute returns folders by their whole paths.
func absolute(folders []string) (out media.Roots, err error) {
	for _, m := range folders {
		full, err := filepath.Abs(m)
		if err != nil {
			return nil, err
		}
		out = append(out, full)
	}
	return out, nil
}

// listen takes the address to serve on, with TLS if there is a certificate.
func (s *Service) listen(set Settings) (net.Listener, error) {
	listener, err := net.Listen("tcp", set.Listen)
	if err != nil {
		return nil, fmt.Errorf("serve on %s: %w; choose another address with --listen", set.Listen, err)
	}
	handler, _ := s.Server.Handler()
	s.http = &http.Server{
		Handler:           handler,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		ErrorLog:          slog.NewLogLogger(slog.DiscardHandler, slog.LevelDebug),
	}
	s.Address = "http://" + listener.Addr().String()
	if set.Certificate != "" {
		pair, err := tls.LoadX509KeyPair(set.Certificate, set.PrivateKey)
		if err != nil {
			listener.Close()
			return nil, fmt.Errorf("read the certificate for TLS: %w", err)
		}
		listener = tls.NewListener(
			listener,
			&tls.Config{
				Certificates: []tls.Certificate{pair},
				MinVersion:   tls.VersionTLS12,
				NextProtos:   []string{"http/1.1"},
			},
		)
		s.Address = "https" + strings.TrimPrefix(s.Address, "http")
	}
	return listener, nil
}

// access finds out who may use the server. Without a key that is whoever is on this machine:
// then nothing else may reach it.
func (s *Service) access(set Settings) (access *api.Access, err error) {
	access = &api.Access{}
	host, _, err := net.SplitHostPort(set.Listen)
	if err != nil {
		return access, fmt.Errorf(
			"%q is not an address to serve on; give HOST:PORT, such as 127.0.0.1:8470",
			set.Listen,
		)
	}
	if (set.Certificate == "") != (set.PrivateKey == "") {
		return access, errors.New("TLS needs both: --tls-cert and --tls-key")
	}
	access.Secure = set.Certificate != ""
	ip := net.ParseIP(host)
	loopback := host == "localhost" || ip != nil && ip.IsLoopback()
	if !loopback && set.KeyFile == "" {
		return access, fmt.Errorf(
			"%s can be reached by others: everybody on the network could read and change all shots. Give "+
				"--access-key-file FILE as well: a key is made there, and each browser is asked for it once",
			set.Listen,
		)
	}
	for _, h := range append([]string{host}, set.Hosts...) {
		if h != "" && (ip == nil || !ip.IsUnspecified() || h != host) {
			access.Hosts = append(access.Hosts, strings.ToLower(strings.Trim(h, "[]")))
		}
	}
	if ip != nil && ip.IsUnspecified() || host == "" {
		// On all addresses: it is asked for by those of this machine.
		addresses, err := net.InterfaceAddrs()
		if err != nil {
			return access, err
		}
		for _, a := range addresses {
			if n, ok := a.(*net.IPNet); ok {
				access.Hosts = append(access.Hosts, n.IP.String())
			}
		}
	}
	if set.KeyFile == "" {
		return access, nil
	}
	blob, err := os.ReadFile(set.KeyFile)
	switch {
	case errors.Is(err, os.ErrNotExist):
		s.NewKey = rand.Text()
		if err := os.WriteFile(set.KeyFile, []byte(s.NewKey+"\n"), 0o600); err != nil {
			return access, fmt.Errorf("write the access key: %w", err)
		}
		access.Key = s.NewKey
	case err != nil:
		return access, fmt.Errorf("read the access key: %w", err)
	default:
		if info, err := os.Stat(set.KeyFile); err == nil && info.Mode().Perm()&0o077 != 0 {
			return access, fmt.Errorf(
				"others may read the access key: take that from them with chmod 600 %s",
				set.KeyFile,
			)
		}
		if access.Key = strings.TrimSpace(string(blob)); len(access.Key) < 16 {
			return access, fmt.Errorf(
				"the access key in %s has less than 16 characters; remove the file, and one is made",
				set.KeyFile,
			)
		}
	}
	return access, nil
}

// away is what is said of a shot whose plates are not here.
const away = "Its plates are not on this machine. Its treatment is: bring the plates in again, or put back the disk " +
	"that they lie on."

// plates marks shots whose plates are not here, as after a restore without them or before a
// disk is there, and those whose plates are here again.
func (s *Service) plates(ctx context.Context) error {
	shots, err := s.store.Shots(ctx)
	if err != nil {
		return err
	}
	for _, shot := range shots {
		dir, err := s.Workspace.PlateDir(shot.ID)
		if err != nil {
			continue
		}
		_, err = os.Stat(dir)
		switch {
		case shot.State == "ready" && errors.Is(err, os.ErrNotExist):
			err = s.store.SetState(ctx, shot.ID, "failed", away)
		case shot.State == "failed" && shot.Problem == away && err == nil:
			err = s.store.SetState(ctx, shot.ID, "ready", "")
		default:
			continue
		}
		if err != nil {
			return err
		}
		s.Workspace.Forget(shot.ID)
		s.Hub.Send(live.ShotChanged{ShotID: shot.ID})
	}
	return nil
}

// watchShots looks after shots now and then: whether their plates went or came back, and which were
// deleted for long enough.
func (s *Service) watchShots(ctx context.Context) {
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(3 * time.Second):
		}
		if err := s.plates(ctx); err != nil {
			continue // the database is away; it will be back
		}
		if n%1200 != 0 || s.KeepDeleted < 0 {
			continue
		}
		overdue, err := s.store.Overdue(ctx, time.Now().AddDate(0, 0, -s.KeepDeleted))
		for _, id := range overdue {
			if err == nil {
				err = s.Purge(ctx, id)
			}
		}
		if err != nil {
			slog.Error("remove deleted shots", "error", err)
		}
	}
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
	if s.hold != nil {
		s.hold.Release()
	}
	if s.store != nil {
		s.store.Close()
	}
	if s.own != nil && s.own.Started {
		err = errors.Join(err, s.own.Stop())
	}
	if s.folder != nil {
		err = errors.Join(err, s.folder.Close())
	}
	return err
}
