// Package demo makes and runs an installation of its own with the data of the
// made-up Fernhollow Libraries: a database, a service, people, workloads,
// entries, and git repositories to sweep.
package demo

import (
	"context"
	"crypto/rand"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"

	"github.com/gofrs/flock"

	"adytum.example/internal/cluster"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/daemon"
	"adytum.example/internal/service"
	"adytum.example/internal/storage"
)

// Demo is what a running demo tells of itself. It holds passwords, which are of
// this installation alone.
type Demo struct {
	URL          string     `json:"url"`
	Home         string     `json:"home"`
	People       []Person   `json:"people"`
	Workloads    []Workload `json:"workloads"`
	Repositories []string   `json:"repositories"`
	Database     string     `json:"database"` // URL for the cluster's administrator
	StandIns     StandIns   `json:"standIns"`
}

// Person is one of the demo's people.
type Person struct {
	Name     string `json:"name"`
	Login    string `json:"login"`
	Password string `json:"password"`
}

// Workload is one of the demo's workloads.
type Workload struct {
	Name         string `json:"name"`
	ClientID     string `json:"clientId"`
	ClientSecret string `json:"clientSecret"`
}

// ErrRunning says that another demo runs in the same home.
var ErrRunning = errors.New("another demo runs there")

// Options say how the demo is run.
type Options struct {
	Home   string // made where it is not there
	Listen string // HOST:PORT on loopback; port 0 for any that is free
	Log    *slog.Logger
	// Unsafe gives up durability for speed; for tests alone.
	Unsafe bool
	// Through is for measures alone.
	Through func(service.Flusher) service.Flusher
}

// Run runs a demo until ctx ends, and leaves no process behind. ready is called
// when everything answers.
func Run(ctx context.Context, o Options, ready func(Demo) error) (err error) {
	home, err := filepath.Abs(o.Home)
	if err != nil {
		return err
	}
	// Its own folders are closed; the database's user must pass through this one.
	if err := os.MkdirAll(home, 0o711); err != nil {
		return fmt.Errorf("make the demo's home: %w", err)
	}
	_ = os.Chmod(home, 0o711)
	lock := flock.New(filepath.Join(home, "lock"))
	if held, err := lock.TryLock(); err != nil {
		return fmt.Errorf("lock %s: %w", home, err)
	} else if !held {
		return fmt.Errorf("%w: %s is in use; end that one or choose another folder with --home", ErrRunning, home)
	}
	defer func() { err = errors.Join(err, lock.Unlock()) }()

	d := &demo{Demo: Demo{Home: home}, options: o}
	fresh, err := d.recall()
	if err != nil {
		return err
	}
	if d.cluster, err = cluster.Start(ctx, filepath.Join(home, "postgres"), cluster.Options{Unsafe: o.Unsafe}); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, d.cluster.Stop()) }()
	return d.serve(ctx, fresh, ready)
}

type demo struct {
	Demo
	options Options
	cluster *cluster.Cluster
	values  map[string]string
}

func (d *demo) notes() string   { return filepath.Join(d.Home, "demo.json") }
func (d *demo) rootKey() string { return filepath.Join(d.Home, "root.key") }

// recall reads what an earlier run wrote down. Where none was finished, what it
// left is cleared away.
func (d *demo) recall() (fresh bool, err error) {
	content, err := os.ReadFile(d.notes())
	switch {
	case errors.Is(err, fs.ErrNotExist):
		for _, leftover := range []string{d.rootKey(), filepath.Join(d.Home, "repositories")} {
			if err := os.RemoveAll(leftover); err != nil {
				return false, err
			}
		}
		return true, clearFolder(filepath.Join(d.Home, "postgres"))
	case err != nil:
		return false, err
	}
	home := d.Home
	if err := json.Unmarshal(content, &d.Demo); err != nil {
		return false, fmt.Errorf("%s cannot be read; remove %s to start anew", d.notes(), home)
	}
	d.Home = home
	d.Repositories = nil
	for _, r := range repositories() {
		d.Repositories = append(d.Repositories, filepath.Join(home, "repositories", r.Name))
	}
	return false, nil
}

// clearFolder removes what is in a folder, which may be a link to one.
func clearFolder(folder string) error {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		err = errors.Join(err, os.RemoveAll(filepath.Join(folder, e.Name())))
	}
	return err
}

func (d *demo) serve(ctx context.Context, fresh bool, ready func(Demo) error) (err error) {
	urls, err := storage.Bootstrap(ctx, d.cluster.URL("postgres"), "adytum")
	if err != nil {
		return err
	}
	c := daemon.Defaults
	c.Listen, c.RootKeyFile, c.Checkpoint = d.options.Listen, d.rootKey(), filepath.Join(d.Home, "checkpoint")
	c.Database, c.Flush, c.Migrate, c.Jobs = urls.Service, urls.Flush, urls.Migrate, urls.Jobs
	stopStandIns, err := d.serveStandIns()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, stopStandIns()) }()
	c.Through = d.options.Through
	data := storeData()
	if fresh {
		if err := d.setUp(ctx, c, data); err != nil {
			return err
		}
	} else if err := storage.Migrate(ctx, c.Migrate); err != nil {
		return err
	}
	d.Database = d.cluster.URL("postgres")

	ctx, stop := context.WithCancel(ctx)
	defer stop()
	failed := make(chan error, 1)
	err = daemon.Serve(ctx, c, d.options.Log, func(url string) {
		d.URL = url
		go func() {
			err := d.prepare(ctx, fresh, data)
			if err == nil {
				err = ready(d.Demo)
			}
			if err != nil {
				failed <- err
				stop()
			}
		}()
	})
	select {
	case cause := <-failed:
		return errors.Join(cause, err)
	default:
		return err
	}
}

func (d *demo) setUp(ctx context.Context, c daemon.Config, data store) error {
	for _, p := range data.People {
		d.People = append(d.People, Person{Name: p.Name, Login: p.Login, Password: newPassword()})
	}
	owner := d.People[0]
	return daemon.SetUp(ctx, c, data.Organization, service.Owner{Login: owner.Login, Name: owner.Name, Password: secret.FromString(owner.Password)}, d.options.Log)
}

// prepare fills a fresh installation, and in any case brings what depends on
// this run up to date: the database's port.
func (d *demo) prepare(ctx context.Context, fresh bool, data store) error {
	if !fresh {
		return d.movePort(ctx)
	}
	d.values = data.fill()
	d.values["DB_PORT"] = fmt.Sprint(d.cluster.Port())
	if err := d.loansDatabase(ctx); err != nil {
		return fmt.Errorf("make the demo's own database: %w", err)
	}
	if err := d.fillStore(ctx, data); err != nil {
		return fmt.Errorf("fill the demo's store: %w", err)
	}
	if err := d.makeRepositories(ctx); err != nil {
		return fmt.Errorf("make the demo's repositories: %w", err)
	}
	notes := d.Demo
	notes.URL, notes.Database = "", ""
	content, err := json.MarshalIndent(notes, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(d.notes(), append(content, '\n'), 0o600)
}

// newPassword is random and can be typed.
func newPassword() string {
	text := strings.ToLower(rand.Text())
	return text[:5] + "-" + text[5:10] + "-" + text[10:15] + "-" + text[15:20]
}
