// Package deliver gives a program what it needs at its start, and stays with it
// until it ends.
package deliver

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// Exit codes of a program that did not start, as POSIX shells have them.
const (
	NotExecutable = 126
	NotFound      = 127
)

// StartError says that the program did not start.
type StartError struct {
	Code int
	err  error
}

func (e *StartError) Error() string { return e.err.Error() }

// Run starts a program with an environment, hands signals on to it, and returns
// its exit code: 128 and the number where a signal ended it. Standard input,
// output and error are the caller's own.
//
// The calling process makes itself unreadable first, so that the program, which
// runs as the same user, does not find Adytum's own credentials in it. Both stay
// in one process group: what the terminal sends (interrupt, quit, stop) reaches
// the program by itself, and stops and continues both.
func Run(args, environment []string) (int, error) {
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return 0, fmt.Errorf("make this process unreadable to the program: %w", err)
	}
	path, err := look(args[0], environment)
	if err != nil {
		return 0, err
	}
	cmd := &exec.Cmd{Path: path, Args: args, Env: environment, Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr}
	signals := make(chan os.Signal, 16)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGQUIT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGUSR1, syscall.SIGUSR2)
	defer signal.Stop(signals)
	if err := cmd.Start(); err != nil {
		return 0, startError(args[0], err)
	}
	onTerminal := term.IsTerminal(int(os.Stdin.Fd()))
	ended := make(chan struct{})
	go func() {
		for {
			select {
			case s := <-signals:
				// The terminal has sent these to the program as well.
				if onTerminal && (s == syscall.SIGINT || s == syscall.SIGQUIT) {
					continue
				}
				_ = cmd.Process.Signal(s)
			case <-ended:
				return
			}
		}
	}()
	err = cmd.Wait()
	close(ended)
	return exitCode(cmd.ProcessState), ignoreExit(err)
}

// look finds a program in the PATH that it will be given.
func look(name string, environment []string) (string, error) {
	if strings.Contains(name, "/") {
		return name, nil
	}
	var path string
	for _, v := range environment {
		if rest, found := strings.CutPrefix(v, "PATH="); found {
			path = rest
		}
	}
	denied := false
	for folder := range strings.SplitSeq(path, ":") {
		if folder == "" {
			continue // the present folder is no place to find programs in
		}
		candidate := folder + "/" + name
		info, err := os.Stat(candidate)
		if err != nil || info.IsDir() {
			continue
		}
		if unix.Access(candidate, unix.X_OK) == nil {
			return candidate, nil
		}
		denied = true
	}
	if denied {
		return "", &StartError{NotExecutable, fmt.Errorf("%s is not executable", name)}
	}
	return "", &StartError{NotFound, fmt.Errorf("there is no program %s in PATH", name)}
}

func startError(name string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return &StartError{NotFound, fmt.Errorf("there is no program %s", name)}
	}
	var e syscall.Errno
	if errors.As(err, &e) && e == syscall.E2BIG {
		return &StartError{NotExecutable, fmt.Errorf("%s cannot be started: its environment is too large; the system allows 128 KiB for one variable", name)}
	}
	return &StartError{NotExecutable, fmt.Errorf("%s cannot be executed: %w", name, errors.Unwrap(err))}
}

func exitCode(state *os.ProcessState) int {
	if status, ok := state.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		return 128 + int(status.Signal())
	}
	return state.ExitCode()
}

func ignoreExit(err error) error {
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return nil
	}
	return err
}

// Environment is the present environment without Adytum's own settings, with
// the supplied variables in place of those of the same names.
func Environment(present []string, supplied map[string]string) []string {
	out := make([]string, 0, len(present)+len(supplied))
	for _, v := range present {
		name, _, _ := strings.Cut(v, "=")
		if _, replaced := supplied[name]; !replaced && !strings.HasPrefix(name, "ADYTUM_") {
			out = append(out, v)
		}
	}
	for name, value := range supplied {
		out = append(out, name+"="+value)
	}
	return out
}
