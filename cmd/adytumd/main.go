// Command adytumd is the service.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/urfave/cli/v3"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/daemon"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if err := secret.HardenProcess(); err != nil {
		fmt.Fprintln(os.Stderr, "adytumd: warning:", err)
	}
	if err := root().Run(ctx, os.Args); err != nil {
		fmt.Fprintln(os.Stderr, "adytumd:", err)
		os.Exit(1)
	}
}

func root() *cli.Command {
	return &cli.Command{
		Name:      "adytumd",
		Usage:     "keep credentials encrypted, resolve references to them, record who did what",
		UsageText: "adytumd COMMAND [OPTIONS]",
		Flags:     append([]cli.Flag{configFlag()}, settingFlags()...),
		Commands:  []*cli.Command{serveCommand(), setupCommand(), migrateCommand(), demoCommand()},
		OnUsageError: func(_ context.Context, _ *cli.Command, err error, _ bool) error {
			return fmt.Errorf("%w; \"adytumd --help\" lists what there is", err)
		},
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
	}
}

func configFlag() cli.Flag {
	return &cli.StringFlag{Name: "config", Value: "/etc/adytum/adytumd.yaml", Usage: "configuration `FILE`"}
}

var settingUsage = map[string]string{
	"listen":           "`ADDRESS` to serve on, HOST:PORT",
	"database":         "`URL` of the database for the role adytum_service",
	"database-flush":   "`URL` of the database for the role adytum_flush",
	"database-migrate": "`URL` of the database for the role adytum_migrate",
	"root-key-file":    "`FILE` that holds the root key",
	"tls-certificate":  "PEM `FILE` of the certificate; needed unless on loopback",
	"tls-private-key":  "PEM `FILE` of the certificate's key",
	"log-level":        "debug, info, warn or error",
	"log-format":       "json or text",
}

func settingFlags() []cli.Flag {
	var flags []cli.Flag
	for _, s := range (&daemon.Config{}).Settings() {
		flags = append(flags, &cli.StringFlag{Name: s.Key, Usage: settingUsage[s.Key] + " (" + daemon.Variable(s.Key) + ")"})
	}
	return flags
}

// configuration reads it in the order file, environment, flags.
func configuration(cmd *cli.Command) (daemon.Config, error) {
	c, err := daemon.Load(cmd.String("config"), cmd.IsSet("config"), os.LookupEnv)
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
