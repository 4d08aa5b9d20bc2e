// Package command is the client's commands: arguments in, calls, tables out.
// What is said to the person goes to standard error, data to standard output.
package command

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
)

// Exit codes.
const (
	exitFailed      = 1
	exitUsage       = 2
	exitNo          = 3
	exitNotAllowed  = 4
	exitUnreachable = 5
	exitPartial     = 6
)

// exitError ends the program with a code. Its text may be empty where all has
// been said already.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

func usage(format string, args ...any) error {
	return &exitError{exitUsage, fmt.Errorf(format, args...)}
}

// app is one run of the client.
type app struct {
	in          io.Reader
	out, err    io.Writer
	environment func(string) (string, bool)
}

// Run runs the client with a command line and returns its exit code.
func Run(ctx context.Context, args []string) int {
	a := &app{in: os.Stdin, out: os.Stdout, err: os.Stderr, environment: os.LookupEnv}
	return a.report(a.root().Run(ctx, args))
}

func (a *app) root() *cli.Command {
	return &cli.Command{
		Name:                  "adytum",
		Usage:                 "keep values in a shared store, refer to them, and sweep for those that escaped",
		UsageText:             "adytum COMMAND [OPTIONS] [ARGUMENTS]",
		EnableShellCompletion: true,
		Suggest:               true,
		Commands: []*cli.Command{
			a.login(), a.logout(), a.whoami(), a.link(),
			a.keep(), a.describe(), a.list(), a.show(), a.value(), a.history(), a.changes(), a.revert(),
			a.remove(), a.restore(), a.destroy(), a.rename(), a.compare(), a.copy(), a.private(), a.importFile(), a.export(),
			a.needs(), a.check(), a.supply(), a.adopt(),
			a.sweep(), a.rules(),
			a.organization(), a.project(), a.environmentCommand(), a.person(), a.welcome(), a.password(), a.code(), a.session(), a.team(), a.workload(), a.issuer(), a.provider(), a.role(), a.grant(), a.request(), a.proposal(), a.explain(), a.freeze(), a.thaw(), a.trail(), a.alert(), a.channel(), a.decoy(),
		},
		OnUsageError:   func(_ context.Context, cmd *cli.Command, err error, _ bool) error { return wrongUsage(cmd, err) },
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		CommandNotFound: func(_ context.Context, _ *cli.Command, name string) {
			fmt.Fprintf(a.err, "adytum: there is no command %q; \"adytum --help\" lists them\n", printable(name))
		},
		Action: func(_ context.Context, cmd *cli.Command) error {
			if cmd.Args().Present() {
				return usage("there is no command %q; \"adytum --help\" lists them", printable(cmd.Args().First()))
			}
			return cli.ShowRootCommandHelp(cmd)
		},
		Writer: a.out, ErrWriter: a.err,
	}
}

func wrongUsage(cmd *cli.Command, err error) error {
	return usage("%s; \"adytum %s--help\" says what there is", err, strings.TrimPrefix(cmd.FullName()+" ", "adytum "))
}

// command fills in what every command has.
func (a *app) command(c *cli.Command) *cli.Command {
	c.OnUsageError = func(_ context.Context, cmd *cli.Command, err error, _ bool) error { return wrongUsage(cmd, err) }
	c.HideHelpCommand = true
	return c
}

// report says what went wrong, once and in one place, and chooses the code.
func (a *app) report(err error) int {
	if err == nil {
		return 0
	}
	var (
		exit    *exitError
		problem *client.Error
	)
	code := exitFailed
	switch {
	case errors.As(err, &exit):
		code = exit.code
		if exit.err == nil {
			return code
		}
	case errors.Is(err, client.ErrNotSignedIn):
		code = exitNotAllowed
	case errors.Is(err, client.ErrUnreachable):
		code = exitUnreachable
	}
	if errors.As(err, &problem) {
		if exit == nil && problem.Status == 403 {
			code = exitNotAllowed
		}
		if len(problem.Details) > 1 {
			fmt.Fprintf(a.err, "adytum: %s:\n", printable(err.Error()))
			for _, d := range problem.Details {
				fmt.Fprintf(a.err, "  %s\n", printable(d))
			}
			return code
		}
		if len(problem.Details) == 1 && !strings.Contains(err.Error(), problem.Details[0]) {
			err = fmt.Errorf("%w: %s", err, problem.Details[0])
		}
	}
	lines := strings.Split(err.Error(), "\n")
	for i, line := range lines {
		prefix := "adytum: "
		if i > 0 {
			prefix = "        "
		}
		fmt.Fprintf(a.err, "%s%s\n", prefix, printable(line))
	}
	return code
}

// arguments checks how many arguments there are.
func arguments(cmd *cli.Command, least, most int, form string) error {
	if n := cmd.Args().Len(); n < least || most >= 0 && n > most {
		return usage("the command is: adytum %s %s", strings.TrimPrefix(cmd.FullName(), "adytum "), form)
	}
	return nil
}
