package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/daemon"
	"adytum.example/internal/service"
	"adytum.example/internal/storage"
)

func serveCommand() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "serve the interface and the console until ended",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, log, err := configured(cmd)
			if err != nil {
				return err
			}
			return daemon.Serve(ctx, c, log, func(string) {})
		},
	}
}

func migrateCommand() *cli.Command {
	return &cli.Command{
		Name: "migrate", Usage: "bring the database's tables to this version, as their owner",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, err := configuration(cmd)
			if err != nil {
				return err
			}
			if c.Migrate == "" {
				return fmt.Errorf("the setting database-migrate is missing; set it in the configuration file or as %s", daemon.Variable("database-migrate"))
			}
			return daemon.Migrate(ctx, c.Migrate)
		},
	}
}

func setupCommand() *cli.Command {
	return &cli.Command{
		Name: "setup", Usage: "make a new installation: roles, tables, root key, first owner",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "organization", Usage: "`NAME` of the organization"},
			&cli.StringFlag{Name: "owner-login", Usage: "`LOGIN` of the first owner"},
			&cli.StringFlag{Name: "owner-name", Usage: "`NAME` of the first owner"},
			&cli.BoolFlag{Name: "password-stdin", Usage: "read the owner's password from standard input"},
			&cli.StringFlag{Name: "admin-database-file", Usage: "`FILE` with the URL of the database's administrator: the roles and the database are made through it, and a configuration file with their URLs is written to --config"},
		},
		Action: setUp,
	}
}

func setUp(ctx context.Context, cmd *cli.Command) error {
	if err := required(cmd, "organization", "owner-login", "owner-name"); err != nil {
		return err
	}
	c, err := configuration(cmd)
	if err != nil {
		return err
	}
	password, err := ownerPassword(cmd)
	if err != nil {
		return err
	}
	log, err := c.Logger(os.Stderr)
	if err != nil {
		return err
	}
	if path := cmd.String("admin-database-file"); path != "" {
		if err := makeDatabase(ctx, cmd, &c, path); err != nil {
			return err
		}
	}
	if c.Database == "" || c.Migrate == "" {
		return errors.New("the settings database and database-migrate are missing; set them, or let --admin-database-file make the roles and the database")
	}
	owner := service.Owner{Login: cmd.String("owner-login"), Name: cmd.String("owner-name"), Password: password}
	if err := daemon.SetUp(ctx, c, cmd.String("organization"), owner, log); err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "%s is set up; its root key is %s: keep a copy of it somewhere safe, without it nothing can be read.\nStart the service with \"adytumd serve\".\n", cmd.String("organization"), c.RootKeyFile)
	return nil
}

// makeDatabase makes roles and database, and writes the configuration with their URLs.
func makeDatabase(ctx context.Context, cmd *cli.Command, c *daemon.Config, path string) error {
	admin, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("read the administrator's database URL: %w", err)
	}
	configPath := cmd.String("config")
	if _, err := os.Stat(configPath); err == nil {
		return fmt.Errorf("%s exists already; without --admin-database-file the database that it names is set up", configPath)
	}
	urls, err := storage.Bootstrap(ctx, strings.TrimSpace(string(admin)), "adytum")
	if err != nil {
		return err
	}
	c.Database, c.Flush, c.Migrate, c.Jobs = urls.Service, urls.Flush, urls.Migrate, urls.Jobs
	var text strings.Builder
	for _, s := range c.Settings() {
		if *s.Target != "" {
			fmt.Fprintf(&text, "%s: %q\n", s.Key, *s.Target)
		}
	}
	if err := os.WriteFile(configPath, []byte(text.String()), 0o600); err != nil {
		return fmt.Errorf("write the configuration: %w", err)
	}
	return nil
}

func ownerPassword(cmd *cli.Command) (secret.Value, error) {
	if cmd.Bool("password-stdin") {
		line, err := bufio.NewReader(os.Stdin).ReadString('\n')
		if err != nil && line == "" {
			return secret.Value{}, errors.New("standard input holds no password")
		}
		return secret.FromString(strings.TrimRight(line, "\r\n")), nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return secret.Value{}, errors.New("the owner's password is asked for on a terminal, and this is none; use --password-stdin")
	}
	fmt.Fprint(os.Stderr, "Password of the first owner (15 characters or more): ")
	b, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(os.Stderr)
	return secret.New(b), err
}
