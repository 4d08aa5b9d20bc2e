package command

import (
	"bufio"
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
)

// invitation prints an invitation, this once.
func (a *app) invitation(c *client.Client, p wire.Person) {
	fmt.Fprintf(a.out, "%s/welcome#%s\n", c.Address(), p.Invitation)
	a.say("This link is shown this once and good until %s. Give it to %s over a channel that you trust: whoever opens it first chooses the password. Without a browser, \"adytum welcome %s\" takes it too.", moment(p.InvitationEnds), printable(p.Name), c.Address())
}

func (a *app) personChanges() []*cli.Command {
	return []*cli.Command{
		{Name: "reset", Usage: "end a person's sessions, password and codes, and print an invitation to choose a new password", ArgsUsage: "LOGIN", Flags: []cli.Flag{yesFlag()},
			Action: a.signedIn(1, 1, "LOGIN", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				login := cmd.Args().First()
				if err := a.agreed(cmd, "resetting "+printable(login), "End all sessions of "+printable(login)+", their password and their codes?"); err != nil {
					return err
				}
				p, err := c.ResetPerson(ctx, login)
				if err == nil {
					a.invitation(c, p)
				}
				return err
			})},
		{Name: "remove", Usage: "end a person's sessions, take away what they were granted, and erase their login and name", ArgsUsage: "LOGIN", Flags: []cli.Flag{yesFlag()},
			Action: a.signedIn(1, 1, "LOGIN", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				login := cmd.Args().First()
				if err := a.agreed(cmd, "removing "+printable(login), "Remove "+printable(login)+"? \"adytum explain --person LOGIN --obtained\" says first what they have obtained."); err != nil {
					return err
				}
				err := c.RemovePerson(ctx, login)
				if err == nil {
					a.say("%s can sign in no more; what they have obtained before is for you to replace.", printable(login))
				}
				return err
			})},
	}
}

// welcome accepts an invitation.
func (a *app) welcome() *cli.Command {
	return a.command(&cli.Command{Name: "welcome", Usage: "choose a password with an invitation", ArgsUsage: "URL",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "stdin", Usage: "read the invitation from the first line of standard input and the password from the second"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := arguments(cmd, 1, 1, "URL"); err != nil {
				return err
			}
			c, err := client.New(cmd.Args().First())
			if err != nil {
				return usage("%w", err)
			}
			var request wire.Acceptance
			if cmd.Bool("stdin") {
				lines := bufio.NewScanner(a.in)
				for _, to := range []*string{&request.Invitation, &request.Password} {
					if lines.Scan() {
						*to = strings.TrimRight(lines.Text(), "\r")
					}
				}
			} else {
				for _, ask := range []struct {
					to           *string
					prompt, what string
				}{{&request.Invitation, "Invitation: ", "the invitation"}, {&request.Password, "New password (15 characters or more): ", "the password"}} {
					typed, err := a.secretInput(false, ask.prompt, ask.what, "--stdin")
					if err != nil {
						return err
					}
					*ask.to = strings.TrimSpace(string(typed))
				}
			}
			if _, invitation, isLink := strings.Cut(request.Invitation, "#"); isLink {
				request.Invitation = invitation
			}
			p, err := c.Accept(ctx, request)
			if err == nil {
				a.say("Welcome, %s. \"adytum login %s --login %s\" signs you in.", printable(p.Name), c.Address(), printable(p.Login))
			}
			return err
		}})
}

// password changes one's own password.
func (a *app) password() *cli.Command {
	return a.command(&cli.Command{Name: "password", Usage: "give yourself another password; other sessions end",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "stdin", Usage: "read the present password from the first line of standard input and the new one from the second"}},
		Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			var change wire.PasswordChange
			if cmd.Bool("stdin") {
				lines := bufio.NewScanner(a.in)
				for _, to := range []*string{&change.Old, &change.New} {
					if lines.Scan() {
						*to = strings.TrimRight(lines.Text(), "\r")
					}
				}
			} else {
				for _, ask := range []struct {
					to     *string
					prompt string
				}{{&change.Old, "Present password: "}, {&change.New, "New password (15 characters or more): "}} {
					typed, err := a.secretInput(false, ask.prompt, "the password", "--stdin")
					if err != nil {
						return err
					}
					*ask.to = strings.TrimRight(string(typed), "\r\n")
				}
			}
			err := c.ChangePassword(ctx, change)
			if err == nil {
				a.say("The password is changed; your other sessions have ended.")
			}
			return err
		})})
}

// code manages one's own time-based codes.
func (a *app) code() *cli.Command {
	return a.noun("code", "manage your time-based sign-in codes",
		&cli.Command{Name: "add", Usage: "begin with codes: prints the seed for your authenticator, this once", Flags: []cli.Flag{outputFlag("text", "json")},
			Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				f, err := c.BeginCode(ctx)
				if err != nil {
					return err
				}
				if cmd.String("output") == "json" {
					return a.json(f)
				}
				fmt.Fprintf(a.out, "%s\n%s\n", f.Secret, f.URI)
				a.say("Give your authenticator either line; then \"adytum code confirm CODE\" with the code that it shows. Codes are not asked for before that.")
				return nil
			})},
		&cli.Command{Name: "confirm", Usage: "have codes asked for from now on: prints recovery codes, this once", ArgsUsage: "CODE",
			Action: a.signedIn(1, 1, "CODE", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				out, err := c.ConfirmCode(ctx, cmd.Args().First())
				if err != nil {
					return err
				}
				for _, code := range out.Codes {
					fmt.Fprintln(a.out, code)
				}
				a.say("From now on signing in asks for a code. Each of these recovery codes is good once in its place; they are shown this once.")
				return nil
			})},
		&cli.Command{Name: "remove", Usage: "have codes asked for no more", ArgsUsage: "CODE",
			Action: a.signedIn(1, 1, "CODE", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				err := c.RemoveCode(ctx, cmd.Args().First())
				if err == nil {
					a.say("Signing in asks for no code any more.")
				}
				return err
			})})
}

// session lists and ends sessions.
func (a *app) session() *cli.Command {
	whom := func() []cli.Flag {
		return []cli.Flag{&cli.StringFlag{Name: "person", Usage: "of the person with `LOGIN`; yours without it"}, &cli.StringFlag{Name: "workload", Usage: "of the workload `NAME`"}}
	}
	of := func(cmd *cli.Command) (kind, who string) {
		if w := cmd.String("workload"); w != "" {
			return "workload", w
		}
		return "person", cmd.String("person")
	}
	return a.noun("session", "manage where you are signed in",
		&cli.Command{Name: "list", Usage: "list sessions", Flags: append(whom(), listFlag()), Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			kind, who := of(cmd)
			all, err := c.Sessions(ctx, kind, who)
			if err != nil {
				return err
			}
			return list(a, cmd, all, []string{"SESSION", "SINCE", "UNTIL", "FROM", ""}, func(s wire.OpenSession) []string {
				this := ""
				if s.Current {
					this = "this one"
				}
				return []string{strconv.FormatInt(s.ID, 10), moment(s.Since), moment(s.Until), s.From, this}
			})
		})},
		&cli.Command{Name: "end", Usage: "end a session, or all but this one", ArgsUsage: "SESSION | --all", Flags: append(whom(), &cli.BoolFlag{Name: "all", Usage: "all but this one"}),
			Action: a.signedIn(0, 1, "SESSION, or --all", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				var id int64
				if cmd.Args().Present() == cmd.Bool("all") {
					return usage("which? adytum session end SESSION, or --all for all but this one")
				}
				if cmd.Args().Present() {
					var err error
					if id, err = strconv.ParseInt(cmd.Args().First(), 10, 64); err != nil || id < 1 {
						return usage("%q is no session's number; \"adytum session list\" shows them", printable(cmd.Args().First()))
					}
				}
				kind, who := of(cmd)
				err := c.EndSessions(ctx, kind, who, id)
				if err == nil {
					a.say("Ended.")
				}
				return err
			})})
}
