package command

import (
	"context"
	"strconv"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
)

// request asks for roles, and answers those who ask.
func (a *app) request() *cli.Command {
	answer := func(name, what string, granted bool) *cli.Command {
		return &cli.Command{Name: name, Usage: what, ArgsUsage: "REQUEST", Flags: []cli.Flag{becauseFlag()}, Action: a.signedIn(1, 1, "REQUEST", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			id, err := requestID(cmd)
			if err != nil {
				return err
			}
			if err := c.AnswerRequest(ctx, id, wire.RequestAnswer{Granted: granted, Reason: cmd.String("because")}); err != nil {
				return err
			}
			if granted {
				a.say("Granted; it ends by itself.")
			} else {
				a.say("Declined.")
			}
			return nil
		})}
	}
	return a.noun("request", "ask for a role for some hours, and answer those who ask",
		&cli.Command{Name: "list", Usage: "list your requests, and those that you could grant", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.RoleRequests(ctx)
			if err != nil {
				return err
			}
			if len(all) == 0 && cmd.String("output") == "table" {
				a.say("Nothing is asked for.")
				return nil
			}
			return list(a, cmd, all, []string{"REQUEST", "WHO", "ROLE", "WHERE", "HOURS", "BECAUSE", "ASKED"}, func(r wire.RoleRequest) []string {
				who := r.Who
				if r.Mine {
					who = "you"
				}
				return []string{strconv.FormatInt(r.ID, 10), who, r.Role, placeName(client.Place{Project: r.Project, Environment: r.Environment}), strconv.Itoa(r.Hours), r.Reason, moment(r.At)}
			})
		})},
		&cli.Command{Name: "add", Usage: "ask for a role", ArgsUsage: "ROLE", Flags: append(placeFlags(), &cli.IntFlag{Name: "hours", Value: 4, Usage: "for `HOURS`, 72 at most"}, becauseFlag()),
			Action: a.signedIn(1, 1, "ROLE", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				r, err := c.AskForRole(ctx, wire.NewRoleRequest{Role: cmd.Args().First(), Project: cmd.String("project"), Environment: cmd.String("environment"), Hours: cmd.Int("hours"), Reason: cmd.String("because")})
				if err == nil {
					a.say("Asked for (request %d): a steward there, or an owner, grants it with \"adytum request grant %d\".", r.ID, r.ID)
				}
				return err
			})},
		answer("grant", "grant what is asked for; it ends by itself", true),
		answer("decline", "decline what is asked for", false),
		&cli.Command{Name: "remove", Usage: "take your own request back", ArgsUsage: "REQUEST", Action: a.signedIn(1, 1, "REQUEST", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			id, err := requestID(cmd)
			if err != nil {
				return err
			}
			if err := c.TakeBackRequest(ctx, id); err != nil {
				return err
			}
			a.say("Taken back.")
			return nil
		})})
}

func requestID(cmd *cli.Command) (int64, error) {
	id, err := strconv.ParseInt(cmd.Args().First(), 10, 64)
	if err != nil {
		return 0, usage("%q is no request's number; \"adytum request list\" shows them", printable(cmd.Args().First()))
	}
	return id, nil
}
