package command

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
)

func (a *app) team() *cli.Command {
	people := func(name, what string, change func(ctx context.Context, c *client.Client, team, login string) error, said string) *cli.Command {
		return &cli.Command{Name: name, Usage: what, ArgsUsage: "TEAM LOGIN", Action: a.signedIn(2, 2, "TEAM LOGIN", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			err := change(ctx, c, cmd.Args().Get(0), cmd.Args().Get(1))
			if err == nil {
				a.say(said, printable(cmd.Args().Get(1)), printable(cmd.Args().Get(0)))
			}
			return err
		})}
	}
	return a.noun("team", "manage groups of people",
		&cli.Command{Name: "list", Usage: "list teams with their people", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.Teams(ctx)
			if err != nil {
				return err
			}
			if len(all) == 0 && cmd.String("output") == "table" {
				a.say("There are no teams yet; \"adytum team add TEAM\" makes the first.")
				return nil
			}
			return list(a, cmd, all, []string{"TEAM", "PEOPLE"}, func(t wire.Team) []string { return []string{t.Name, strings.Join(t.People, ", ")} })
		})},
		&cli.Command{Name: "add", Usage: "add a team", ArgsUsage: "TEAM", Action: a.signedIn(1, 1, "TEAM", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			t, err := c.AddTeam(ctx, cmd.Args().First())
			if err == nil {
				a.say("The team %s is there; \"adytum team join %s LOGIN\" puts people into it.", t.Name, t.Name)
			}
			return err
		})},
		people("join", "put a person into a team", func(ctx context.Context, c *client.Client, team, login string) error {
			_, err := c.AddMember(ctx, team, login)
			return err
		}, "%s is in the team %s."),
		people("leave", "take a person out of a team", func(ctx context.Context, c *client.Client, team, login string) error {
			return c.RemoveMember(ctx, team, login)
		}, "%s is in the team %s no more."),
		&cli.Command{Name: "remove", Usage: "remove a team with its grants", ArgsUsage: "TEAM", Flags: []cli.Flag{yesFlag()}, Action: a.signedIn(1, 1, "TEAM", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			name := cmd.Args().First()
			if err := a.agreed(cmd, "removing the team "+printable(name), "Remove the team "+printable(name)+" with all that it was granted?"); err != nil {
				return err
			}
			err := c.RemoveTeam(ctx, name)
			if err == nil {
				a.say("The team %s is gone, with its grants.", printable(name))
			}
			return err
		})})
}

func (a *app) role() *cli.Command {
	return a.noun("role", "manage named sets of verbs",
		&cli.Command{Name: "list", Usage: "list the roles that can be granted", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.Roles(ctx)
			if err != nil {
				return err
			}
			return list(a, cmd, all, []string{"ROLE", "VERBS", "DEFINED BY"}, func(r wire.Role) []string {
				by := "your organization"
				if r.BuiltIn {
					by = "Adytum"
				}
				return []string{r.Name, strings.Join(r.Verbs, ", "), by}
			})
		})},
		&cli.Command{Name: "define", Usage: "define a role, or give one other verbs: list, read, write, remove, destroy, manage, people, audit, sweep, keys", ArgsUsage: "ROLE VERB…",
			Action: a.signedIn(2, 12, "ROLE VERB…", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				r, err := c.DefineRole(ctx, wire.NewRole{Name: cmd.Args().First(), Verbs: cmd.Args().Tail()})
				if err == nil {
					a.say("The role %s may %s.", r.Name, strings.Join(r.Verbs, ", "))
				}
				return err
			})},
		&cli.Command{Name: "remove", Usage: "remove a role that nobody has", ArgsUsage: "ROLE", Action: a.signedIn(1, 1, "ROLE", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			err := c.RemoveRole(ctx, cmd.Args().First())
			if err == nil {
				a.say("The role %s is gone.", printable(cmd.Args().First()))
			}
			return err
		})})
}

// freezing are the flags that say what is frozen or thawed.
func freezing() []cli.Flag {
	return []cli.Flag{&cli.StringFlag{Name: "person", Usage: "the person with `LOGIN`"}, &cli.StringFlag{Name: "workload", Usage: "the workload `NAME`"},
		&cli.StringFlag{Name: "project", Aliases: []string{"p"}, Usage: "everything in the project `NAME`"}, &cli.BoolFlag{Name: "all", Usage: "the whole organization"}, becauseFlag()}
}

func frozenBy(cmd *cli.Command) (wire.Freeze, error) {
	f := wire.Freeze{Reason: cmd.String("because")}
	for _, kind := range []string{"person", "workload", "project"} {
		if cmd.String(kind) != "" {
			if f.Kind != "" {
				return f, usage("name one thing: --person LOGIN, --workload NAME, --project NAME or --all")
			}
			f.Kind, f.Name = kind, cmd.String(kind)
		}
	}
	if cmd.Bool("all") == (f.Kind != "") {
		return f, usage("name one thing: --person LOGIN, --workload NAME, --project NAME or --all")
	}
	if cmd.Bool("all") {
		f.Kind = "organization"
	}
	return f, nil
}

func frozenText(kind, name string) string {
	switch kind {
	case "organization":
		return "The organization"
	case "project":
		return "The project " + printable(name)
	}
	return printable(name)
}

func (a *app) freeze() *cli.Command {
	return a.command(&cli.Command{Name: "freeze", Usage: "stop a person, a workload, a project or everything at once, until it is thawed; without options, list what is frozen",
		Flags: append(freezing(), listFlag()), Action: a.signedIn(0, 0, "[--person LOGIN | --workload NAME | --project NAME | --all]", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			if !cmd.IsSet("person") && !cmd.IsSet("workload") && !cmd.IsSet("project") && !cmd.Bool("all") {
				return a.listFrozen(ctx, cmd, c)
			}
			f, err := frozenBy(cmd)
			if err != nil {
				return err
			}
			out, err := c.Freeze(ctx, f)
			if err != nil {
				return err
			}
			what := "values can be neither obtained nor changed there"
			if out.Kind == "person" || out.Kind == "workload" {
				what = "nothing is answered to its tokens"
			}
			a.say("%s is frozen: %s until \"adytum thaw\".\nWhat running programs were given before, they still have.", frozenText(out.Kind, out.Name), what)
			return nil
		})})
}

func (a *app) listFrozen(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	all, err := c.Frozen(ctx)
	if err != nil {
		return err
	}
	if len(all) == 0 && cmd.String("output") == "table" {
		a.say("Nothing is frozen.")
		return nil
	}
	return list(a, cmd, all, []string{"FROZEN", "NAME", "SINCE"}, func(f wire.Frozen) []string { return []string{f.Kind, f.Name, moment(f.Since)} })
}

func (a *app) thaw() *cli.Command {
	return a.command(&cli.Command{Name: "thaw", Usage: "end a freeze", Flags: freezing(),
		Action: a.signedIn(0, 0, "--person LOGIN | --workload NAME | --project NAME | --all", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			f, err := frozenBy(cmd)
			if err != nil {
				return err
			}
			if err := c.Thaw(ctx, f); err != nil {
				return err
			}
			a.say("%s is frozen no more.", frozenText(f.Kind, f.Name))
			return nil
		})})
}

// clientSecrets manages the client secrets of a workload.
func (a *app) clientSecrets() []*cli.Command {
	return []*cli.Command{
		{Name: "secrets", Usage: "list a workload's client secrets, without them", ArgsUsage: "WORKLOAD", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(1, 1, "WORKLOAD", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.ClientSecrets(ctx, cmd.Args().First())
			if err != nil {
				return err
			}
			return list(a, cmd, all, []string{"SECRET", "SINCE", "ENDS", "LAST USED"}, func(s wire.ClientSecret) []string {
				return []string{strconv.FormatInt(s.ID, 10), moment(s.CreatedAt), orNever(s.ExpiresAt), orNever(s.LastUsed)}
			})
		})},
		{Name: "add-secret", Usage: "give a workload one more client secret, and print it this once", ArgsUsage: "WORKLOAD",
			Flags: []cli.Flag{&cli.IntFlag{Name: "days", Usage: "`DAYS` after which it ends", HideDefault: true, Validator: between(1, 3650)}, outputFlag("text", "json")},
			Action: a.signedIn(1, 1, "WORKLOAD", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				s, err := c.AddClientSecret(ctx, cmd.Args().First(), wire.NewClientSecret{Days: cmd.Int("days")})
				if err != nil {
					return err
				}
				if cmd.String("output") == "json" {
					return a.json(s)
				}
				fmt.Fprintf(a.out, "ADYTUM_CLIENT_SECRET=%s\n", s.ClientSecret)
				a.say("The client secret %d is shown this once. Once %s uses it, \"adytum workload remove-secret %s\" takes the old one back.", s.ID, printable(cmd.Args().First()), printable(cmd.Args().First()))
				return nil
			})},
		{Name: "remove-secret", Usage: "take a client secret back", ArgsUsage: "WORKLOAD SECRET", Action: a.signedIn(2, 2, "WORKLOAD SECRET", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			id, err := strconv.ParseInt(cmd.Args().Get(1), 10, 64)
			if err != nil {
				return usage("%q is no client secret's number; \"adytum workload secrets %s\" shows them", printable(cmd.Args().Get(1)), printable(cmd.Args().First()))
			}
			if err := c.RemoveClientSecret(ctx, cmd.Args().First(), id); err != nil {
				return err
			}
			a.say("Client secret %d signs in nobody any more; tokens that it was exchanged for end within the hour.", id)
			return nil
		})},
	}
}

// trusts manages whose signed tokens a workload signs in with.
func (a *app) trusts() []*cli.Command {
	return []*cli.Command{
		{Name: "trusts", Usage: "list whose signed tokens a workload signs in with", ArgsUsage: "WORKLOAD", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(1, 1, "WORKLOAD", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.Trusts(ctx, cmd.Args().First())
			if err != nil {
				return err
			}
			return list(a, cmd, all, []string{"TRUST", "ISSUER", "SUBJECT", "CLAIMS"}, func(t wire.Trust) []string {
				var claims []string
				for _, name := range slices.Sorted(maps.Keys(t.Claims)) {
					claims = append(claims, name+"="+t.Claims[name])
				}
				return []string{strconv.FormatInt(t.ID, 10), t.Issuer, t.Subject, strings.Join(claims, " ")}
			})
		})},
		{Name: "trust", Usage: "let a workload sign in with tokens that an issuer has signed", ArgsUsage: "WORKLOAD",
			Flags: []cli.Flag{&cli.StringFlag{Name: "issuer", Usage: "the issuer `NAME`", Required: true},
				&cli.StringFlag{Name: "subject", Usage: "the token's subject, in which * stands for one whole segment between : or /", Required: true},
				&cli.StringSliceFlag{Name: "claim", Usage: "`NAME=VALUE` that the token must say exactly; can be repeated"}},
			Action: a.signedIn(1, 1, "WORKLOAD", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				t := wire.NewTrust{Issuer: cmd.String("issuer"), Subject: cmd.String("subject"), Claims: map[string]string{}}
				for _, claim := range cmd.StringSlice("claim") {
					name, value, found := strings.Cut(claim, "=")
					if !found || name == "" {
						return usage("--claim is NAME=VALUE")
					}
					t.Claims[name] = value
				}
				out, err := c.AddTrust(ctx, cmd.Args().First(), t)
				if err == nil {
					a.say("%s signs in with tokens of %s whose subject is %s (trust %d).", printable(cmd.Args().First()), printable(out.Issuer), printable(out.Subject), out.ID)
				}
				return err
			})},
		{Name: "distrust", Usage: "take a trust back", ArgsUsage: "WORKLOAD TRUST", Action: a.signedIn(2, 2, "WORKLOAD TRUST", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			id, err := strconv.ParseInt(cmd.Args().Get(1), 10, 64)
			if err != nil {
				return usage("%q is no trust's number; \"adytum workload trusts %s\" shows them", printable(cmd.Args().Get(1)), printable(cmd.Args().First()))
			}
			if err = c.RemoveTrust(ctx, cmd.Args().First(), id); err == nil {
				a.say("Trust %d is gone; tokens that were given before end within the hour.", id)
			}
			return err
		})},
	}
}

func (a *app) issuer() *cli.Command {
	return a.noun("issuer", "manage whose signed tokens are accepted",
		&cli.Command{Name: "list", Usage: "list issuers", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.Issuers(ctx)
			if err != nil {
				return err
			}
			return list(a, cmd, all, []string{"ISSUER", "ADDRESS", "AUDIENCE OF ITS TOKENS"}, func(i wire.Issuer) []string { return []string{i.Name, i.URL, i.Audience} })
		})},
		&cli.Command{Name: "add", Usage: "accept the signed tokens of an issuer, for workloads that trust them", ArgsUsage: "ISSUER URL", Action: a.signedIn(2, 2, "ISSUER URL", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			i, err := c.AddIssuer(ctx, wire.NewIssuer{Name: cmd.Args().Get(0), URL: cmd.Args().Get(1)})
			if err == nil {
				a.say("Tokens of %s are accepted where their only audience is %s; \"adytum workload trust\" says for whom.", printable(i.Name), i.Audience)
			}
			return err
		})},
		&cli.Command{Name: "remove", Usage: "accept an issuer's tokens no more", ArgsUsage: "ISSUER", Flags: []cli.Flag{yesFlag()}, Action: a.signedIn(1, 1, "ISSUER", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			name := printable(cmd.Args().First())
			if err := a.agreed(cmd, "removing the issuer "+name, "Accept no more tokens of "+name+"? Workloads that trust it cannot sign in that way any more."); err != nil {
				return err
			}
			err := c.RemoveIssuer(ctx, cmd.Args().First())
			if err == nil {
				a.say("Tokens of %s are accepted no more.", name)
			}
			return err
		})})
}

func orNever(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return moment(t)
}

// grantLimits says within what a grant holds.
func grantLimits(g wire.Grant) string {
	var limits []string
	if g.Names != "" {
		limits = append(limits, "names "+g.Names)
	}
	if len(g.From) > 0 {
		limits = append(limits, "from "+strings.Join(g.From, ", "))
	}
	if !g.Until.IsZero() {
		limits = append(limits, "until "+moment(g.Until))
	}
	return strings.Join(limits, "; ")
}
