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

// proposal shows changes that wait for a second person's approval, and answers
// them.
func (a *app) proposal() *cli.Command {
	return a.noun("proposal", "changes that wait for a second person's approval",
		&cli.Command{Name: "list", Usage: "list your proposals, and those of others at places that you know of", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.Proposals(ctx)
			if err != nil {
				return err
			}
			if len(all) == 0 && cmd.String("output") == "table" {
				a.say("Nothing waits for approval.")
				return nil
			}
			return list(a, cmd, all, []string{"PROPOSAL", "WHO", "WHERE", "WHAT", "BECAUSE", "PROPOSED"}, func(p wire.Proposal) []string {
				who := p.Who
				if p.Mine {
					who = "you"
				}
				return []string{strconv.FormatInt(p.ID, 10), who, placeName(proposalPlace(p)), shorten(strings.Join(proposalLines(p), ", "), 60), p.Reason, moment(p.At)}
			})
		})},
		&cli.Command{Name: "show", Usage: "show what a proposal would do", ArgsUsage: "PROPOSAL", Flags: []cli.Flag{outputFlag("text", "json")}, Action: a.signedIn(1, 1, "PROPOSAL", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			p, err := findProposal(ctx, cmd, c)
			if err != nil {
				return err
			}
			if cmd.String("output") == "json" {
				return a.json(p)
			}
			fmt.Fprintf(a.out, "Proposal %d of %s for %s, on revision %d, %s%s\n", p.ID, printable(p.Who), printable(placeName(proposalPlace(p))), p.Base, moment(p.At), printable(because(p.Reason)))
			for _, line := range proposalLines(p) {
				fmt.Fprintf(a.out, "  %s\n", printable(line))
			}
			if p.Mine {
				a.say("Somebody else approves it; \"adytum proposal decline %d\" takes it back.", p.ID)
			} else {
				a.say("\"adytum proposal approve %d\" does it, \"adytum proposal decline %d\" does not.", p.ID, p.ID)
			}
			return nil
		})},
		a.answerProposal("approve", "do what another person proposed", true),
		a.answerProposal("decline", "do not do it, or take your own proposal back", false))
}

func (a *app) answerProposal(name, what string, approved bool) *cli.Command {
	return &cli.Command{Name: name, Usage: what, ArgsUsage: "PROPOSAL", Flags: []cli.Flag{becauseFlag()}, Action: a.signedIn(1, 1, "PROPOSAL", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
		p, err := findProposal(ctx, cmd, c)
		if err != nil {
			return err
		}
		out, err := c.AnswerProposal(ctx, p.ID, wire.ProposalAnswer{Approved: approved, Reason: cmd.String("because")})
		switch {
		case err != nil:
			return err
		case !approved:
			a.say("Declined; nothing was changed.")
		case p.Edit != nil:
			a.say("The environment %s is changed as %s proposed.", printable(placeName(proposalPlace(p))), printable(p.Who))
		default:
			a.sayChange(proposalPlace(p), out)
		}
		return nil
	})}
}

func proposalPlace(p wire.Proposal) client.Place {
	return client.Place{Project: p.Project, Environment: p.Environment}
}

func findProposal(ctx context.Context, cmd *cli.Command, c *client.Client) (wire.Proposal, error) {
	id, err := strconv.ParseInt(cmd.Args().First(), 10, 64)
	if err != nil {
		return wire.Proposal{}, usage("%q is no proposal's number; \"adytum proposal list\" shows them", printable(cmd.Args().First()))
	}
	all, err := c.Proposals(ctx)
	if err != nil {
		return wire.Proposal{}, err
	}
	for _, p := range all {
		if p.ID == id {
			return p, nil
		}
	}
	return wire.Proposal{}, fmt.Errorf("there is no proposal %d that waits for you; \"adytum proposal list\" shows those that do", id)
}

// proposalLines says what a proposal would do, a line for each thing.
func proposalLines(p wire.Proposal) []string {
	var out []string
	for _, e := range p.Effects {
		line := e.Name + " " + e.Act
		if e.To != "" {
			line += " to " + e.To
		}
		if e.Kind != "" {
			line += " (" + e.Kind
			if e.Source != "" {
				line += ", " + e.Source
			}
			line += ")"
		}
		out = append(out, line)
	}
	if p.Hidden > 0 {
		out = append(out, fmt.Sprintf("%d more that you may not list", p.Hidden))
	}
	if p.Edit == nil || p.Was == nil {
		return out
	}
	yes := map[bool]string{true: "yes", false: "no"}
	change := func(what, before, after string) {
		if before != after {
			out = append(out, fmt.Sprintf("%s: %s, was %s", what, after, before))
		}
	}
	if e := p.Edit; e.Name != nil {
		change("name", p.Was.Name, *e.Name)
	}
	if e := p.Edit; e.Follows != nil {
		change("follows", orNothing(p.Was.Follows), orNothing(*e.Follows))
	}
	if e := p.Edit; e.Protected != nil {
		change("protected", yes[p.Was.Protected], yes[*e.Protected])
	}
	if e := p.Edit; e.Approval != nil {
		change("changes need approval", yes[p.Was.Approval], yes[*e.Approval])
	}
	if e := p.Edit; e.MaxAgeDays != nil {
		change("max age in days", strconv.Itoa(p.Was.MaxAgeDays), strconv.Itoa(*e.MaxAgeDays))
	}
	return out
}

func orNothing(name string) string {
	if name == "" {
		return "nothing"
	}
	return name
}
