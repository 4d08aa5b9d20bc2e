package command

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
)

// noun makes a command whose subcommands manage one kind of thing.
func (a *app) noun(name, what string, commands ...*cli.Command) *cli.Command {
	for _, c := range commands {
		a.command(c)
	}
	return a.command(&cli.Command{Name: name, Usage: what, Commands: commands, Action: func(_ context.Context, cmd *cli.Command) error {
		if cmd.Args().Present() {
			return usage("there is no command \"%s %s\"; \"adytum %s --help\" lists them", name, printable(cmd.Args().First()), name)
		}
		return cli.ShowSubcommandHelp(cmd)
	}})
}

// signedIn makes an action of one that needs a client and some arguments.
func (a *app) signedIn(least, most int, form string, f func(context.Context, *cli.Command, *client.Client) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		if err := arguments(cmd, least, most, form); err != nil {
			return err
		}
		c, err := a.client(ctx)
		if err != nil {
			return err
		}
		err = f(ctx, cmd, c)
		a.noteCheckpoint(c)
		return err
	}
}

func (a *app) person() *cli.Command {
	return a.noun("person", "manage people", append(a.personChanges(),
		&cli.Command{Name: "list", Usage: "list people", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.People(ctx)
			if err != nil {
				return err
			}
			return list(a, cmd, all, []string{"LOGIN", "NAME", "CODES", "THROUGH", "INVITED UNTIL"}, func(p wire.Person) []string {
				codes := ""
				if p.Codes {
					codes = "yes"
				}
				return []string{p.Login, p.Name, codes, p.Provider, moment(p.InvitationEnds)}
			})
		})},
		&cli.Command{Name: "add", Usage: "add a person", ArgsUsage: "LOGIN NAME", Flags: []cli.Flag{&cli.BoolFlag{Name: "password-stdin", Usage: "read the first password from standard input"},
			&cli.BoolFlag{Name: "invite", Usage: "print an invitation with which the person chooses a password"},
			&cli.StringFlag{Name: "provider", Usage: "the person signs in through `PROVIDER`, where the login is their e-mail address"}},
			Action: a.signedIn(2, 2, "LOGIN NAME", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				if provider := cmd.String("provider"); provider != "" {
					if cmd.Bool("invite") || cmd.Bool("password-stdin") {
						return usage("who signs in through a provider has neither an invitation nor a password")
					}
					p, err := c.AddPerson(ctx, wire.NewPerson{Login: cmd.Args().Get(0), Name: cmd.Args().Get(1), Provider: provider})
					if err == nil {
						a.say("%s can sign in through %s, with the account of %s there.", printable(p.Name), printable(provider), printable(p.Login))
					}
					return err
				}
				if cmd.Bool("invite") {
					p, err := c.AddPerson(ctx, wire.NewPerson{Login: cmd.Args().Get(0), Name: cmd.Args().Get(1)})
					if err == nil {
						a.invitation(c, p)
					}
					return err
				}
				password, err := a.secretInput(cmd.Bool("password-stdin"), "First password (15 characters or more): ", "the password", "--password-stdin")
				if err != nil {
					return err
				}
				p, err := c.AddPerson(ctx, wire.NewPerson{Login: cmd.Args().Get(0), Name: cmd.Args().Get(1), Password: strings.TrimRight(string(password), "\r\n")})
				if err == nil {
					a.say("%s can sign in as %s.", printable(p.Name), printable(p.Login))
				}
				return err
			})})...)
}

func (a *app) workload() *cli.Command {
	return a.noun("workload", "manage programs that sign in on their own", append(append(a.clientSecrets(), a.trusts()...),
		&cli.Command{Name: "list", Usage: "list workloads", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.Workloads(ctx)
			if err != nil {
				return err
			}
			return list(a, cmd, all, []string{"WORKLOAD", "CLIENT ID", "SINCE"}, func(w wire.Workload) []string {
				return []string{w.Name, w.ClientID, w.CreatedAt.Local().Format("2006-01-02")}
			})
		})},
		&cli.Command{Name: "add", Usage: "add a workload, and print its client secret this once", ArgsUsage: "WORKLOAD", Flags: []cli.Flag{outputFlag("text", "json")},
			Action: a.signedIn(1, 1, "WORKLOAD", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				w, err := c.AddWorkload(ctx, cmd.Args().First())
				if err != nil {
					return err
				}
				if cmd.String("output") == "json" {
					return a.json(w)
				}
				fmt.Fprintf(a.out, "ADYTUM_CLIENT_ID=%s\nADYTUM_CLIENT_SECRET=%s\n", w.ClientID, w.ClientSecret)
				a.say("The client secret is shown this once; give it to %s and to nothing else.", w.Name)
				return nil
			})})...)
}

func (a *app) grant() *cli.Command {
	return a.noun("grant", "manage who may do what where",
		&cli.Command{Name: "list", Usage: "list the grants at places that you may manage", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.Grants(ctx)
			if err != nil {
				return err
			}
			return list(a, cmd, all, []string{"GRANT", "WHO", "KIND", "ROLE", "WHERE", "LIMITS"}, func(g wire.Grant) []string {
				return []string{strconv.FormatInt(g.ID, 10), g.Who, g.Kind, g.Role, grantPlace(g), grantLimits(g)}
			})
		})},
		&cli.Command{Name: "add", Usage: "give someone a role somewhere", ArgsUsage: "ROLE", Flags: append(placeFlags(),
			&cli.StringFlag{Name: "person", Usage: "`LOGIN` of the person who gets it"}, &cli.StringFlag{Name: "workload", Usage: "`NAME` of the workload that gets it"},
			&cli.StringFlag{Name: "team", Usage: "`NAME` of the team that gets it"},
			&cli.StringFlag{Name: "names", Usage: "for names like `PATTERN` alone, in which * stands for any characters"},
			&cli.StringFlag{Name: "until", Usage: "until `WHEN`: a day, a moment, or a span such as 4h or 30d"},
			&cli.StringSliceFlag{Name: "from", Usage: "from `NETWORK` alone, 192.0.2.0/24 for example; can be repeated"},
			dryRunFlag(), &cli.BoolFlag{Name: "everywhere", Usage: "in the whole organization"}),
			Action: a.signedIn(1, 1, "ROLE", a.addGrant)},
		&cli.Command{Name: "remove", Usage: "take a grant back", ArgsUsage: "GRANT", Action: a.signedIn(1, 1, "GRANT", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			id, err := strconv.ParseInt(cmd.Args().First(), 10, 64)
			if err != nil {
				return usage("%q is no grant's number; \"adytum grant list\" shows them", printable(cmd.Args().First()))
			}
			if err := c.RemoveGrant(ctx, id); err != nil {
				return err
			}
			a.say("Grant %d is gone.", id)
			return nil
		})})
}

func (a *app) addGrant(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	g := wire.NewGrant{Kind: "person", Who: cmd.String("person"), Role: cmd.Args().First(), Project: cmd.String("project"), Environment: cmd.String("environment")}
	named := 0
	for _, kind := range []string{"person", "workload", "team"} {
		if cmd.String(kind) != "" {
			g.Kind, g.Who = kind, cmd.String(kind)
			named++
		}
	}
	if named != 1 {
		return usage("who gets it? name one: --person LOGIN or --workload NAME or --team NAME")
	}
	g.Names, g.From = cmd.String("names"), cmd.StringSlice("from")
	if text := cmd.String("until"); text != "" {
		until, err := parseTime(text, time.Now())
		if err != nil {
			return usage("--until: %s", err)
		}
		g.Until = &until
	}
	if (g.Project == "") != cmd.Bool("everywhere") {
		return usage("where? name --project and perhaps --environment, or say --everywhere for the whole organization")
	}
	if cmd.Bool("dry-run") {
		return a.previewGrant(ctx, c, g)
	}
	out, err := c.AddGrant(ctx, g)
	if err == nil {
		limits := grantLimits(out)
		if limits != "" {
			limits = "; " + limits
		}
		a.say("%s is %s in %s (grant %d%s).", printable(out.Who), out.Role, grantPlace(out), out.ID, printable(limits))
	}
	return err
}

func shorten(s string, n int) string {
	if runes := []rune(s); len(runes) > n {
		return string(runes[:n-1]) + "…"
	}
	return s
}
