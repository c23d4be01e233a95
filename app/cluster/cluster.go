// Package cluster runs a PostgreSQL cluster of Jardin's own on loopback, so that
// nobody has to set up a database first.
package cluster

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// A Cluster is a running PostgreSQL.
type Cluster struct {
	dir  string
	port int
	as   *syscall.Credential // the user it runs as; nil is this one
	bin  string

	// Started says that this program started the server, and so may stop it.
	Started bool
}

// Start starts the cluster in dir, making it if there is none, and returns when
// it takes connections. A cluster that runs already is used. port 0 takes the
// one from last time, or a free one. Run as root, it starts PostgreSQL as the user
// "postgres", which Debian's package makes, for PostgreSQL refuses to run as root.
func Start(dir string, port int) (*Cluster, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	c := &Cluster{dir: dir}
	if c.bin, err = programs(); err != nil {
		return nil, err
	}
	if os.Geteuid() == 0 {
		if err := c.stepDown(); err != nil {
			return nil, err
		}
	}
	if err := os.MkdirAll(filepath.Dir(c.dir), 0o755); err != nil {
		return nil, err
	}
	// Two programs must not make or start the same cluster at once.
	lock, err := os.OpenFile(c.dir+".lock", os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, fmt.Errorf("lock the database: %w", err)
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return nil, fmt.Errorf("lock the database: %w", err)
	}
	if _, err := os.Stat(filepath.Join(c.dir, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := c.create(); err != nil {
			return nil, err
		}
	}
	// One that runs may still be starting, or be about to end: it is waited for.
	for end := time.Now().Add(time.Minute); ; time.Sleep(100 * time.Millisecond) {
		running, ok := c.running()
		if !ok {
			break
		}
		if c.port = running; c.ready() {
			return c, nil
		}
		if time.Now().After(end) {
			return nil, fmt.Errorf("PostgreSQL runs on %s, but takes no connections; see its server.log", c.dir)
		}
	}
	if port == 0 {
		port = c.lastPort()
	}
	if port == 0 || !free(port) {
		if port, err = freePort(); err != nil {
			return nil, err
		}
	}
	c.port = port
	log := filepath.Join(c.dir, "server.log")
	out, err := c.run("pg_ctl", "-D", c.dir, "-l", log, "-w", "-t", "60",
		"-o", fmt.Sprintf("-p %d -c listen_addresses=127.0.0.1 -c unix_socket_directories='' -c max_connections=200", port), "start")
	if err != nil {
		tail, _ := os.ReadFile(log)
		return nil, fmt.Errorf("PostgreSQL did not start: %w\n%s\n%s", err, out, lastLines(string(tail), 5))
	}
	c.Started = true
	return c, nil
}

// Keep starts the server again whenever it has broken down, until the context ends.
func (c *Cluster) Keep(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
		if conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", c.port), time.Second); err == nil {
			conn.Close()
			continue
		}
		if again, err := Start(c.dir, c.port); err == nil && again.Started {
			c.Started = true
		}
	}
}

// URL returns the address of a database in the cluster.
func (c *Cluster) URL(database string) string {
	return fmt.Sprintf("postgres://jardin@127.0.0.1:%d/%s?sslmode=disable", c.port, database)
}

// Create makes a database unless there is one of that name.
func (c *Cluster) Create(database string) error {
	out, err := c.run("psql", "-h", "127.0.0.1", "-p", strconv.Itoa(c.port), "-U", "jardin", "-d", "postgres", "-Atc",
		"select 1 from pg_database where datname = '"+database+"'")
	if err != nil {
		return fmt.Errorf("ask PostgreSQL for its databases: %w: %s", err, out)
	}
	if strings.TrimSpace(out) == "1" {
		return nil
	}
	if out, err := c.run("createdb", "-h", "127.0.0.1", "-p", strconv.Itoa(c.port), "-U", "jardin", database); err != nil {
		return fmt.Errorf("make the database %s: %w: %s", database, err, out)
	}
	return nil
}

// Stop stops the cluster.
func (c *Cluster) Stop() error {
	out, err := c.run("pg_ctl", "-D", c.dir, "-m", "fast", "-w", "stop")
	if err != nil {
		return fmt.Errorf("stop PostgreSQL: %w: %s", err, out)
	}
	return nil
}

func (c *Cluster) create() error {
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return err
	}
	if c.as != nil {
		if err := os.Chown(c.dir, int(c.as.Uid), int(c.as.Gid)); err != nil {
			return err
		}
	}
	out, err := c.run("initdb", "-D", c.dir, "-U", "jardin", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	if err != nil {
		return fmt.Errorf("make the database cluster in %s: %w\n%s", c.dir, err, out)
	}
	return nil
}

// running returns the port of a server that already runs on the cluster.
func (c *Cluster) running() (int, bool) {
	if _, err := c.run("pg_ctl", "-D", c.dir, "status"); err != nil {
		return 0, false
	}
	port := c.lastPort()
	return port, port != 0
}

// ready reports whether the server takes connections.
func (c *Cluster) ready() bool {
	_, err := c.run("pg_isready", "-h", "127.0.0.1", "-p", strconv.Itoa(c.port), "-t", "3")
	return err == nil
}

// lastPort reads the port from the files PostgreSQL keeps: postmaster.pid while
// it runs, postmaster.opts after.
func (c *Cluster) lastPort() int {
	if blob, err := os.ReadFile(filepath.Join(c.dir, "postmaster.pid")); err == nil {
		if lines := strings.Split(string(blob), "\n"); len(lines) > 3 {
			if port, err := strconv.Atoi(strings.TrimSpace(lines[3])); err == nil {
				return port
			}
		}
	}
	if blob, err := os.ReadFile(filepath.Join(c.dir, "postmaster.opts")); err == nil {
		if _, rest, ok := strings.Cut(string(blob), `"-p" "`); ok {
			digits, _, _ := strings.Cut(rest, `"`)
			port, _ := strconv.Atoi(digits)
			return port
		}
	}
	return 0
}

func (c *Cluster) run(program string, args ...string) (string, error) {
	cmd := exec.Command(filepath.Join(c.bin, program), args...)
	cmd.Dir = "/"
	if c.as != nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: c.as}
	}
	// A server that pg_ctl starts keeps its output open: a file, unlike a pipe,
	// does not make us wait for it.
	out, err := os.CreateTemp("", "jardin-pg-*")
	if err != nil {
		return "", err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	cmd.Stdout, cmd.Stderr = out, out
	err = cmd.Run()
	text, _ := os.ReadFile(out.Name())
	return strings.TrimSpace(string(text)), err
}

// stepDown finds the user to run as in place of root. Where that user cannot
// reach the wanted folder, the cluster moves to one below its home.
func (c *Cluster) stepDown() error {
	u, err := user.Lookup("postgres")
	if err != nil {
		return errors.New(`PostgreSQL does not run as root, and there is no user "postgres"; install Debian's package postgresql`)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	c.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	if err := os.MkdirAll(filepath.Dir(c.dir), 0o755); err != nil {
		return err
	}
	test := exec.Command("test", "-x", filepath.Dir(c.dir))
	test.Dir, test.SysProcAttr = "/", &syscall.SysProcAttr{Credential: c.as}
	if test.Run() != nil {
		c.dir = filepath.Join(u.HomeDir, "jardin", strings.ReplaceAll(strings.Trim(c.dir, "/"), "/", "-"))
	}
	return nil
}

// programs returns the folder of PostgreSQL's server programs: the newest that
// Debian's packages installed, or where initdb lies on the path.
func programs() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	sort.Slice(found, func(i, j int) bool { return version(found[i]) < version(found[j]) })
	if len(found) > 0 {
		return filepath.Dir(found[len(found)-1]), nil
	}
	if path, err := exec.LookPath("initdb"); err == nil {
		if path, err = filepath.EvalSymlinks(path); err == nil {
			return filepath.Dir(path), nil
		}
	}
	return "", errors.New("PostgreSQL's server programs are not installed; install Debian's package postgresql")
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

func free(port int) bool {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return false
	}
	l.Close()
	return true
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("find a free port: %w", err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func lastLines(s string, n int) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}
