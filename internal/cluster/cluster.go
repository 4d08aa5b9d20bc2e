// Package cluster runs a private PostgreSQL cluster on loopback, for the demo
// and the tests. The server's programs come from the system's packages.
package cluster

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
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

// Administrator is the cluster's superuser.
const Administrator = "adytum"

// Cluster is a running cluster.
type Cluster struct {
	folder     string
	bin        string
	port       int
	password   string
	credential *syscall.Credential // of the unprivileged user, when started by root
}

// Options say how a cluster is run.
type Options struct {
	// Unsafe gives up durability for speed; for tests alone.
	Unsafe bool
}

// ErrNotInstalled says that the system has no PostgreSQL server.
var ErrNotInstalled = errors.New("PostgreSQL is not installed; run \"apt-get install postgresql\"")

// Start starts the cluster in a folder, which it makes where there is none. A
// cluster that was left running there, by a process that was killed, is stopped
// first.
func Start(ctx context.Context, folder string, o Options) (*Cluster, error) {
	c := &Cluster{}
	var err error
	if c.bin, err = programs(); err != nil {
		return nil, err
	}
	if c.credential, err = unprivileged(); err != nil {
		return nil, err
	}
	if c.folder, err = c.prepare(folder); err != nil {
		return nil, err
	}
	if err := c.initialize(ctx, o); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(c.data(), "postmaster.pid")); err == nil {
		_ = c.run(ctx, "pg_ctl", "-D", c.data(), "-m", "immediate", "-w", "-t", "20", "stop")
	}
	if c.port, err = c.choosePort(); err != nil {
		return nil, err
	}
	settings := fmt.Sprintf("-c listen_addresses=127.0.0.1 -c port=%d -c unix_socket_directories= -c log_statement=none -c max_connections=200", c.port)
	if o.Unsafe {
		settings += " -c fsync=off -c synchronous_commit=off -c full_page_writes=off -c max_connections=400"
	}
	if err := c.run(ctx, "pg_ctl", "-D", c.data(), "-l", filepath.Join(c.folder, "log"), "-w", "-t", "60", "-o", settings, "start"); err != nil {
		return nil, fmt.Errorf("start PostgreSQL: %w; its log is %s", err, filepath.Join(c.folder, "log"))
	}
	return c, nil
}

// URL is the address of a database for the administrator.
func (c *Cluster) URL(database string) string {
	return fmt.Sprintf("postgres://%s:%s@127.0.0.1:%d/%s?sslmode=disable", Administrator, c.password, c.port, database)
}

// Folder is where everything of the cluster lies.
func (c *Cluster) Folder() string { return c.folder }

// Port is the port on loopback.
func (c *Cluster) Port() int { return c.port }

// Stop ends the cluster and waits for it.
func (c *Cluster) Stop() error {
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	return c.run(ctx, "pg_ctl", "-D", c.data(), "-m", "fast", "-w", "-t", "50", "stop")
}

// Kill ends the cluster as a crash would.
func (c *Cluster) Kill() error {
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	return c.run(ctx, "pg_ctl", "-D", c.data(), "-m", "immediate", "-w", "-t", "50", "stop")
}

// Restart starts a stopped cluster again on the same port.
func (c *Cluster) Restart(ctx context.Context) error {
	settings := fmt.Sprintf("-c listen_addresses=127.0.0.1 -c port=%d -c unix_socket_directories=", c.port)
	return c.run(ctx, "pg_ctl", "-D", c.data(), "-l", filepath.Join(c.folder, "log"), "-w", "-t", "60", "-o", settings, "start")
}

func (c *Cluster) data() string { return filepath.Join(c.folder, "data") }

// programs finds the newest PostgreSQL; Debian keeps it off the path.
func programs() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	sort.Slice(found, func(i, j int) bool { return major(found[i]) < major(found[j]) })
	if len(found) > 0 && major(found[len(found)-1]) >= 15 {
		return filepath.Dir(found[len(found)-1]), nil
	}
	if path, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(path), nil
	}
	return "", ErrNotInstalled
}

func major(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// unprivileged is the user that PostgreSQL runs as when root starts it, which
// it refuses to run as itself.
func unprivileged() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, _ := strconv.ParseUint(u.Uid, 10, 32)
		gid, _ := strconv.ParseUint(u.Gid, 10, 32)
		return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
	}
	return nil, errors.New("PostgreSQL does not run as root, and there is no user postgres to run it as; run this as an ordinary user")
}

// prepare makes the cluster's folder. Where the unprivileged user cannot reach
// it, since a folder above is closed to others, the cluster lies below the
// system's own folder for such data and the given folder is a link to it.
func (c *Cluster) prepare(folder string) (string, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return "", err
	}
	if c.credential == nil {
		return folder, os.MkdirAll(folder, 0o700)
	}
	if err := os.MkdirAll(filepath.Dir(folder), 0o755); err != nil {
		return "", err
	}
	if !reachable(filepath.Dir(folder)) {
		sum := sha256.Sum256([]byte(folder))
		elsewhere := filepath.Join("/var/tmp", "adytum-"+hex.EncodeToString(sum[:8]))
		if _, err := os.Lstat(folder); errors.Is(err, os.ErrNotExist) {
			// What lies there is of a home that was deleted.
			if err := os.RemoveAll(elsewhere); err != nil {
				return "", err
			}
		}
		if err := os.MkdirAll(elsewhere, 0o700); err != nil {
			return "", err
		}
		if err := os.Symlink(elsewhere, folder); err != nil && !errors.Is(err, os.ErrExist) {
			return "", fmt.Errorf("link the database's folder: %w", err)
		}
		folder = elsewhere
	} else if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	return folder, os.Chown(folder, int(c.credential.Uid), int(c.credential.Gid))
}

// reachable tells whether every folder down to this one can be entered by others.
func reachable(folder string) bool {
	for ; ; folder = filepath.Dir(folder) {
		info, err := os.Stat(folder)
		if err != nil || info.Mode().Perm()&0o001 == 0 {
			return false
		}
		if folder == "/" {
			return true
		}
	}
}

// initialize makes the cluster where there is none yet, and reads its password.
func (c *Cluster) initialize(ctx context.Context, o Options) error {
	passwordFile := filepath.Join(c.folder, "password")
	if password, err := os.ReadFile(passwordFile); err == nil {
		if _, err := os.Stat(filepath.Join(c.data(), "PG_VERSION")); err == nil {
			c.password = strings.TrimSpace(string(password))
			return nil
		}
	}
	// What an interrupted first start left is of no use.
	if err := os.RemoveAll(c.data()); err != nil {
		return err
	}
	c.password = rand.Text()
	if err := os.WriteFile(passwordFile, []byte(c.password+"\n"), 0o600); err != nil {
		return err
	}
	if c.credential != nil {
		if err := os.Chown(passwordFile, int(c.credential.Uid), int(c.credential.Gid)); err != nil {
			return err
		}
	}
	args := []string{"-D", c.data(), "-U", Administrator, "--pwfile=" + passwordFile, "-A", "scram-sha-256", "-E", "UTF8", "--locale=C.UTF-8"}
	if o.Unsafe {
		args = append(args, "--no-sync")
	}
	if err := c.run(ctx, "initdb", args...); err != nil {
		return fmt.Errorf("make the database cluster: %w", err)
	}
	return nil
}

func (c *Cluster) run(ctx context.Context, program string, args ...string) error {
	cmd := exec.CommandContext(ctx, filepath.Join(c.bin, program), args...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8"}
	// A process group of its own: an interrupt at the terminal is for us to handle.
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: c.credential, Setpgid: true}
	// The server inherits what pg_ctl has; a pipe would stay open as long as it runs.
	log, err := os.CreateTemp("", "adytum-"+program+"-*")
	if err != nil {
		return err
	}
	defer os.Remove(log.Name())
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Run(); err != nil {
		output, _ := os.ReadFile(log.Name())
		lines := strings.Split(strings.TrimSpace(string(output)), "\n")
		return fmt.Errorf("%s: %w: %s", program, err, lines[len(lines)-1])
	}
	return nil
}

// choosePort takes the port of the last start where it is still free, so that
// what was written down of it stays right.
func (c *Cluster) choosePort() (int, error) {
	remembered := filepath.Join(c.folder, "port")
	if text, err := os.ReadFile(remembered); err == nil {
		if l, err := net.Listen("tcp", "127.0.0.1:"+strings.TrimSpace(string(text))); err == nil {
			defer l.Close()
			return l.Addr().(*net.TCPAddr).Port, nil
		}
	}
	port, err := freePort()
	if err != nil {
		return 0, err
	}
	return port, os.WriteFile(remembered, []byte(strconv.Itoa(port)+"\n"), 0o644)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("find a free port: %w", err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
