package command

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"adytum.example/internal/core/sweep"
)

// printable makes text from outside safe for a terminal.
func printable(s string) string { return sweep.Printable(s) }

func outputFlag(forms ...string) cli.Flag {
	return &cli.StringFlag{Name: "output", Aliases: []string{"o"}, Value: forms[0], Usage: "how it is written: " + strings.Join(forms, ", "),
		Validator: oneOf("output", forms...)}
}

// oneOf checks that a flag is one of some words.
func oneOf(what string, words ...string) func(string) error {
	return func(given string) error {
		if slices.Contains(words, given) {
			return nil
		}
		return fmt.Errorf("there is no %s %q; there are %s", what, given, strings.Join(words, ", "))
	}
}

// between checks that a number of days is one that can be asked for.
func between(least, most int) func(int) error {
	return func(n int) error {
		if n < least || n > most {
			return fmt.Errorf("%d days cannot be asked for; from %d to %d can", n, least, most)
		}
		return nil
	}
}

func listFlag() cli.Flag { return outputFlag("table", "json", "jsonl") }

// list writes items in the form that was asked for.
func list[T any](a *app, cmd *cli.Command, items []T, header []string, row func(T) []string) error {
	switch cmd.String("output") {
	case "json":
		return a.json(items)
	case "jsonl":
		for _, item := range items {
			if err := json.NewEncoder(a.out).Encode(item); err != nil {
				return err
			}
		}
		return nil
	}
	rows := make([][]string, len(items))
	for i, item := range items {
		rows[i] = row(item)
	}
	return a.table(header, rows)
}

func (a *app) json(v any) error {
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// table writes rows in columns. A column that is empty in all rows is left out.
func (a *app) table(header []string, rows [][]string) error {
	var columns []int
	for i := range header {
		if len(rows) == 0 || slices.ContainsFunc(rows, func(row []string) bool { return row[i] != "" }) {
			columns = append(columns, i)
		}
	}
	var text bytes.Buffer
	w := tabwriter.NewWriter(&text, 0, 0, 2, ' ', 0)
	for _, row := range append([][]string{header}, rows...) {
		cells := make([]string, len(columns))
		for i, column := range columns {
			cells[i] = printable(row[column])
		}
		fmt.Fprintln(w, strings.Join(cells, "\t"))
	}
	if err := w.Flush(); err != nil {
		return err
	}
	for line := range strings.Lines(text.String()) {
		if _, err := fmt.Fprintln(a.out, strings.TrimRight(line, " \n")); err != nil {
			return err
		}
	}
	return nil
}

// say tells the person something that is no data.
func (a *app) say(format string, args ...any) { fmt.Fprintf(a.err, format+"\n", args...) }

// age is how long ago something was, in one unit.
func age(at time.Time) string {
	d := time.Since(at)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d d", int(d.Hours()/24))
}

// terminal tells whether a stream is one.
func terminal(stream any) bool {
	f, isFile := stream.(*os.File)
	return isFile && term.IsTerminal(int(f.Fd()))
}

// colours tells whether to colour what goes to a stream.
func (a *app) colours(stream any) bool {
	_, off := a.environment("NO_COLOR")
	return !off && terminal(stream)
}

// writeFile writes a file whole or not at all, by rename.
func writeFile(path string, mode os.FileMode, content []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".adytum-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := f.Chmod(mode); err != nil {
		return err
	}
	if _, err := f.Write(content); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
