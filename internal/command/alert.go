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

// alert shows what was out of the ordinary.
func (a *app) alert() *cli.Command {
	return a.noun("alert", "what was out of the ordinary, and whether somebody has looked at it",
		&cli.Command{Name: "list", Usage: "list alerts, newest first", Flags: []cli.Flag{listFlag(), &cli.BoolFlag{Name: "all", Usage: "also those that somebody has looked at"}},
			Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				var all []wire.Alert
				for cursor, more := "", true; more; more = cursor != "" {
					page, err := c.Alerts(ctx, !cmd.Bool("all"), cursor)
					if err != nil {
						return err
					}
					all, cursor = append(all, page.Alerts...), page.Next
				}
				if len(all) == 0 && cmd.String("output") == "table" {
					a.say("There are no alerts that nobody has looked at.")
					return nil
				}
				return list(a, cmd, all, []string{"ALERT", "WHEN", "KIND", "WHO", "WHERE", "WHAT", "FROM", "SEEN BY"}, func(x wire.Alert) []string {
					who := x.Who
					if who == "" {
						who = "(nobody)"
					}
					return []string{strconv.FormatInt(x.ID, 10), x.At.Local().Format("2006-01-02 15:04"), x.Kind, who, x.Place, x.What, x.From, x.SeenBy}
				})
			})},
		&cli.Command{Name: "see", Usage: "say that you have looked at an alert", ArgsUsage: "ALERT", Flags: []cli.Flag{becauseFlag()},
			Action: a.signedIn(1, 1, "ALERT", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				id, err := number(cmd, "alert")
				if err != nil {
					return err
				}
				if err := c.SeeAlert(ctx, id, cmd.String("because")); err != nil {
					return err
				}
				a.say("Noted that you have looked at it.")
				return nil
			})})
}

// number reads the number of something that a list shows.
func number(cmd *cli.Command, what string) (int64, error) {
	id, err := strconv.ParseInt(cmd.Args().First(), 10, 64)
	if err != nil || id < 1 {
		return 0, usage("%q is no %s's number; \"adytum %s list\" shows them", printable(cmd.Args().First()), what, what)
	}
	return id, nil
}

// channel manages where alerts are sent.
func (a *app) channel() *cli.Command {
	remove := func(name, what string, act func(*client.Client, context.Context, int64) error, said string) *cli.Command {
		return &cli.Command{Name: name, Usage: what, ArgsUsage: "CHANNEL", Action: a.signedIn(1, 1, "CHANNEL", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			id, err := number(cmd, "channel")
			if err != nil {
				return err
			}
			if err := act(c, ctx, id); err != nil {
				return err
			}
			a.say("%s", said)
			return nil
		})}
	}
	return a.noun("channel", "where alerts are sent",
		&cli.Command{Name: "list", Usage: "list channels, and whether alerts arrive", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.Channels(ctx)
			if err != nil {
				return err
			}
			if len(all) == 0 && cmd.String("output") == "table" {
				a.say("Alerts are kept and sent nowhere; \"adytum channel add webhook\" and \"adytum channel add mail ADDRESS\" change that.")
				return nil
			}
			return list(a, cmd, all, []string{"CHANNEL", "KIND", "TARGET", "LAST ARRIVED", "PROBLEM"}, func(x wire.Channel) []string {
				return []string{strconv.FormatInt(x.ID, 10), x.Kind, x.Target, moment(x.Last), x.Problem}
			})
		})},
		&cli.Command{Name: "add", Usage: "send alerts to a webhook or a mail address", ArgsUsage: "mail ADDRESS | webhook",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "stdin", Usage: "read a webhook's address from standard input"}},
			Action: a.signedIn(1, 2, "mail ADDRESS | webhook [--stdin]", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				request := wire.NewChannel{Kind: cmd.Args().Get(0), Target: cmd.Args().Get(1)}
				switch {
				case request.Kind == "webhook" && request.Target != "":
					return usage("a webhook's address may be a credential, and arguments show in process lists and shell history; leave it out and type it at the prompt, or use --stdin")
				case request.Kind == "webhook":
					address, err := a.secretInput(cmd.Bool("stdin"), "The webhook's address: ", "the webhook's address", "--stdin")
					if err != nil {
						return err
					}
					request.Target = strings.TrimSpace(string(address))
				case request.Target == "":
					return usage("name the mail address: adytum channel add mail ADDRESS")
				}
				added, err := c.AddChannel(ctx, request)
				if err != nil {
					return err
				}
				if added.Key != "" {
					fmt.Fprintf(a.out, "%s\n", added.Key)
					a.say("Requests are signed (RFC 9421) with Ed25519; the line above is the public key, its id is %s.", printable(added.KeyID))
				}
				a.say("Alerts go to %s from now on; \"adytum channel test %d\" sends one to see whether it arrives.", printable(added.Target), added.ID)
				return nil
			})},
		remove("test", "send an alert there that says that it is a test", (*client.Client).TestChannel, "It arrived."),
		remove("remove", "send alerts there no more", (*client.Client).RemoveChannel, "Alerts are sent there no more."))
}

// decoy manages what nobody needs.
func (a *app) decoy() *cli.Command {
	return a.noun("decoy", "entries and workloads that nobody needs: their use is an alert at once",
		&cli.Command{Name: "list", Usage: "list the decoys that you manage", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.Decoys(ctx)
			if err != nil {
				return err
			}
			if len(all) == 0 && cmd.String("output") == "table" {
				a.say("There are no decoys that you manage.")
				return nil
			}
			return list(a, cmd, all, []string{"DECOY", "WHAT", "WHERE", "SINCE"}, func(d wire.Decoy) []string {
				what, where := d.Name, placeName(client.Place{Project: d.Project, Environment: d.Environment})
				if d.Workload != "" {
					what, where = "the workload "+d.Workload, ""
				}
				return []string{strconv.FormatInt(d.ID, 10), what, where, moment(d.Since)}
			})
		})},
		&cli.Command{Name: "add", Usage: "mark an entry of a layer, or a workload, as needed by nobody", ArgsUsage: "[NAME]",
			Flags: append(placeFlags(), layerFlag(), &cli.StringFlag{Name: "workload", Usage: "mark the workload `NAME` instead"}),
			Action: a.signedIn(0, 1, "[NAME]", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				request := wire.NewDecoy{Name: cmd.Args().First(), Workload: cmd.String("workload")}
				if (request.Name == "") == (request.Workload == "") {
					return usage("name either an entry, or a workload with --workload NAME")
				}
				if request.Name != "" {
					place, err := a.layerPlace(cmd)
					if err != nil {
						return err
					}
					request.Project, request.Environment = place.Project, place.Environment
				}
				d, err := c.AddDecoy(ctx, request)
				if err == nil {
					a.say("It is decoy %d: whoever uses it raises an alert. Nobody but those who manage there sees that it is one.", d.ID)
				}
				return err
			})},
		&cli.Command{Name: "remove", Usage: "mark something as needed again", ArgsUsage: "DECOY", Action: a.signedIn(1, 1, "DECOY", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			id, err := number(cmd, "decoy")
			if err != nil {
				return err
			}
			if err := c.RemoveDecoy(ctx, id); err != nil {
				return err
			}
			a.say("It is no decoy any more.")
			return nil
		})})
}
