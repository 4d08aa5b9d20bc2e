package demo

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	_ "embed"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"
)

//go:embed repositories.yaml
var repositoriesFile []byte

// repository is one of repositories.yaml.
type repository struct {
	Name    string
	Commits []struct {
		Author, Date, Message string
		Write                 map[string]string
		Remove                []string
	}
}

func repositories() []repository {
	var all []repository
	if err := yaml.UnmarshalWithOptions(repositoriesFile, &all, yaml.Strict()); err != nil {
		panic("the demo's repositories are part of the program: " + err.Error())
	}
	return all
}

// makeRepositories makes the git repositories with this installation's values.
func (d *demo) makeRepositories(ctx context.Context) error {
	key, err := privateKey()
	if err != nil {
		return err
	}
	d.values["TLS_KEY"] = key
	for _, r := range repositories() {
		folder := filepath.Join(d.Home, "repositories", r.Name)
		if err := r.make(ctx, folder, d.values); err != nil {
			return fmt.Errorf("%s: %w", r.Name, err)
		}
		d.Repositories = append(d.Repositories, folder)
	}
	return nil
}

func (r repository) make(ctx context.Context, folder string, values map[string]string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if err := git(ctx, folder, nil, "init", "--quiet", "--initial-branch=main"); err != nil {
		return err
	}
	for _, c := range r.Commits {
		for path, content := range c.Write {
			path = filepath.Join(folder, path)
			mode := os.FileMode(0o644)
			if strings.HasPrefix(content, "#!") {
				mode = 0o755
			}
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(path, []byte(expand(content, values)), mode); err != nil {
				return err
			}
		}
		for _, path := range c.Remove {
			if err := os.Remove(filepath.Join(folder, path)); err != nil {
				return err
			}
		}
		name, mail, _ := strings.Cut(strings.TrimSuffix(c.Author, ">"), " <")
		who := []string{"GIT_AUTHOR_NAME=" + name, "GIT_AUTHOR_EMAIL=" + mail, "GIT_AUTHOR_DATE=" + c.Date,
			"GIT_COMMITTER_NAME=" + name, "GIT_COMMITTER_EMAIL=" + mail, "GIT_COMMITTER_DATE=" + c.Date}
		if err := git(ctx, folder, nil, "add", "--all"); err != nil {
			return err
		}
		if err := git(ctx, folder, who, "commit", "--quiet", "--message", c.Message); err != nil {
			return err
		}
	}
	return nil
}

func git(ctx context.Context, folder string, environment []string, args ...string) error {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = folder
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + folder, "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null"}, environment...)
	if output, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(string(output)))
	}
	return nil
}

// privateKey makes a new key that nothing uses.
func privateKey() (string, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return "", err
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})), nil
}
