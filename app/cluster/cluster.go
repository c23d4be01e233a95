// Package cluster runs a PostgreSQL cluster of Jardin's own, so that nobody has to set up a
// database first. It listens on a Unix socket in a folder of its own, and only the user whose
// program this is may connect (peer authentication): no other user of the machine, and nobody
// on the network.
package cluster

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
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
	dir    string
	socket string              // the folder that its socket lies in
	as     *syscall.Credential // the user it runs as; nil is this one
	bin    string
	// Started says that this program started the server, and so may stop it.
	Started bool
}

// port only names the socket's file: nothing listens on the network.
const port = "5432"

// longest is how long a socket's address may be (struct sockaddr_un).
const longest = 100

// Start starts the cluster in dir, making it if there is none, and returns when
// it takes connections. A cluster that runs already is used. Run as root, it starts
// PostgreSQL as the user "postgres", which Debian's package makes, for PostgreSQL refuses to
// run as root.
func Start(dir string) (*Cluster, error) {
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
	if err := os.MkdirAll(filepath.Dir(c.dir), c.traversed()); err != nil {
		return nil, err
	}
	// Two programs must not make or start the same cluster at once.
	lock, err := os.OpenFile(c.dir+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock the database: %w", err)
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return nil, fmt.Errorf("lock the database: %w", err)
	}
	if err := c.makeSocketFolder(); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(c.dir, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := c.create(); err != nil {
			return nil, err
		}
	}
	// One that runs may still be starting, or be about to end: it is waited for.
	for end := time.Now().Add(time.Minute); ; time.Sleep(100 * time.Millisecond) {
		socket, running := c.running()
		if !running {
			break
		}
		if socket != "" && socket != c.socket {
			// Started by an older program, that let it listen on the network.
			if err := c.Stop(); err != nil {
				return nil, err
			}
			break
		}
		if c.ready() {
			return c, nil
		}
		if time.Now().After(end) {
			return nil, fmt.Errorf("PostgreSQL runs on %s, but takes no connections; see its server.log", c.dir)
		}
	}
	if err := c.allow(); err != nil {
		return nil, err
	}
	log := filepath.Join(c.dir, "server.log")
	out, err := c.run(
		"pg_ctl",
		"-D",
		c.dir,
		"-l",
		log,
		"-w",
		"-t",
		"60",
		"-o",
		fmt.Sprintf(
			"-p %s -c listen_addresses='' -c unix_socket_directories='%s' -c unix_socket_permissions=0700 -c "+
				"max_connections=200",
			port,
			c.socket,
		),
		"start",
	)
	if err != nil {
		tail, _ := os.ReadFile(log)
		return nil, fmt.Errorf("PostgreSQL did not start: %w\n%s\n%s", err, out, lastLines(string(tail), 5))
	}
	c.Started = true
	return c, nil
}

// traversed is the mode of the folder that the cluster lies in: PostgreSQL's user must be able
// to pass through.
func (c *Cluster) traversed() os.FileMode {
	if c.as != nil {
		return 0o711
	}
	return 0o700
}

// makeSocketFolder makes the folder for the socket: beside the cluster, or where that is too
// deep for a socket's address, one with a short name that says whose it is.
func (c *Cluster) makeSocketFolder() error {
	c.socket = c.dir + ".socket"
	if len(c.socket) > longest {
		sum := sha256.Sum256([]byte(c.dir))
		c.socket = filepath.Join(os.TempDir(), "jardin-"+hex.EncodeToString(sum[:8]))
	}
	if err := os.Mkdir(c.socket, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return fmt.Errorf("make the folder for the database's socket: %w", err)
	}
	owner := os.Geteuid()
	if c.as != nil {
		owner = int(c.as.Uid)
		if err := os.Lchown(c.socket, owner, int(c.as.Gid)); err != nil {
			return fmt.Errorf("give the database its socket's folder: %w", err)
		}
	}
	info, err := os.Lstat(c.socket)
	if err != nil {
		return err
	}
	if own, ok := info.Sys().(*syscall.Stat_t); !info.IsDir() || info.Mode().Perm() != 0o700 || !ok ||
		int(own.Uid) != owner {
		return fmt.Errorf("%s is not a folder of the database's own; remove it", c.socket)
	}
	return nil
}

// allow writes who may connect: the user whose program this is, and the one that PostgreSQL
// runs as, both by the name that the system knows them by. Read at each start, it mends what
// older programs let in.
func (c *Cluster) allow() error {
	users := map[string]bool{}
	me, err := user.Current()
	if err != nil {
		return fmt.Errorf("find out whose program this is: %w", err)
	}
	users[me.Username] = true
	if c.as != nil {
		users["postgres"] = true
	}
	var idents strings.Builder
	for name := range users {
		for _, role := range []string{"jardin", restoring} {
			fmt.Fprintf(&idents, "jardin \"%s\" %s\n", strings.ReplaceAll(name, `"`, `""`), role)
		}
	}
	for file, text := range map[string]string{
		"pg_hba.conf":   "# Written by Jardin at each start.\nlocal all jardin," + restoring + " peer map=jardin\n",
		"pg_ident.conf": "# Written by Jardin at each start.\n" + idents.String(),
	} {
		path := filepath.Join(c.dir, file)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			return fmt.Errorf("say who may use the database: %w", err)
		}
		if c.as != nil {
			if err := os.Chown(path, int(c.as.Uid), int(c.as.Gid)); err != nil {
				return err
			}
		}
	}
	return nil
}

// Keep starts the server again whenever it has broken down, until the context ends.
func (c *Cluster) Keep(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
		if conn, err := net.DialTimeout("unix", filepath.Join(c.socket, ".s.PGSQL."+port), time.Second); err == nil {
			conn.Close()
			continue
		}
		if again, err := Start(c.dir); err == nil && again.Started {
			c.Started = true
		}
	}
}

// restoring is the role that reads what a backup holds into a database: one that may put rows
// into tables, and nothing else, as whoever made a backup can have written anything into it.
const restoring = "jardin_restore"

// URL returns the address of a database in the cluster.
func (c *Cluster) URL(database string) string { return c.address(database, "jardin") }

func (c *Cluster) address(database, role string) string {
	q := url.Values{"host": {c.socket}, "port": {port}, "user": {role}}
	return "postgres:///" + database + "?" + q.Encode()
}

// Create makes a database unless there is one of that name.
func (c *Cluster) Create(database string) error {
	out, err := c.run("psql", "-h", c.socket, "-p", port, "-U", "jardin", "-d", "postgres", "-Atc",
		"select 1 from pg_database where datname = '"+database+"'")
	if err != nil {
		return fmt.Errorf("ask PostgreSQL for its databases: %w: %s", err, out)
	}
	if strings.TrimSpace(out) == "1" {
		return nil
	}
	if out, err := c.run("createdb", "-h", c.socket, "-p", port, "-U", "jardin", database); err != nil {
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
	out, err := c.run(
		"initdb",
		"-D",
		c.dir,
		"-U",
		"jardin",
		"-A",
		"peer",
		"-E",
		"UTF8",
		"--locale=C.UTF-8",
		"--data-checksums",
	)
	if err != nil {
		return fmt.Errorf("make the database cluster in %s: %w\n%s", c.dir, err, out)
	}
	return nil
}

// running returns the socket's folder of a server that already runs on the cluster, and
// whether one does. The folder stands in the fifth line of postmaster.pid; it is empty as long
// as the server is only starting.
func (c *Cluster) running() (socket string, ok bool) {
	if _, err := c.run("pg_ctl", "-D", c.dir, "status"); err != nil {
		return "", false
	}
	blob, err := os.ReadFile(filepath.Join(c.dir, "postmaster.pid"))
	if lines := strings.Split(string(blob), "\n"); err == nil && len(lines) > 5 {
		if socket = strings.TrimSpace(lines[4]); socket == "" {
			socket = "none"
		}
	}
	return socket, true
}

// ready reports whether the server takes connections.
func (c *Cluster) ready() bool {
	_, err := c.run("pg_isready", "-h", c.socket, "-p", port, "-t", "3")
	return err == nil
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
		return errors.New(
			`PostgreSQL does not run as root, and there is no user "postgres"; install Debian's package postgresql`,
		)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	c.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	if err := os.MkdirAll(filepath.Dir(c.dir), 0o711); err != nil {
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

func lastLines(s string, n int) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}
