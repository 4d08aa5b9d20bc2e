package command

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/sweep"
	"adytum.example/internal/source"
)

func sweepFlags() []cli.Flag {
	return []cli.Flag{outputFlag("text", "json", "sarif"), &cli.StringFlag{Name: "to", Usage: "write the report to `FILE`, by rename"}}
}

func (a *app) sweep() *cli.Command {
	tree := &cli.Command{Name: "tree", Usage: "search a working tree: what git tracks and what it does not ignore", ArgsUsage: "[DIR]",
		Flags: append(sweepFlags(), &cli.BoolFlag{Name: "everything", Usage: "search all files, ignored ones too"}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return a.runSweep(cmd, func(engine *sweep.Engine, folder string) (*sweep.Report, error) {
				return source.Tree(ctx, engine, folder, source.TreeOptions{Everything: cmd.Bool("everything")})
			})
		}}
	history := &cli.Command{Name: "history", Usage: "search every object that any reference of a git repository reaches", ArgsUsage: "[REPOSITORY]", Flags: sweepFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return a.runSweep(cmd, func(engine *sweep.Engine, folder string) (*sweep.Report, error) {
				return source.History(ctx, engine, folder)
			})
		}}
	return a.noun("sweep", "search for leaked values; exits 3 with findings, 6 where something could not be searched", tree, history)
}

func (a *app) runSweep(cmd *cli.Command, search func(*sweep.Engine, string) (*sweep.Report, error)) error {
	if err := arguments(cmd, 0, 1, "[FOLDER]"); err != nil {
		return err
	}
	folder := cmd.Args().First()
	if folder == "" {
		folder = "."
	}
	report, err := search(sweep.NewEngine(sweep.Catalogue()), folder)
	if err != nil {
		return err
	}
	if err := a.writeReport(cmd, report); err != nil {
		return err
	}
	switch {
	case len(report.Findings) > 0:
		return &exitError{exitNo, nil}
	case len(report.Unsearched) > 0:
		return &exitError{exitPartial, nil}
	}
	return nil
}

func (a *app) writeReport(cmd *cli.Command, report *sweep.Report) error {
	form, to := cmd.String("output"), cmd.String("to")
	var content bytes.Buffer
	out := io.Writer(&content)
	var err error
	switch form {
	case "json":
		err = report.WriteJSON(out)
	case "sarif":
		err = report.WriteSARIF(out)
	default:
		err = report.WriteText(out, a.paint(to == "" && a.colours(a.out)))
	}
	if err != nil {
		return err
	}
	if to == "" {
		_, err := a.out.Write(content.Bytes())
		return err
	}
	if err := writeFile(to, 0o644, content.Bytes()); err != nil {
		return fmt.Errorf("write the report to %s: %w", to, err)
	}
	a.say("%s in %s; the report is %s.", countOf(len(report.Findings), "finding", "findings"), report.Root, filepath.Clean(to))
	return nil
}

// paint colours a severity's word where that is wanted; the word is there anyway.
func (a *app) paint(colours bool) func(sweep.Severity, string) string {
	codes := map[sweep.Severity]string{sweep.Critical: "1;31", sweep.High: "31", sweep.Medium: "33", sweep.Low: "2"}
	return func(s sweep.Severity, word string) string {
		if !colours {
			return word
		}
		return "\x1b[" + codes[s] + "m" + word + "\x1b[0m"
	}
}

func (a *app) rules() *cli.Command {
	return a.command(&cli.Command{
		Name: "rules", Usage: "list the rules, or explain one", ArgsUsage: "[NAME]", Flags: []cli.Flag{listFlag()},
		Action: func(_ context.Context, cmd *cli.Command) error {
			if err := arguments(cmd, 0, 1, "[NAME]"); err != nil {
				return err
			}
			rules := sweep.Catalogue()
			name := cmd.Args().First()
			if name == "" {
				return list(a, cmd, rules, []string{"NAME", "SEVERITY", "FINDS"}, func(r *sweep.Rule) []string { return []string{r.Name, string(r.Severity), r.Finds} })
			}
			var names []string
			for _, r := range rules {
				names = append(names, r.Name)
				if r.Name == name {
					fmt.Fprintf(a.out, "%s\n  finds       %s\n  severity    %s\n  why         %s\n  what to do  %s\n  near        %s\n", r.Name, r.Finds, r.Severity, r.Why, r.Remedy, strings.Join(r.Near, ", "))
					return nil
				}
			}
			hint := ""
			if near := layers.Nearest(name, names); near != "" {
				hint = "; did you mean " + near + "?"
			}
			return fmt.Errorf("there is no rule %q%s", printable(name), hint)
		},
	})
}
