package testkit

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Terminal runs the client program on a terminal of its own, on which the given
// lines are typed, and returns what the terminal showed and the exit code.
func (s *Shell) Terminal(t testing.TB, typed string, args ...string) (shown string, code int) {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	require.NoError(t, err)
	defer master.Close()
	require.NoError(t, unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0))
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	require.NoError(t, err)
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, Program(t, "adytum"), args...)
	cmd.Dir = s.Folder
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + s.home, "LANG=C.UTF-8", "TZ=UTC", "TERM=dumb"}, s.Env...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	require.NoError(t, cmd.Start())
	require.NoError(t, slave.Close())
	_, err = io.WriteString(master, typed)
	require.NoError(t, err)
	var out strings.Builder
	_, _ = io.Copy(&out, master) // ends with an error when the program lets go of the terminal
	_ = cmd.Wait()
	require.NoError(t, ctx.Err(), "%v took too long", args)
	return strings.ReplaceAll(out.String(), "\r\n", "\n"), cmd.ProcessState.ExitCode()
}
