// Package source is where swept bytes come from: working trees and git
// histories so far. Nothing of a swept repository is ever executed: the real git
// program is run with everything that a repository's configuration could start
// switched off.
package source

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// ErrNoRepository says that a folder is no git repository.
var ErrNoRepository = errors.New("not a git repository")

// repository is a git repository that is read with the git program.
type repository struct{ folder string }

// harmless switches off what a repository's configuration could start, each for
// its own reason: monitors and hooks are programs, pagers and external diffs
// too; a partial clone would fetch, which runs helpers; another user's folder is
// safe to read exactly because nothing of it is run.
var harmless = []string{
	"-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-c", "core.pager=cat", "-c", "core.attributesFile=/dev/null",
	"-c", "core.alternateRefsCommand=true", "-c", "core.sshCommand=false", "-c", "core.askPass=false", "-c", "credential.helper=",
	"-c", "diff.external=", "-c", "log.showSignature=false", "-c", "gpg.program=false", "-c", "protocol.allow=never", "-c", "safe.directory=*",
	"-c", "core.quotePath=false", "-c", "uploadpack.packObjectsHook=", "-c", "submodule.recurse=false", "-c", "core.commitGraph=true",
	"--no-pager", "--no-optional-locks", "--no-replace-objects",
}

func (r repository) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", append(append([]string{}, harmless...), args...)...)
	cmd.Dir = r.folder
	// Nothing of the caller's environment but where programs are: GIT_DIR and the
	// like would point elsewhere.
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "LC_ALL=C", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null",
		"GIT_TERMINAL_PROMPT=0", "GIT_NO_LAZY_FETCH=1", "GIT_ALLOW_PROTOCOL=none", "GIT_ATTR_NOSYSTEM=1"}
	return cmd
}

// output runs git and returns what it printed; the error has its first complaint.
func (r repository) output(ctx context.Context, args ...string) ([]byte, error) {
	cmd := r.command(ctx, args...)
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	out, err := cmd.Output()
	if err != nil {
		return out, fmt.Errorf("git %s: %s", args[0], complaint(stderr.Bytes(), err))
	}
	return out, nil
}

func complaint(stderr []byte, err error) string {
	line, _, _ := strings.Cut(strings.TrimSpace(string(stderr)), "\n")
	line = strings.TrimPrefix(strings.TrimPrefix(line, "fatal: "), "error: ")
	if line == "" {
		return err.Error()
	}
	return line
}

// open finds the repository that a folder belongs to.
func open(ctx context.Context, folder string) (repository, error) {
	info, err := os.Stat(folder)
	if err != nil {
		return repository{}, fmt.Errorf("there is no folder %s", folder)
	}
	if !info.IsDir() {
		return repository{}, fmt.Errorf("%s is a file; name the repository's folder", folder)
	}
	if _, err := exec.LookPath("git"); err != nil {
		return repository{}, errors.New("the program git is not installed")
	}
	r := repository{folder}
	if _, err := r.output(ctx, "rev-parse", "--git-dir"); err != nil {
		return repository{}, fmt.Errorf("%s is %w; \"sweep tree\" searches folders that are none", folder, ErrNoRepository)
	}
	return r, nil
}

// lines runs git and hands its output on, record by record.
func (r repository) lines(ctx context.Context, separator byte, each func([]byte) error, args ...string) error {
	cmd := r.command(ctx, args...)
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	reader := bufio.NewReaderSize(stdout, 1<<20)
	var eachErr error
	for eachErr == nil {
		record, err := reader.ReadBytes(separator)
		if len(record) > 0 {
			eachErr = each(bytes.TrimSuffix(record, []byte{separator}))
		}
		if err != nil {
			break
		}
	}
	if eachErr != nil {
		_ = cmd.Process.Kill()
	}
	_, _ = io.Copy(io.Discard, stdout)
	if err := cmd.Wait(); err != nil && eachErr == nil {
		return fmt.Errorf("git %s: %s", args[0], complaint(stderr.Bytes(), err))
	}
	return eachErr
}

// slashed is a path relative to a root, with forward slashes.
func slashed(root, path string) string {
	if relative, err := filepath.Rel(root, path); err == nil {
		path = relative
	}
	return filepath.ToSlash(path)
}
