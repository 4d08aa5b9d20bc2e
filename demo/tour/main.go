// Command tour walks through the whole job once, with the real programs and
// without asking anything: it shows each command and what came back, checks
// every result, and ends with a line that counts the steps.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"adytum.example/demo"
)

func main() {
	bin := flag.String("bin", "bin", "folder of the programs adytumd and adytum")
	flag.Parse()
	if err := run(os.Stdout, *bin); err != nil {
		fmt.Fprintln(os.Stderr, "tour:", err)
		os.Exit(1)
	}
}

// tour is one walk.
type tour struct {
	out   io.Writer
	bin   string
	home  string
	demo  demo.Demo
	who   string   // whose sign-in the client uses
	env   []string // more of the client's environment
	dir   string   // where commands run
	steps int
}

// result is how a command ended.
type result struct {
	code           int
	stdout, stderr string
}

func run(out io.Writer, bin string) error {
	bin, err := filepath.Abs(bin)
	if err != nil {
		return err
	}
	home, err := os.MkdirTemp("", "adytum-tour-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(home)
	if err := os.Chmod(home, 0o711); err != nil {
		return err
	}
	t := &tour{out: out, bin: bin, home: home, dir: home}
	start := time.Now()
	stop, err := t.start()
	if err != nil {
		return err
	}
	err = t.walk()
	if stopErr := stop(); err == nil {
		err = stopErr
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "\nThe tour is over: %d steps, every result as it should be, in %.0f s.\n", t.steps, time.Since(start).Seconds())
	return nil
}

// start starts the demo and waits until it is ready.
func (t *tour) start() (stop func() error, err error) {
	t.heading("The demo of the Fernhollow Libraries starts in a temporary folder")
	cmd := exec.Command(filepath.Join(t.bin, "adytumd"), "demo", "--home", filepath.Join(t.home, "demo"), "--listen", "127.0.0.1:0", "--output", "json")
	cmd.Stderr = os.Stderr
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	line, err := bufio.NewReader(stdout).ReadString('\n')
	if err != nil {
		return nil, errors.Join(errors.New("the demo did not start"), cmd.Wait())
	}
	if err := json.Unmarshal([]byte(line), &t.demo); err != nil {
		return nil, err
	}
	fmt.Fprintf(t.out, "It serves %s.\n", t.demo.URL)
	return func() error {
		if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
			return err
		}
		if err := cmd.Wait(); err != nil {
			return fmt.Errorf("the demo did not end well: %w", err)
		}
		return nil
	}, nil
}

func (t *tour) heading(text string) { fmt.Fprintf(t.out, "\n## %s\n\n", text) }

// run shows a command, runs it, shows what came back, and checks it.
func (t *tour) run(stdin string, check func(result) error, args ...string) (result, error) {
	t.steps++
	shown := make([]string, len(args))
	for i, a := range args {
		shown[i] = a
		if strings.ContainsAny(a, " '\"$;*") {
			shown[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
	}
	fmt.Fprintf(t.out, "$ %s\n", strings.Join(shown, " "))
	program := args[0]
	if program == "adytum" {
		program = filepath.Join(t.bin, "adytum")
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args[1:]...)
	cmd.Dir = t.dir
	cmd.Env = append([]string{"PATH=" + t.bin + ":" + os.Getenv("PATH"), "HOME=" + t.home, "XDG_STATE_HOME=" + filepath.Join(t.home, "state", t.who), "LANG=C.UTF-8"}, t.env...)
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if cmd.ProcessState == nil {
		return result{}, err
	}
	r := result{cmd.ProcessState.ExitCode(), out.String(), errs.String()}
	for _, text := range []string{r.stdout, r.stderr} {
		for line := range strings.Lines(text) {
			fmt.Fprintf(t.out, "  %s\n", strings.TrimRight(line, "\n"))
		}
	}
	if r.code != 0 {
		fmt.Fprintf(t.out, "  [exit code %d]\n", r.code)
	}
	if err := check(r); err != nil {
		return r, fmt.Errorf("step %d, %s: %w", t.steps, strings.Join(shown, " "), err)
	}
	return r, nil
}

// ends asks for an exit code and for texts in what came back.
func ends(code int, contains ...string) func(result) error {
	return func(r result) error {
		if r.code != code {
			return fmt.Errorf("the exit code is %d, and %d was expected: %s", r.code, code, r.stderr)
		}
		for _, text := range contains {
			if !strings.Contains(r.stdout+r.stderr, text) {
				return fmt.Errorf("%q was expected in what came back", text)
			}
		}
		return nil
	}
}

// prints asks for exactly this on standard output.
func prints(text string) func(result) error {
	return func(r result) error {
		if r.code != 0 || strings.TrimSpace(r.stdout) != strings.TrimSpace(text) {
			return fmt.Errorf("%q was expected on standard output, with exit code 0", text)
		}
		return nil
	}
}

// all joins checks.
func all(checks ...func(result) error) func(result) error {
	return func(r result) error {
		for _, check := range checks {
			if err := check(r); err != nil {
				return err
			}
		}
		return nil
	}
}

// without asks that texts do not come back.
func without(texts ...string) func(result) error {
	return func(r result) error {
		for _, text := range texts {
			if text != "" && strings.Contains(r.stdout+r.stderr, text) {
				return errors.New("a value came back that must not")
			}
		}
		return nil
	}
}

// check is a step without a command.
func (t *tour) check(what string, f func() error) error {
	t.steps++
	fmt.Fprintf(t.out, "- %s\n", what)
	if err := f(); err != nil {
		return fmt.Errorf("step %d, %s: %w", t.steps, what, err)
	}
	return nil
}
