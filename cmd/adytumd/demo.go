package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"adytum.example/demo"
)

func demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "run an installation of its own with the data of the made-up Fernhollow Libraries",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "home", Usage: "`FOLDER` that holds everything of the demo"},
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8743", Usage: "`ADDRESS` on loopback to serve on; port 0 for any that is free"},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Value: "text", Usage: "text, or json: one line when all is ready"},
		},
		Action: runDemo,
	}
}

func runDemo(ctx context.Context, cmd *cli.Command) error {
	if err := required(cmd, "home"); err != nil {
		return err
	}
	output := cmd.String("output")
	if output != "text" && output != "json" {
		return fmt.Errorf("the output %q is none; there are text and json", output)
	}
	if err := os.MkdirAll(cmd.String("home"), 0o711); err != nil {
		return fmt.Errorf("make the demo's home: %w", err)
	}
	logFile, err := os.OpenFile(filepath.Join(cmd.String("home"), "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("open the demo's log: %w", err)
	}
	defer logFile.Close()
	if output == "text" {
		fmt.Fprintln(os.Stderr, "Starting the demo of the Fernhollow Libraries …")
	}
	options := demo.Options{Home: cmd.String("home"), Listen: cmd.String("listen"), Log: slog.New(slog.NewJSONHandler(logFile, nil))}
	return demo.Run(ctx, options, func(d demo.Demo) error {
		if output == "json" {
			return json.NewEncoder(os.Stdout).Encode(d)
		}
		return tell(os.Stdout, d)
	})
}

// tell says what one needs to begin, first things first.
func tell(out io.Writer, d demo.Demo) error {
	w := func(format string, args ...any) { fmt.Fprintf(out, format, args...) }
	w("\nThe demo is ready.\n\n  Console   %s\n\n  Sign in as\n", d.URL)
	for _, p := range d.People {
		w("    %-18s %-28s %s\n", p.Name, p.Login, p.Password)
	}
	w("\n  Workloads\n")
	for _, x := range d.Workloads {
		w("    %-18s %-28s %s\n", x.Name, x.ClientID, x.ClientSecret)
	}
	w("\n  Stand-ins for others (they let in whoever asks)\n    accounts of people   %s  (sign in through fernhollow, as Sunniva Halloran)\n    a pipeline's runner  %s\n    a cluster            %s\n",
		d.StandIns.Accounts, d.StandIns.Runner, d.StandIns.Cluster)
	w("\n  Repositories to sweep\n")
	for _, r := range d.Repositories {
		w("    %s\n", r)
	}
	executable, err := os.Executable()
	if err != nil {
		return err
	}
	w("\n  Begin with\n    %s login %s --login %s\n\n  The database's administrator: %s\n  Everything lies in %s. Ctrl-C ends the demo.\n\n",
		filepath.Join(filepath.Dir(executable), "adytum"), d.URL, d.People[1].Login, d.Database, d.Home)
	return nil
}
