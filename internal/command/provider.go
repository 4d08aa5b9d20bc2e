package command

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
)

// provider manages the identity providers that people sign in through.
func (a *app) provider() *cli.Command {
	return a.noun("provider", "identity providers that people sign in through (OpenID Connect)",
		&cli.Command{Name: "list", Usage: "list providers", Flags: []cli.Flag{listFlag()}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			all, err := c.Providers(ctx)
			if err != nil {
				return err
			}
			if len(all) == 0 && cmd.String("output") == "table" {
				a.say("People sign in with passwords alone.")
				return nil
			}
			return list(a, cmd, all, []string{"PROVIDER", "ADDRESS", "CLIENT ID"}, func(p wire.Provider) []string { return []string{p.Name, p.URL, p.ClientID} })
		})},
		&cli.Command{Name: "add", Usage: "let people sign in through a provider", ArgsUsage: "PROVIDER", Flags: []cli.Flag{
			&cli.StringFlag{Name: "url", Usage: "the provider's `ADDRESS`, exactly as it calls itself"}, &cli.StringFlag{Name: "client-id", Usage: "the `ID` under which this service is registered there"},
			&cli.BoolFlag{Name: "client-secret-stdin", Usage: "read the client secret from standard input"}},
			Action: a.signedIn(1, 1, "PROVIDER", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				clientSecret, err := a.secretInput(cmd.Bool("client-secret-stdin"), "Client secret: ", "the client secret", "--client-secret-stdin")
				if err != nil {
					return err
				}
				p, err := c.AddProvider(ctx, wire.NewProvider{Name: cmd.Args().First(), URL: cmd.String("url"), ClientID: cmd.String("client-id"), ClientSecret: strings.TrimRight(string(clientSecret), "\r\n")})
				if err == nil {
					a.say("People can sign in through %s. Register %s/api/v1/console/callback there as the address to come back to.", printable(p.Name), c.Address())
					a.say("Who does is named with \"adytum person add LOGIN --provider %s\"; the login is their e-mail address there.", printable(p.Name))
				}
				return err
			})},
		&cli.Command{Name: "remove", Usage: "let nobody sign in through a provider any more, and sign out who did", ArgsUsage: "PROVIDER",
			Action: a.signedIn(1, 1, "PROVIDER", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				if err := c.RemoveProvider(ctx, cmd.Args().First()); err != nil {
					return err
				}
				a.say("Nobody signs in through %s any more; who did is signed out.", printable(cmd.Args().First()))
				return nil
			})})
}
