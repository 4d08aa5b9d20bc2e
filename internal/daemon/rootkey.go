package daemon

import (
	"errors"
	"io/fs"
	"os"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/service"
)

// NextRootKey is where the root key lies that the one at path is being renewed
// to: beside it.
func NextRootKey(path string) string { return path + ".next" }

// rootKeys returns what reads the root key, and the next one where there is one.
func rootKeys(path string) func() ([]*secret.Key, error) {
	return func() ([]*secret.Key, error) {
		next := NextRootKey(path)
		_, err := os.Stat(next)
		renewing := err == nil
		var all []*secret.Key
		present, err := service.ReadRootKey(path)
		if err == nil {
			all = append(all, present)
		} else if _, statErr := os.Stat(path); !renewing || !errors.Is(statErr, fs.ErrNotExist) {
			return nil, err
		}
		if renewing {
			key, err := service.ReadRootKey(next)
			if err != nil {
				for _, k := range all {
					k.Destroy()
				}
				return nil, err
			}
			all = append(all, key)
		}
		return all, nil
	}
}
