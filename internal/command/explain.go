package command

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
)

func (a *app) explain() *cli.Command {
	return a.command(&cli.Command{Name: "explain", ArgsUsage: "[NAME]",
		Usage: "who can do what in a place, or to an entry there, and through which grant; for a person or a workload, what they can reach",
		Flags: append(placeFlags(), layerFlag(), listFlag(),
			&cli.StringFlag{Name: "person", Usage: "what the person with `LOGIN` can reach"},
			&cli.StringFlag{Name: "workload", Usage: "what the workload `NAME` can reach"},
			&cli.BoolFlag{Name: "obtained", Usage: "with --person or --workload: what they have obtained, to be replaced on the day they leave"}),
		Action: a.signedIn(0, 1, "[NAME]", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			kind, who := "person", cmd.String("person")
			if w := cmd.String("workload"); w != "" {
				kind, who = "workload", w
			}
			switch {
			case cmd.String("person") != "" && cmd.String("workload") != "":
				return usage("name one: --person LOGIN or --workload NAME")
			case who != "" && cmd.Args().Present():
				return usage("either an entry or somebody is explained: adytum explain NAME, or adytum explain --person LOGIN")
			case cmd.Bool("obtained") && who == "":
				return usage("who obtained it? name --person LOGIN or --workload NAME")
			case cmd.Bool("obtained"):
				return a.explainObtained(ctx, cmd, c, kind, who)
			case who != "":
				return a.explainSubject(ctx, cmd, c, kind, who)
			}
			return a.explainPlace(ctx, cmd, c)
		})})
}

func (a *app) explainPlace(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	place, err := a.layerPlace(cmd)
	if err != nil {
		return err
	}
	out, err := c.ExplainPlace(ctx, place, cmd.Args().First())
	if err != nil {
		return err
	}
	if cmd.String("output") == "table" {
		what := out.Place
		if out.Name != "" {
			what = out.Name + " in " + what
		}
		if len(out.Rows) == 0 {
			a.say("Nobody can reach %s.", printable(what))
			return nil
		}
		a.say("Who can reach %s:", printable(what))
	}
	return list(a, cmd, out.Rows, []string{"WHO", "MAY", "THROUGH", "LIMITS"}, func(r wire.Reach) []string {
		return []string{reachName(r), strings.Join(r.Verbs, ", "), through(r), reachLimits(r)}
	})
}

func reachName(r wire.Reach) string {
	if r.Kind == "workload" {
		return r.Who + " (workload)"
	}
	return r.Who
}

// through is the grant that allows it.
func through(r wire.Reach) string {
	where := grantPlace(r.Grant)
	if r.Via != "" {
		where += ", through " + r.Via
	}
	return fmt.Sprintf("%s in %s (grant %d)", r.Grant.Role, where, r.Grant.ID)
}

func reachLimits(r wire.Reach) string {
	limits := grantLimits(r.Grant)
	if r.State == "holds" {
		return limits
	}
	return strings.TrimPrefix(limits+"; "+r.State, "; ")
}

func (a *app) explainSubject(ctx context.Context, cmd *cli.Command, c *client.Client, kind, who string) error {
	out, err := c.ExplainSubject(ctx, kind, who)
	if err != nil {
		return err
	}
	if cmd.String("output") == "table" {
		if len(out.Rows) == 0 {
			a.say("%s can reach nothing.", printable(out.Name))
			return nil
		}
		a.say("What %s can reach:", printable(out.Name))
	}
	return list(a, cmd, out.Rows, []string{"WHERE", "MAY", "THROUGH", "LIMITS"}, func(r wire.Reach) []string {
		return []string{grantPlace(r.Grant), strings.Join(r.Verbs, ", "), through(r), reachLimits(r)}
	})
}

func (a *app) explainObtained(ctx context.Context, cmd *cli.Command, c *client.Client, kind, who string) error {
	out, err := c.Exposure(ctx, kind, who)
	if err != nil {
		return err
	}
	if cmd.String("output") == "table" {
		open := 0
		for _, r := range out.Rows {
			if r.Replaced.IsZero() && !r.Gone {
				open++
			}
		}
		a.say("%s has obtained %d secrets; %d of them are still in force.", printable(out.Who), len(out.Rows), open)
		if len(out.Rows) == 0 {
			return nil
		}
	}
	return list(a, cmd, out.Rows, []string{"STATE", "SECRET", "WHERE", "TIMES", "LAST"}, func(r wire.ExposedEntry) []string {
		state := "in force"
		if r.Gone {
			state = "gone"
		} else if !r.Replaced.IsZero() {
			state = "replaced " + moment(r.Replaced)
		}
		return []string{state, strings.TrimPrefix(r.Reference, "adytum:"), r.Place, strconv.Itoa(r.Times), moment(r.Last)}
	})
}

func (a *app) previewGrant(ctx context.Context, c *client.Client, g wire.NewGrant) error {
	p, err := c.PreviewGrant(ctx, g)
	if err != nil {
		return err
	}
	if len(p.Gains) == 0 {
		a.say("It would allow nothing that is not allowed already.")
		return nil
	}
	a.say("It would newly allow:")
	rows := make([][]string, len(p.Gains))
	for i, gain := range p.Gains {
		rows[i] = []string{gain.Who, gain.Place, strings.Join(gain.Verbs, ", "), strconv.Itoa(gain.Entries)}
	}
	if err := a.table([]string{"WHO", "WHERE", "MAY", "ENTRIES"}, rows); err != nil {
		return err
	}
	a.say("Nothing was granted.")
	return nil
}
