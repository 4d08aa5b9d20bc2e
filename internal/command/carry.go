package command

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
)

func (a *app) compare() *cli.Command {
	return a.command(&cli.Command{
		Name: "compare", Usage: "put two environments, or one at two revisions, side by side without values", ArgsUsage: "A B",
		Description: "A and B are ENVIRONMENT or PROJECT/ENVIRONMENT, each perhaps with @REVISION.",
		Flags: []cli.Flag{placeFlags()[0], listFlag(), &cli.BoolFlag{Name: "all", Usage: "show what is the same as well"},
			&cli.BoolFlag{Name: "check", Usage: "exit 3 where anything is missing, different or unknown"}},
		Action: a.signedIn(2, 2, "A B", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			sides := make([]client.Place, 2)
			revisions := make([]int64, 2)
			for i := range sides {
				var err error
				if sides[i], revisions[i], err = a.side(cmd, cmd.Args().Get(i)); err != nil {
					return err
				}
			}
			compared, err := c.Compare(ctx, sides[0], revisions[0], sides[1], revisions[1])
			if err != nil {
				return err
			}
			if err := a.showComparison(cmd, compared); err != nil {
				return err
			}
			if cmd.Bool("check") && !compared.Alike {
				return &exitError{code: exitNo}
			}
			return nil
		}),
	})
}

// side reads one side of a comparison.
func (a *app) side(cmd *cli.Command, text string) (client.Place, int64, error) {
	name, at, pinned := strings.Cut(text, "@")
	revision := int64(client.NewestRevision)
	if pinned {
		n, err := strconv.ParseInt(at, 10, 64)
		if err != nil || n < 0 {
			return client.Place{}, 0, usage("%q names no revision after \"@\"; it is a number, as \"adytum changes\" shows them", printable(text))
		}
		revision = n
	}
	project := ""
	if !strings.Contains(name, "/") {
		p, err := a.place(cmd)
		if err != nil {
			return p, 0, err
		}
		project = p.Project
	}
	p, err := parsePlace(name, project)
	if err == nil && p.Environment == "" {
		err = usage("%q is no environment; compare takes ENVIRONMENT or PROJECT/ENVIRONMENT", printable(text))
	}
	return p, revision, err
}

func (a *app) showComparison(cmd *cli.Command, compared wire.Comparison) error {
	if output := cmd.String("output"); output == "json" {
		return a.json(compared)
	}
	counts := map[string]int{}
	rows := []wire.ComparedRow{}
	for _, row := range compared.Rows {
		counts[row.State]++
		if row.State != "same" || cmd.Bool("all") {
			rows = append(rows, row)
		}
	}
	// What is missing stops a release, so it stands first.
	order := map[string]int{"only-a": 1, "only-b": 1, "different": 2, "unknown": 3, "same": 4}
	slices.SortStableFunc(rows, func(a, b wire.ComparedRow) int { return order[a.State] - order[b.State] })
	said := map[string]string{"same": "same", "different": "different", "only-a": "missing in " + compared.B, "only-b": "missing in " + compared.A, "unknown": "not told"}
	if len(rows) > 0 {
		err := list(a, cmd, rows, []string{"NAME", "", compared.A, compared.B}, func(r wire.ComparedRow) []string {
			return []string{r.Name, said[r.State], comparedCell(r.A), comparedCell(r.B)}
		})
		if err != nil {
			return err
		}
	}
	if cmd.String("output") == "table" {
		parts := []string{}
		for _, state := range []string{"same", "different", "only-a", "only-b", "unknown"} {
			if counts[state] > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", counts[state], said[state]))
			}
		}
		a.say("%s", printable(strings.Join(parts, ", ")))
		if counts["unknown"] > 0 {
			a.say("Whether secrets are the same is told to those who may read both sides.")
		}
	}
	return nil
}

// comparedCell is one side of a row, without a secret's value.
func comparedCell(c wire.Cell) string {
	switch c.State {
	case "missing":
		return "-"
	case "nothing":
		return "(nothing)"
	case "waiting", "expired", "destroyed":
		return "(" + c.State + ")"
	}
	text := "(secret)"
	if c.Kind == "setting" {
		text = shorten(strings.ReplaceAll(c.Setting, "\n", "⏎"), 30)
	}
	facts := fmt.Sprintf("v%d", c.Version)
	if c.State != "here" {
		facts += " from " + c.Layer
	}
	if c.Source != "" {
		facts += ", " + c.Source
	}
	return text + " " + facts
}

func (a *app) copy() *cli.Command {
	return a.command(&cli.Command{
		Name: "copy", Usage: "carry entries over from one environment to another, as one change", ArgsUsage: "NAME…",
		Flags: []cli.Flag{placeFlags()[0], becauseFlag(), dryRunFlag(),
			&cli.StringFlag{Name: "from", Required: true, Usage: "`PLACE` to copy from: ENVIRONMENT, PROJECT/ENVIRONMENT, PROJECT/ or organization"},
			&cli.StringFlag{Name: "to", Required: true, Usage: "`ENVIRONMENT` or PROJECT/ENVIRONMENT to copy to"},
			&cli.BoolFlag{Name: "missing", Usage: "all names that are set there and not here"},
			&cli.Int64Flag{Name: "revision", Value: client.AnyRevision, Usage: "the target's `REVISION` that you looked at", HideDefault: true}},
		Action: a.signedIn(0, -1, "NAME… --from A --to B", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			project := cmd.String("project")
			if project == "" && (!strings.Contains(cmd.String("from"), "/") || !strings.Contains(cmd.String("to"), "/")) {
				p, err := a.place(cmd)
				if err != nil {
					return err
				}
				project = p.Project
			}
			from, err := parsePlace(cmd.String("from"), project)
			if err != nil {
				return err
			}
			to, err := parsePlace(cmd.String("to"), project)
			if err != nil {
				return err
			}
			if to.Environment == "" {
				return usage("%q is no environment; copy carries over to ENVIRONMENT or PROJECT/ENVIRONMENT", printable(cmd.String("to")))
			}
			request := wire.CopyRequest{Reason: cmd.String("because"), From: wire.PlaceID(from), Names: cmd.Args().Slice(), Missing: cmd.Bool("missing")}
			return a.committing(ctx, c, to, client.Commit{Base: a.revisionFlag(cmd), DryRun: cmd.Bool("dry-run")}, func(o client.Commit) (wire.Change, error) {
				return c.Copy(ctx, to, o, request)
			})
		}),
	})
}

func (a *app) private() *cli.Command {
	return a.command(&cli.Command{
		Name: "private", Usage: "keep a value of your own in an environment, which you alone see and resolve", ArgsUsage: "[NAME]",
		Description: "It stands in for an entry that is set there, for you alone. Without NAME it lists where yours are in force.",
		Flags: append(placeFlags(), becauseFlag(), dryRunFlag(), listFlag(),
			&cli.BoolFlag{Name: "stdin", Usage: "take the value from standard input, byte for byte but for one line end"},
			&cli.StringFlag{Name: "from-file", Usage: "take the value from `FILE`, byte for byte"},
			&cli.BoolFlag{Name: "remove", Usage: "take your own value away again"}),
		Action: a.at(a.place, 0, 1, "[NAME]", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			name := cmd.Args().First()
			if name == "" {
				return a.listPrivate(ctx, cmd, c, place)
			}
			e := wire.Edit{Act: "remove", Name: name}
			if !cmd.Bool("remove") {
				value, err := a.keptValue(cmd, []string{name}, 0)
				if err != nil {
					return err
				}
				e = secretEdit(name, value)
			}
			change, err := c.CommitPrivate(ctx, place, client.Commit{Base: client.AnyRevision, DryRun: cmd.Bool("dry-run")}, wire.ChangeRequest{Reason: cmd.String("because"), Edits: []wire.Edit{e}})
			if err != nil {
				return err
			}
			switch {
			case change.DryRun:
				a.say("Your own value of %s in %s would be %s; nothing was done.", printable(name), placeName(place), change.Effects[0].Act)
			case cmd.Bool("remove"):
				a.say("Your own value of %s in %s is gone; the environment's counts for you again.", printable(name), placeName(place))
			default:
				a.say("Your own value of %s counts for you in %s, and for nobody else.", printable(name), placeName(place))
			}
			return nil
		}),
	})
}

func (a *app) listPrivate(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
	entries, err := c.Entries(ctx, place)
	if err != nil {
		return err
	}
	own := []wire.Entry{}
	for _, e := range entries.Entries {
		if e.Origin == "private" {
			own = append(own, e)
		}
	}
	if len(own) == 0 && cmd.String("output") == "table" {
		a.say("You have no values of your own in %s.", placeName(place))
		return nil
	}
	return list(a, cmd, own, []string{"NAME", "KIND", "VERSION", "AGE"}, func(e wire.Entry) []string {
		return []string{e.Name, e.Kind, strconv.FormatInt(e.Version, 10), age(e.Since)}
	})
}
