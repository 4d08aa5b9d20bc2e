package testkit

import (
	"os"
	"os/exec"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// Running is a program that goes on.
type Running struct {
	cmd    *exec.Cmd
	output *Log
	ended  chan error
}

// Start starts the client program and does not wait for it. It is killed at the
// end of the test.
func (s *Shell) Start(t testing.TB, args ...string) *Running {
	t.Helper()
	cmd := exec.Command(Program(t, "adytum"), args...)
	cmd.Dir = s.Folder
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + s.home, "LANG=C.UTF-8", "TZ=UTC"}, s.Env...)
	r := &Running{cmd: cmd, output: &Log{}, ended: make(chan error, 1)}
	cmd.Stdout, cmd.Stderr = r.output, r.output
	require.NoError(t, cmd.Start())
	go func() { r.ended <- cmd.Wait() }()
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	return r
}

// Output is what it has written so far.
func (r *Running) Output() string { return r.output.String() }

// Interrupt ends it as Ctrl-C would, which it must take for its end.
func (r *Running) Interrupt(t testing.TB) {
	t.Helper()
	require.NoError(t, r.cmd.Process.Signal(syscall.SIGINT))
	require.NoError(t, <-r.ended, "%s", r.Output())
}

// Ended tells whether it has ended.
func (r *Running) Ended() bool {
	select {
	case err := <-r.ended:
		r.ended <- err
		return true
	default:
		return false
	}
}
