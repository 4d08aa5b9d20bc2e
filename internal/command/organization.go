package command

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
)

// organization shows the organization, and what it asks of everybody.
func (a *app) organization() *cli.Command {
	return a.noun("organization", "the organization, and what it asks of everybody",
		&cli.Command{Name: "show", Usage: "show it", Flags: []cli.Flag{outputFlag("text", "json")}, Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			o, err := c.Organization(ctx)
			if err != nil {
				return err
			}
			if cmd.String("output") == "json" {
				return a.json(o)
			}
			codes := "asks nobody for codes who has set none up"
			if o.Codes {
				codes = "asks everybody for codes who signs in with a password"
			}
			fmt.Fprintf(a.out, "%s %s\n", printable(o.Name), codes)
			return nil
		})},
		&cli.Command{Name: "edit", Usage: "change what it asks of everybody", Flags: []cli.Flag{&cli.BoolFlag{Name: "codes", Usage: "whoever signs in with a password must have codes (--codes=false: may)"}},
			Action: a.signedIn(0, 0, "", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				var edit wire.OrganizationEdit
				given(cmd, "codes", &edit.Codes, cmd.Bool)
				if edit == (wire.OrganizationEdit{}) {
					return usage("say what to change: --codes")
				}
				o, err := c.EditOrganization(ctx, edit)
				if err == nil && o.Codes {
					a.say("Whoever signs in with a password and has no codes can do nothing else now but set them up.")
				} else if err == nil {
					a.say("Codes are everybody's own choice now.")
				}
				return err
			})})
}
