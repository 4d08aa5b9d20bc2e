package daemon

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"time"

	"adytum.example/internal/service"
	"adytum.example/internal/storage"
)

// rekeyWait is how long instances have to learn of a new root key.
const rekeyWait = 30 * time.Second

// Rekey renews the root key while any number of instances serve: it makes the
// next one beside the present one where there is none yet, waits until every
// instance holds it, brings it into use, and puts its file in the place of the
// old one, which it keeps under another name. Whenever it is interrupted it can
// be run again. At is for tests.
func Rekey(ctx context.Context, c Config, log *slog.Logger, at func(string) error) (kept string, err error) {
	next := NextRootKey(c.RootKeyFile)
	if _, err := os.Stat(next); errors.Is(err, fs.ErrNotExist) {
		key, err := service.CreateRootKey(next)
		if err != nil {
			return "", err
		}
		key.Destroy()
	}
	err = rekeying(ctx, c, log, at, func(r *service.Rekeyer) error {
		key, err := service.ReadRootKey(next)
		if err != nil {
			return err
		}
		defer key.Destroy()
		return r.Root(key)
	})
	if err != nil {
		return "", err
	}
	kept = c.RootKeyFile + ".retired-" + time.Now().UTC().Format("20060102T150405Z")
	if err := os.Rename(c.RootKeyFile, kept); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("put the old root key aside: %w", err)
	}
	if at != nil {
		if err := at("root-key.files"); err != nil {
			return "", err
		}
	}
	if err := os.Rename(next, c.RootKeyFile); err != nil {
		return "", fmt.Errorf("put the new root key in its place: %w", err)
	}
	return kept, nil
}

// RekeyProjects renews the keys of a project, or of all where the name is empty.
func RekeyProjects(ctx context.Context, c Config, project string, log *slog.Logger, at func(string) error) error {
	return rekeying(ctx, c, log, at, func(r *service.Rekeyer) error { return r.Projects(project) })
}

func rekeying(ctx context.Context, c Config, log *slog.Logger, at func(string) error, f func(*service.Rekeyer) error) error {
	roots, err := rootKeys(c.RootKeyFile)()
	if err != nil {
		return err
	}
	defer func() {
		for _, k := range roots {
			k.Destroy()
		}
	}()
	store, err := storage.Open(c.Database, log)
	if err != nil {
		return err
	}
	defer store.Close()
	r, err := service.NewRekeyer(ctx, store, roots, rekeyWait, log, at)
	if err != nil {
		return err
	}
	defer r.Close()
	return f(r)
}
