package daemon

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"time"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/jobs"
	"adytum.example/internal/service"
	"adytum.example/internal/storage"
)

// SetUp makes an installation: migrations, the root key, the first owner. An
// existing root key is used where the database is empty; nothing is changed
// where the database is set up already.
func SetUp(ctx context.Context, c Config, organization string, owner service.Owner, log *slog.Logger) error {
	if err := Migrate(ctx, c.Migrate); err != nil {
		return err
	}
	store, err := storage.Open(c.Database, log)
	if err != nil {
		return err
	}
	defer store.Close()
	if done, err := service.IsSetUp(ctx, store); err != nil {
		return err
	} else if done {
		return service.ErrSetUp
	}
	root, created, err := rootKey(c.RootKeyFile)
	if err != nil {
		return err
	}
	defer root.Destroy()
	if err := service.SetUp(ctx, store, root, organization, owner, time.Now()); err != nil {
		if created {
			_ = os.Remove(c.RootKeyFile)
		}
		return fmt.Errorf("set up: %w", err)
	}
	return nil
}

// Migrate brings the tables of the store and of background work to this
// program's version.
func Migrate(ctx context.Context, migrateURL string) error {
	if err := storage.Migrate(ctx, migrateURL); err != nil {
		return err
	}
	return jobs.Migrate(ctx, migrateURL)
}

func rootKey(path string) (key *secret.Key, created bool, err error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		key, err := service.CreateRootKey(path)
		return key, true, err
	}
	key, err = service.ReadRootKey(path)
	return key, false, err
}
