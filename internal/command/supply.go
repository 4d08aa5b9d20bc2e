package command

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/internal/core/formats"
	"adytum.example/internal/core/needs"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/deliver"
)

// notStarted is the exit code where Adytum failed before the program's start.
const notStarted = 125

// dotenvName is the dotenv file that supply looks at.
const dotenvName = ".env"

// wish is one variable that a program is to get.
type wish struct {
	name string
	text reference.Text
	need *needs.Need // nil for a variable of the dotenv file or of --expand
	from string      // where it is asked for, for messages
	// fallback is what the dotenv file has for a need that is no secret and is
	// not set in the store; nil for nothing.
	fallback *reference.Text
}

// required tells whether the wish's own references must be set.
func (w wish) required() bool { return (w.need == nil || w.need.Required) && w.fallback == nil }

// wishes gathers what is asked for here: needs, the dotenv file, and variables
// of the present environment that were named.
func (a *app) wishes(file *needsFile, expand []string) ([]wish, error) {
	var (
		all   []wish
		wrong []string
		named = map[string]int{} // needs, by their place in all
	)
	folder := "."
	if file != nil {
		folder = filepath.Dir(file.path)
		for i := range file.Needs {
			n := &file.Needs[i]
			if n.Into == "file" {
				wrong = append(wrong, fmt.Sprintf("%s:%d: %s wants to be a file; so far programs are supplied through their environment alone", file.path, n.Line, n.Name))
			}
			named[n.Name] = len(all)
			all = append(all, wish{name: n.Name, text: n.Text(), need: n, from: fmt.Sprintf("%s:%d", needs.FileName, n.Line)})
		}
	}
	fromDotenv, problems, err := dotenvWishes(folder)
	if err != nil {
		return nil, err
	}
	wrong = append(wrong, problems...)
	for _, w := range fromDotenv {
		if i, isNeed := named[w.name]; !isNeed {
			all = append(all, w)
		} else if !all[i].need.Secret {
			all[i].fallback = &w.text
		}
	}
	for _, name := range expand {
		value, set := a.environment(name)
		if !set {
			wrong = append(wrong, fmt.Sprintf("--expand names %s, which the present environment does not have", printable(name)))
			continue
		}
		text, err := reference.ParseText(value)
		if err != nil {
			wrong = append(wrong, fmt.Sprintf("%s in the present environment: %s", printable(name), err))
			continue
		}
		all = append(all, wish{name: name, text: text, from: "the environment"})
	}
	if len(wrong) > 0 {
		return nil, errors.New(strings.Join(wrong, "\n"))
	}
	return all, nil
}

// dotenvWishes are the variables of a folder's dotenv file.
func dotenvWishes(folder string) (all []wish, wrong []string, err error) {
	path := filepath.Join(folder, dotenvName)
	content, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil
	} else if err != nil {
		return nil, nil, fmt.Errorf("read the dotenv file: %w", err)
	}
	d, problems := formats.ReadDotenv(path, content)
	for _, p := range problems {
		wrong = append(wrong, p.Error())
	}
	if len(problems) > 0 {
		return nil, wrong, nil
	}
	for _, v := range d.Variables {
		at := fmt.Sprintf("%s:%d", path, v.Line)
		if needs.Steers(v.Name) || strings.HasPrefix(v.Name, "ADYTUM_") {
			wrong = append(wrong, fmt.Sprintf("%s: %s steers how programs are loaded or run, and a dotenv file may not; declare it in %s with \"allow-loader: true\" if that is meant", at, v.Name, needs.FileName))
			continue
		}
		text, err := reference.ParseText(v.Value)
		if err != nil {
			wrong = append(wrong, fmt.Sprintf("%s: %s: %s", at, v.Name, err))
			continue
		}
		all = append(all, wish{name: v.Name, text: text, from: at})
	}
	return all, wrong, nil
}

// resolved are values by the reference that they belong to.
type resolved map[string][]byte

// resolve obtains all references of some wishes in one request. Those of needs
// that are not required may be missing.
func resolve(ctx context.Context, c *client.Client, place client.Place, wishes []wish) (resolved, error) {
	var references, optional []string
	for _, w := range wishes {
		for _, r := range w.text.References() {
			if w.required() {
				references = append(references, r.String())
			} else {
				optional = append(optional, r.String())
			}
		}
		if w.fallback != nil {
			for _, r := range w.fallback.References() {
				optional = append(optional, r.String())
			}
		}
	}
	values := resolved{}
	if len(references)+len(optional) == 0 {
		return values, nil
	}
	out, err := c.Resolve(ctx, place, references, optional)
	if err != nil {
		return nil, err
	}
	for _, v := range out.Values {
		if values[v.Reference], err = decode(v); err != nil {
			return nil, err
		}
	}
	return values, nil
}

var errUnset = errors.New("not set")

// origin says where a wish's value came from.
type origin int

const (
	fromStore origin = iota
	fromFile         // the dotenv file
	fromDefault
	leftOut
)

// fill makes a wish's value of the resolved ones and checks it. A need that is
// not set takes what the dotenv file has, then its default; without either it is
// left out, or missing where it is required.
func (w wish) fill(values resolved, environment string) (value []byte, came origin, err error) {
	lookup := func(r reference.Reference) ([]byte, error) {
		v, found := values[r.String()]
		if !found {
			return nil, errUnset
		}
		return v, nil
	}
	value, err = w.text.Expand(lookup)
	if errors.Is(err, errUnset) && w.fallback != nil {
		came = fromFile
		value, err = w.fallback.Expand(lookup)
	}
	if errors.Is(err, errUnset) {
		switch {
		case w.need != nil && w.need.Default != nil:
			value, came, err = []byte(*w.need.Default), fromDefault, nil
		case w.required() || w.need != nil && w.need.Required:
			return nil, leftOut, fmt.Errorf("%s (%s) is not set", w.name, w.from)
		default:
			return nil, leftOut, nil
		}
	}
	if err != nil {
		return nil, came, fmt.Errorf("%s (%s): %w", w.name, w.from, err)
	}
	if w.need != nil {
		if value, err = w.need.Rules.Check(environment, value); err != nil {
			return nil, came, fmt.Errorf("%s (%s) %w", w.name, w.from, err)
		}
	}
	return value, came, nil
}

// maxVariable is the longest value of one variable that Linux starts a program
// with, its name and the end mark left out (MAX_ARG_STRLEN).
const maxVariable = 128<<10 - 1

func (a *app) supply() *cli.Command {
	return a.command(&cli.Command{
		Name: "supply", Usage: "run a program with what it needs", ArgsUsage: "-- COMMAND [ARGUMENTS]",
		Description: "Every need of the needs file and every variable of the dotenv file is resolved and checked;\nthe program starts only if all is well. Supplied variables replace those of the same name.",
		Flags:       append(placeFlags(), &cli.StringSliceFlag{Name: "expand", Usage: "`NAME` of a variable of the present environment in which references are resolved too; can be repeated"}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if !cmd.Args().Present() {
				return usage("which program? adytum supply -- COMMAND [ARGUMENTS]")
			}
			variables, err := a.supplied(ctx, cmd)
			if err != nil {
				return notStartedError(err)
			}
			code, err := deliver.Run(cmd.Args().Slice(), deliver.Environment(os.Environ(), variables))
			var start *deliver.StartError
			if errors.As(err, &start) {
				return &exitError{start.Code, err}
			} else if err != nil {
				return &exitError{notStarted, err}
			}
			if code != 0 {
				return &exitError{code, nil}
			}
			return nil
		},
	})
}

// notStartedError says that the program was not started, and why. Where the
// service could not be reached, that stays to be told apart.
func notStartedError(err error) error {
	var exit *exitError
	if errors.As(err, &exit) && exit.code == exitUsage {
		return err
	}
	code := notStarted
	if errors.Is(err, client.ErrUnreachable) {
		code = exitUnreachable
	}
	return &exitError{code, fmt.Errorf("the program was not started: %w", err)}
}

// supplied are the variables that the program gets.
func (a *app) supplied(ctx context.Context, cmd *cli.Command) (map[string]string, error) {
	file, err := findNeeds()
	if err != nil {
		return nil, err
	}
	wishes, err := a.wishes(file, cmd.StringSlice("expand"))
	if err != nil {
		return nil, err
	}
	if file == nil && len(wishes) == 0 {
		return nil, usage("nothing says what the program needs: there is no %s and no %s here; \"adytum link PROJECT\" writes the first", needs.FileName, dotenvName)
	}
	place, err := a.place(cmd)
	if err != nil {
		return nil, err
	}
	c, err := a.client(ctx)
	if err != nil {
		return nil, err
	}
	values, err := resolve(ctx, c, place, wishes)
	if err != nil {
		return nil, err
	}
	variables, wrong := map[string]string{}, []string{}
	for _, w := range wishes {
		value, came, err := w.fill(values, place.Environment)
		switch {
		case err != nil:
			wrong = append(wrong, err.Error())
		case came == leftOut:
		case strings.ContainsRune(string(value), 0):
			wrong = append(wrong, fmt.Sprintf("%s (%s) holds a NUL, which no variable can", w.name, w.from))
		case len(w.name)+1+len(value) > maxVariable:
			wrong = append(wrong, fmt.Sprintf("%s (%s) has %d bytes, and the system starts no program with a variable of more than 128 KiB", w.name, w.from, len(value)))
		default:
			variables[w.name] = string(value)
		}
	}
	if len(wrong) > 0 {
		sort.Strings(wrong)
		return nil, fmt.Errorf("%s not what was asked for:\n%s", countOf(len(wrong), "value is", "values are"), strings.Join(wrong, "\n"))
	}
	return variables, nil
}

func countOf(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}
