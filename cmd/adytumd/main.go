// Command adytumd is the service.
package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/daemon"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	// What reads our output may end before us; that must not end us half-way.
	signal.Ignore(syscall.SIGPIPE)
	if err := secret.HardenProcess(); err != nil {
		fmt.Fprintln(os.Stderr, "adytumd: warning:", err)
	}
	if err := root().Run(ctx, os.Args); err != nil {
		fmt.Fprintln(os.Stderr, "adytumd:", err)
		os.Exit(1)
	}
}

func root() *cli.Command {
	usage := func(_ context.Context, cmd *cli.Command, err error, _ bool) error {
		return fmt.Errorf("%w; \"%s --help\" lists what there is", err, cmd.FullName())
	}
	commands := []*cli.Command{serveCommand(), setupCommand(), migrateCommand(), backupCommand(), recoverCommand(), rekeyCommand(), acceptTrailCommand(), demoCommand()}
	for _, c := range commands {
		c.OnUsageError, c.HideHelpCommand = usage, true
	}
	return &cli.Command{
		Name:         "adytumd",
		Usage:        "keep credentials encrypted, resolve references to them, record who did what",
		UsageText:    "adytumd COMMAND [OPTIONS]",
		Flags:        append([]cli.Flag{configFlag()}, settingFlags()...),
		Commands:     commands,
		OnUsageError: usage,
		Action: func(_ context.Context, cmd *cli.Command) error {
			if cmd.Args().Present() {
				return fmt.Errorf("there is no command %q; \"adytumd --help\" lists them", cmd.Args().First())
			}
			return cli.ShowRootCommandHelp(cmd)
		},
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
	}
}

func configFlag() cli.Flag {
	return &cli.StringFlag{Name: "config", Value: "/etc/adytum/adytumd.yaml", Usage: "configuration `FILE`"}
}

var settingUsage = map[string]string{
	"listen":             "`ADDRESS` to serve on, HOST:PORT",
	"database":           "`URL` of the database for the role adytum_service",
	"database-flush":     "`URL` of the database for the role adytum_flush",
	"database-migrate":   "`URL` of the database for the role adytum_migrate",
	"database-jobs":      "`URL` of the database for the role adytum_jobs; without it no background work is done here",
	"root-key-file":      "`FILE` that holds the root key",
	"tls-certificate":    "PEM `FILE` of the certificate; needed unless on loopback",
	"tls-private-key":    "PEM `FILE` of the certificate's key",
	"log-level":          "debug, info, warn or error",
	"log-format":         "json or text",
	"trusted-proxies":    "networks of proxies that say in X-Forwarded-For whom a request comes from",
	"checkpoint-file":    "`FILE` beside the database to keep the trail's newest checkpoint in, so that a database that is set back is not served",
	"smtp-server":        "`ADDRESS` of a server to send mail through, HOST:PORT; by TLS, unless on loopback",
	"smtp-from":          "mail `ADDRESS` that alerts come from",
	"smtp-user":          "`NAME` to sign in to the mail server with",
	"smtp-password-file": "`FILE` that holds the password for the mail server",
	"keep-trail-days":    "after how many `DAYS` events of the trail are given up, 90 or more; 0 keeps them all",
}

func settingFlags() []cli.Flag {
	var flags []cli.Flag
	for _, s := range (&daemon.Config{}).Settings() {
		flags = append(flags, &cli.StringFlag{Name: s.Key, Usage: settingUsage[s.Key] + " (" + daemon.Variable(s.Key) + ")"})
	}
	return flags
}

// required names every option that is missing.
func required(cmd *cli.Command, names ...string) error {
	var missing []string
	for _, name := range names {
		if cmd.String(name) == "" {
			missing = append(missing, "--"+name)
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("%s needs %s; \"%s --help\" says more", cmd.Name, strings.Join(missing, ", "), cmd.FullName())
	}
	return nil
}

// configuration reads it in the order file, environment, flags.
func configuration(cmd *cli.Command) (daemon.Config, error) {
	// A set-up that makes the database writes the file that is named.
	named := cmd.IsSet("config") && cmd.String("admin-database-file") == ""
	c, err := daemon.Load(cmd.String("config"), named, os.LookupEnv)
	if err != nil {
		return c, err
	}
	for _, s := range c.Settings() {
		if cmd.IsSet(s.Key) {
			*s.Target = cmd.String(s.Key)
		}
	}
	return c, nil
}

// configured reads the configuration and makes the logger that it asks for.
func configured(cmd *cli.Command) (daemon.Config, *slog.Logger, error) {
	c, err := configuration(cmd)
	if err != nil {
		return c, nil, err
	}
	log, err := c.Logger(os.Stderr)
	return c, log, err
}
