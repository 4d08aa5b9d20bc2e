package command

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/envelope"
)

func becauseFlag() cli.Flag {
	return &cli.StringFlag{Name: "because", Aliases: []string{"b"}, Usage: "`REASON` that the change is recorded with"}
}

func (a *app) keep() *cli.Command {
	return a.command(&cli.Command{
		Name: "keep", Usage: "store values as one change", ArgsUsage: "[NAME…]",
		Description: "Each NAME is a secret, asked for without echo; with one NAME, --stdin or --from-file takes its value from there.\nA plain setting is --setting NAME=VALUE.",
		Flags: append(placeFlags(), layerFlag(), becauseFlag(),
			&cli.BoolFlag{Name: "stdin", Usage: "take the one secret's value from standard input, byte for byte but for one line end"},
			&cli.StringFlag{Name: "from-file", Usage: "take the one secret's value from `FILE`, byte for byte"},
			&cli.StringSliceFlag{Name: "setting", Aliases: []string{"s"}, Usage: "a plain `NAME=VALUE`; can be repeated"},
			&cli.StringSliceFlag{Name: "nothing", Usage: "`NAME` to hide here what lies farther away; can be repeated"},
		),
		DisableSliceFlagSeparator: true,
		Action:                    a.runKeep,
	})
}

func (a *app) runKeep(ctx context.Context, cmd *cli.Command) error {
	names := cmd.Args().Slice()
	for _, name := range names {
		if before, _, found := strings.Cut(name, "="); found {
			return usage("the value of %s came as an argument, which process lists and the shell's history show; give the name alone and type the value, or use --stdin or --from-file (a plain setting is --setting NAME=VALUE)", printable(before))
		}
	}
	request := wire.ChangeRequest{Reason: cmd.String("because")}
	for _, pair := range cmd.StringSlice("setting") {
		name, value, found := strings.Cut(pair, "=")
		if !found {
			return usage("--setting takes NAME=VALUE, and %q has no \"=\"", printable(name))
		}
		request.Edits = append(request.Edits, wire.Edit{Name: name, Kind: "setting", Value: value})
	}
	for _, name := range cmd.StringSlice("nothing") {
		request.Edits = append(request.Edits, wire.Edit{Name: name, Kind: "nothing"})
	}
	if len(names)+len(request.Edits) == 0 {
		return usage("name what to keep: adytum keep NAME… or --setting NAME=VALUE")
	}
	place, err := a.layerPlace(cmd)
	if err != nil {
		return err
	}
	c, err := a.client(ctx)
	if err != nil {
		return err
	}
	for i, name := range names {
		value, err := a.keptValue(cmd, names, i)
		if err != nil {
			return err
		}
		request.Edits = append(request.Edits, secretEdit(name, value))
	}
	return a.commit(ctx, c, place, request)
}

// keptValue obtains the value of one name.
func (a *app) keptValue(cmd *cli.Command, names []string, i int) ([]byte, error) {
	file, stdin := cmd.String("from-file"), cmd.Bool("stdin")
	if (file != "" || stdin) && len(names) > 1 {
		return nil, usage("--stdin and --from-file hold one value, and %d names were given; keep them one by one", len(names))
	}
	if file != "" {
		info, err := os.Stat(file)
		if err != nil {
			return nil, fmt.Errorf("read the value: %w", err)
		}
		if info.Size() > envelope.MaxValue {
			return nil, fmt.Errorf("%s has %d bytes, and a value has at most 1 MiB", file, info.Size())
		}
		return os.ReadFile(file)
	}
	value, err := a.secretInput(stdin, "Value of "+printable(names[i])+": ", "the value of "+printable(names[i]), "--stdin or --from-file")
	if err != nil {
		return nil, err
	}
	if stdin {
		value = []byte(strings.TrimSuffix(strings.TrimSuffix(string(value), "\n"), "\r"))
	}
	if len(value) == 0 {
		return nil, fmt.Errorf("the value of %s is empty; nothing was kept", printable(names[i]))
	}
	return value, nil
}

func secretEdit(name string, value []byte) wire.Edit {
	if !utf8.Valid(value) {
		return wire.Edit{Name: name, Kind: "secret", Value: base64.StdEncoding.EncodeToString(value), Encoding: "base64"}
	}
	return wire.Edit{Name: name, Kind: "secret", Value: string(value), Encoding: "text"}
}

// commit makes a change and says what it did.
func (a *app) commit(ctx context.Context, c *client.Client, place client.Place, request wire.ChangeRequest) error {
	change, err := c.Change(ctx, place, client.AnyRevision, request)
	if err != nil {
		return err
	}
	a.say("%s is now at revision %d:", placeName(place), change.Revision)
	for _, e := range change.Effects {
		version := ""
		if e.Version > 0 {
			version = fmt.Sprintf(", version %d", e.Version)
		}
		a.say("  %s %s (%s%s)", printable(e.Name), e.Act, e.Kind, version)
	}
	return nil
}

func (a *app) remove() *cli.Command {
	return a.command(&cli.Command{
		Name: "remove", Usage: "take names out of a layer, as one change", ArgsUsage: "NAME…",
		Flags: append(placeFlags(), layerFlag(), becauseFlag()),
		Action: a.at(a.layerPlace, 1, -1, "NAME…", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			request := wire.ChangeRequest{Reason: cmd.String("because")}
			for _, name := range cmd.Args().Slice() {
				request.Edits = append(request.Edits, wire.Edit{Name: name, Act: "remove"})
			}
			return a.commit(ctx, c, place, request)
		}),
	})
}

func (a *app) list() *cli.Command {
	return a.command(&cli.Command{
		Name: "list", Usage: "list what there is, without the values of secrets",
		Flags: append(placeFlags(), layerFlag(), listFlag()),
		Action: a.at(a.layerPlace, 0, 0, "[OPTIONS]", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			entries, err := c.Entries(ctx, place)
			if err != nil {
				return err
			}
			if len(entries.Entries) == 0 && cmd.String("output") == "table" {
				a.say("%s has no entries yet; \"adytum keep NAME\" stores the first.", placeName(place))
				return nil
			}
			return list(a, cmd, entries.Entries, []string{"NAME", "KIND", "VALUE", "FROM", "VERSION", "AGE", "BY"}, func(e wire.Entry) []string {
				return []string{e.Name, e.Kind, shownValue(e), from(e), strconv.FormatInt(e.Version, 10), age(e.Since), e.Author}
			})
		}),
	})
}

// shownValue is a setting's text, cut to fit a table; a secret's is withheld.
func shownValue(e wire.Entry) string {
	switch e.Kind {
	case "secret":
		return "(withheld)"
	case "nothing":
		return "(nothing)"
	}
	if runes := []rune(e.Setting); len(runes) > 44 {
		return string(runes[:43]) + "…"
	}
	return e.Setting
}

func from(e wire.Entry) string {
	if e.Origin == "here" {
		return "here"
	}
	return e.Layer
}

func (a *app) show() *cli.Command {
	return a.command(&cli.Command{
		Name: "show", Usage: "show one entry, without a secret's value", ArgsUsage: "NAME",
		Flags: append(placeFlags(), outputFlag("text", "json")),
		Action: a.at(a.place, 1, 1, "NAME", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			e, err := c.Entry(ctx, place, cmd.Args().First())
			if err != nil {
				return err
			}
			if cmd.String("output") == "json" {
				return a.json(e)
			}
			line := func(what, text string) { fmt.Fprintf(a.out, "%-11s %s\n", what, printable(text)) }
			line("name", e.Name)
			line("reference", e.Reference)
			if e.Kind == "secret" {
				line("value", "withheld; \"adytum value "+e.Name+"\" prints it and leaves a trail")
			} else {
				line("value", shownValue(e))
			}
			line("kind", e.Kind)
			line("set in", e.Layer+map[bool]string{true: "", false: " (" + placeName(place) + " has it from there)"}[e.Origin == "here"])
			line("version", fmt.Sprintf("%d, kept %s by %s", e.Version, e.Since.Local().Format("2006-01-02 15:04"), e.Author))
			line("elsewhere", e.Absolute)
			return nil
		}),
	})
}

func (a *app) value() *cli.Command {
	return a.command(&cli.Command{
		Name: "value", Usage: "print one bare value, for a script; leaves a trail", ArgsUsage: "NAME",
		Flags: placeFlags(),
		Action: a.at(a.place, 1, 1, "NAME", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			v, err := c.Value(ctx, place, cmd.Args().First())
			if err != nil {
				return err
			}
			content, err := decode(v)
			if err != nil {
				return err
			}
			if _, err := a.out.Write(content); err != nil {
				return err
			}
			if terminal(a.out) {
				fmt.Fprintln(a.out)
			}
			return nil
		}),
	})
}

func decode(v wire.Value) ([]byte, error) {
	if v.Encoding != "base64" {
		return []byte(v.Value), nil
	}
	b, err := base64.StdEncoding.DecodeString(v.Value)
	if err != nil {
		return nil, errors.New("the service sent a value that cannot be decoded")
	}
	return b, nil
}

func (a *app) history() *cli.Command {
	return a.command(&cli.Command{
		Name: "history", Usage: "list the versions of an entry, newest first", ArgsUsage: "NAME",
		Flags: append(placeFlags(), listFlag()),
		Action: a.at(a.place, 1, 1, "NAME", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			h, err := c.History(ctx, place, cmd.Args().First())
			if err != nil {
				return err
			}
			return list(a, cmd, h.Versions, []string{"VERSION", "STATE", "KIND", "KEPT", "BY", "BECAUSE"}, func(v wire.Version) []string {
				return []string{strconv.FormatInt(v.Version, 10), v.State, v.Kind, v.At.Local().Format("2006-01-02 15:04"), v.Author, v.Reason}
			})
		}),
	})
}

func (a *app) changes() *cli.Command {
	return a.command(&cli.Command{
		Name: "changes", Usage: "list what was done to a layer, newest first",
		Flags: append(placeFlags(), layerFlag(), listFlag()),
		Action: a.at(a.layerPlace, 0, 0, "[OPTIONS]", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			all, err := c.Changes(ctx, place)
			if err != nil {
				return err
			}
			return list(a, cmd, all, []string{"REVISION", "WHEN", "BY", "WHAT", "BECAUSE"}, func(c wire.Change) []string {
				var what []string
				for _, e := range c.Effects {
					what = append(what, e.Name+" "+e.Act)
				}
				return []string{strconv.FormatInt(c.Revision, 10), c.At.Local().Format("2006-01-02 15:04"), c.Author, strings.Join(what, ", "), c.Reason}
			})
		}),
	})
}
