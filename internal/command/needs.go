package command

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/formats"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/needs"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/sweep"
)

func (a *app) link() *cli.Command {
	return a.command(&cli.Command{
		Name: "link", Usage: "bind this folder to a project: writes " + needs.FileName, ArgsUsage: "PROJECT",
		Action: a.signedIn(1, 1, "PROJECT", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			if _, err := os.Lstat(needs.FileName); err == nil {
				return fmt.Errorf("%s is here already; edit it, or remove it first", needs.FileName)
			}
			p, err := c.Project(ctx, cmd.Args().First())
			if err != nil {
				return err
			}
			text, n := proposedNeeds(p.Name)
			if err := writeFile(needs.FileName, 0o644, []byte(text)); err != nil {
				return fmt.Errorf("write %s: %w", needs.FileName, err)
			}
			a.say("%s says that this is %s, with %s from %s. Commit it; it holds no value of a secret.", needs.FileName, p.Name, countOf(n, "need", "needs"), dotenvName)
			return nil
		}),
	})
}

// proposedNeeds is a needs file for a project with the names that a dotenv file
// here has. No value goes into it.
func proposedNeeds(project string) (text string, n int) {
	var b strings.Builder
	fmt.Fprintf(&b, "# What the program needs. Values are kept in Adytum, never here.\nproject: %s\nneeds:", project)
	content, err := os.ReadFile(dotenvName)
	d, problems := formats.ReadDotenv(dotenvName, content)
	if err != nil || len(problems) > 0 || len(d.Variables) == 0 {
		b.WriteString(" {}\n")
		return b.String(), 0
	}
	b.WriteString("\n")
	engine := sweep.NewEngine(sweep.Catalogue())
	for _, v := range d.Variables {
		if layers.CheckName(v.Name) != nil || needs.Steers(v.Name) {
			continue
		}
		n++
		if reference.Starts(v.Value) || engine.IsSecret(v.Name, v.Value) {
			fmt.Fprintf(&b, "  %s:\n    secret: true\n", v.Name)
		} else {
			fmt.Fprintf(&b, "  %s: {}\n", v.Name)
		}
	}
	return b.String(), n
}

// needState is one need and how it stands in an environment.
type needState struct {
	Name     string `json:"name"`
	State    string `json:"state"` // ready, default, left out, missing, wrong, not allowed
	Type     string `json:"type"`
	Secret   bool   `json:"secret"`
	Required bool   `json:"required"`
	From     string `json:"from,omitempty"`    // the layer that answers
	Problem  string `json:"problem,omitempty"` // what is wrong, without the value
	About    string `json:"about,omitempty"`
	Line     int    `json:"line"`
}

func (s needState) bad() bool {
	return s.State == "missing" || s.State == "wrong" || s.State == "not allowed"
}

func (a *app) needs() *cli.Command {
	return a.command(&cli.Command{
		Name: "needs", Usage: "show what this repository needs and how it stands",
		Flags: append(placeFlags(), listFlag()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			states, _, err := a.states(ctx, cmd)
			if err != nil {
				return err
			}
			return a.listNeeds(cmd, states)
		},
	})
}

func (a *app) listNeeds(cmd *cli.Command, states []needState) error {
	return list(a, cmd, states, []string{"NAME", "STATE", "TYPE", "FROM", "ABOUT"}, func(s needState) []string {
		kind := s.Type
		if s.Secret {
			kind += ", secret"
		}
		return []string{s.Name, s.State, kind, s.From, s.About}
	})
}

func (a *app) check() *cli.Command {
	return a.command(&cli.Command{
		Name: "check", Usage: "fail with every problem at once before a program starts; exits 3 where there is one",
		Flags: append(placeFlags(), listFlag()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			states, place, err := a.states(ctx, cmd)
			if err != nil {
				return err
			}
			if cmd.String("output") != "table" {
				if err := a.listNeeds(cmd, states); err != nil {
					return err
				}
			}
			bad := 0
			for _, s := range states {
				if s.bad() {
					bad++
					if cmd.String("output") == "table" {
						fmt.Fprintf(a.out, "%s:%d: %s\n", needs.FileName, s.Line, printable(s.Problem))
					}
				}
			}
			if bad > 0 {
				return &exitError{exitNo, fmt.Errorf("%d of %s not ready in %s", bad, countOf(len(states), "need is", "needs are"), placeName(place))}
			}
			a.say("All %s ready in %s.", countOf(len(states), "need is", "needs are"), placeName(place))
			return nil
		},
	})
}

// states tells how every need stands in the environment.
func (a *app) states(ctx context.Context, cmd *cli.Command) ([]needState, client.Place, error) {
	file, err := findNeeds()
	if err != nil {
		return nil, client.Place{}, err
	}
	if file == nil {
		return nil, client.Place{}, fmt.Errorf("there is no %s here or above, up to the repository; \"adytum link PROJECT\" writes one", needs.FileName)
	}
	place, err := a.place(cmd)
	if err != nil {
		return nil, place, err
	}
	c, err := a.client(ctx)
	if err != nil {
		return nil, place, err
	}
	entries, err := c.Entries(ctx, place)
	if err != nil {
		return nil, place, err
	}
	known := map[string]wire.Entry{}
	for _, e := range entries.Entries {
		known[e.Name] = e
	}
	wishes, err := a.wishes(file, nil)
	if err != nil {
		return nil, place, err
	}
	// One request for all that is set; what it does not answer is asked for on its
	// own, so that each gets its own reason.
	together, err := resolve(ctx, c, place, optional(wishes))
	if errors.Is(err, client.ErrUnreachable) || errors.Is(err, client.ErrNotSignedIn) {
		return nil, place, err
	}
	var states []needState
	for _, w := range wishes {
		if w.need == nil {
			continue
		}
		state, err := needStateOf(ctx, c, place, w, known, together)
		if err != nil {
			return nil, place, err
		}
		states = append(states, state)
	}
	return states, place, nil
}

// optional are the same wishes with nothing that must be set.
func optional(wishes []wish) []wish {
	out := make([]wish, len(wishes))
	nothing, _ := reference.ParseText("")
	for i, w := range wishes {
		if w.fallback == nil {
			w.fallback = &nothing
		}
		out[i] = w
	}
	return out
}

// needStateOf tells how one need stands. An error is one of asking; what is
// wrong with the need is part of its state.
func needStateOf(ctx context.Context, c *client.Client, place client.Place, w wish, known map[string]wire.Entry, together resolved) (needState, error) {
	n := w.need
	s := needState{Name: n.Name, Type: string(n.Rules.Type), Secret: n.Secret, Required: n.Required, About: n.About, Line: n.Line, State: "ready"}
	for _, r := range w.text.References() {
		if e, set := known[r.Name]; set && r.Scope == reference.Relative {
			s.From = e.Layer
			if n.Secret && e.Kind == "setting" {
				s.State, s.Problem = "wrong", n.Name+" is a secret by the needs file, and "+e.Layer+" keeps it as a plain setting; keep it as a secret"
				return s, nil
			}
		}
	}
	values, err := together, error(nil)
	for _, r := range w.text.References() {
		if _, answered := together[r.String()]; !answered && (w.required() || together == nil) {
			values, err = resolve(ctx, c, place, []wish{w})
			break
		}
	}
	var p *client.Error
	switch {
	case errors.As(err, &p) && p.Status == http.StatusForbidden:
		s.State, s.Problem = "not allowed", n.Name+" cannot be read: "+p.Message
		return s, nil
	case errors.As(err, &p) && p.Status == http.StatusNotFound:
		s.State, s.Problem = "missing", p.Message
		return s, nil
	case err != nil:
		return s, err
	}
	value, came, err := w.fill(values, place.Environment)
	clear(value)
	switch {
	case err != nil:
		s.State, s.Problem = "wrong", err.Error()
	case came == leftOut:
		s.State = "left out"
	case came == fromFile:
		s.From = dotenvName
	case came == fromDefault:
		s.State, s.From = "default", needs.FileName
	}
	return s, nil
}

// readDotenv reads a dotenv file whole, or says everything that is wrong with it.
func readDotenv(path string) (*formats.Dotenv, fs.FileMode, error) {
	info, err := os.Lstat(path)
	if err != nil {
		return nil, 0, fmt.Errorf("there is no file %s", path)
	}
	if !info.Mode().IsRegular() {
		return nil, 0, fmt.Errorf("%s is not a regular file", path)
	}
	content, err := os.ReadFile(path)
	if err != nil {
		return nil, 0, fmt.Errorf("read %s: %w", path, err)
	}
	d, problems := formats.ReadDotenv(filepath.ToSlash(path), content)
	if len(problems) > 0 {
		all := make([]string, len(problems))
		for i, p := range problems {
			all[i] = p.Error()
		}
		return nil, 0, errors.New(strings.Join(all, "\n"))
	}
	return d, info.Mode().Perm(), nil
}
