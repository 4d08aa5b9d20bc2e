package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"adytum.example/internal/daemon"
)

func backupCommand() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "back the installation up in two parts, data and keys, as of one moment",
		Description: "Secrets are encrypted in both parts; settings are not. Without the root key, which is in neither, no secret can be\nread. Keep the parts with keys for seven days only: those that are older are deleted here by the next backup.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "to", Usage: "`FOLDER` to write to"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := required(cmd, "to"); err != nil {
				return err
			}
			c, log, err := configured(cmd)
			if err != nil {
				return err
			}
			b, err := daemon.MakeBackup(ctx, c, cmd.String("to"), log)
			if err != nil {
				return err
			}
			fmt.Printf("%s\n%s\n", b.Data, b.Keys)
			fmt.Fprintf(os.Stderr, "%d rows are backed up.\n", b.Rows)
			for _, name := range b.Dropped {
				fmt.Fprintf(os.Stderr, "%s held keys for more than seven days and is deleted.\n", name)
			}
			return nil
		},
	}
}

func recoverCommand() *cli.Command {
	return &cli.Command{
		Name: "recover", Usage: "fill an empty database from a backup, and check everything in it",
		Flags: []cli.Flag{&cli.StringFlag{Name: "data", Usage: "`FILE` of the part with data"}, &cli.StringFlag{Name: "keys", Usage: "`FILE` of the part with keys"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := required(cmd, "data", "keys"); err != nil {
				return err
			}
			c, log, err := configured(cmd)
			if err != nil {
				return err
			}
			if c.Migrate == "" {
				return fmt.Errorf("the setting database-migrate is missing; set it in the configuration file or as %s", daemon.Variable("database-migrate"))
			}
			if err := daemon.Migrate(ctx, c.Migrate); err != nil {
				return err
			}
			checked, err := daemon.Recover(ctx, c, cmd.String("data"), cmd.String("keys"), log)
			if err != nil {
				return err
			}
			fmt.Fprintf(os.Stderr, "Recovered and checked: %d layers, %d entries, %d versions, %d secrets that can be opened, %d changes, and a trail that is whole.\nEveryone signs in anew. Start the service with \"adytumd serve\".\n",
				checked.Layers, checked.Entries, checked.Versions, checked.Secrets, checked.Changes)
			return nil
		},
	}
}

func rekeyCommand() *cli.Command {
	return &cli.Command{
		Name: "rekey", Usage: "renew the root key, or the keys of projects, while the service runs",
		Description: "Without an option the root key: the next one is made beside the present one, named as it with \".next\" behind. Where\nseveral instances serve, copy it to the same place on each; this waits until all of them hold it. It can be interrupted\nand run again.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "project", Usage: "renew the keys of `PROJECT` instead"}, &cli.BoolFlag{Name: "all-projects", Usage: "renew the keys of all projects instead"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, log, err := configured(cmd)
			if err != nil {
				return err
			}
			project, all := cmd.String("project"), cmd.Bool("all-projects")
			if project != "" && all {
				return errors.New("name one project with --project, or say --all-projects")
			}
			if project != "" || all {
				if err := daemon.RekeyProjects(ctx, c, project, log, nil); err != nil {
					return err
				}
				fmt.Fprintln(os.Stderr, "The keys are renewed; the old ones are deleted.")
				return nil
			}
			kept, err := daemon.Rekey(ctx, c, log, nil)
			if err != nil {
				return err
			}
			fmt.Fprintf(os.Stderr, "The root key is renewed: %s is the new one.\nThe old one is %s; backups from before need it. Delete it when the last of them is gone, and move \"%s\" into place on every other machine.\n",
				c.RootKeyFile, kept, filepath.Base(daemon.NextRootKey(c.RootKeyFile)))
			return nil
		},
	}
}

func acceptTrailCommand() *cli.Command {
	return &cli.Command{
		Name: "accept-trail", Usage: "serve a database although its trail does not go on from the checkpoint that was kept, and record why",
		Description: "A service with the setting checkpoint-file refuses a database whose trail is shorter than it was, or another one.\nWhere an older state is what is wanted, after a recovery from a backup for example, this says so in the trail and\nkeeps the trail's newest checkpoint from here on. Everyone else who kept a newer one will notice it too.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "because", Usage: "the `REASON`, which goes into the trail"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := required(cmd, "because"); err != nil {
				return err
			}
			c, log, err := configured(cmd)
			if err != nil {
				return err
			}
			if err := daemon.AcceptTrail(ctx, c, cmd.String("because"), log); err != nil {
				return err
			}
			fmt.Fprintln(os.Stderr, "The trail is accepted as it is, and the reason stands in it. Start the service with \"adytumd serve\".")
			return nil
		},
	}
}
