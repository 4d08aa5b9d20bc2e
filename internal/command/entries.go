package command

import (
	"context"
	"encoding/base64"
	"errors"
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

func (a *app) list() *cli.Command {
	return a.command(&cli.Command{
		Name: "list", Usage: "list what there is, without the values of secrets",
		Flags: append(placeFlags(), layerFlag(), listFlag(),
			&cli.StringFlag{Name: "search", Usage: "only names that hold `TEXT`"},
			&cli.StringFlag{Name: "tag", Usage: "only entries with `TAG`"},
			&cli.StringFlag{Name: "owner", Usage: "only entries whose owner holds `TEXT`"},
			&cli.StringFlag{Name: "kind", Usage: "only secret, setting or nothing", Validator: oneOf("kind", "secret", "setting", "nothing")},
			&cli.StringFlag{Name: "state", Usage: "only active, waiting, expired, nothing, aging, removed or destroyed",
				Validator: oneOf("state", "active", "waiting", "expired", "nothing", "aging", "removed", "destroyed")},
			&cli.BoolFlag{Name: "aging", Usage: "only values that are older than they should be"},
			&cli.BoolFlag{Name: "removed", Usage: "what was removed and can be restored"},
			&cli.StringFlag{Name: "same-as", Usage: "where else the value of `NAME` is used, in all places that you may read"},
		),
		Action: a.at(a.layerPlace, 0, 0, "[OPTIONS]", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			if name := cmd.String("same-as"); name != "" {
				return a.listSame(ctx, cmd, c, place, name)
			}
			q := client.Query{Search: cmd.String("search"), Tag: cmd.String("tag"), Owner: cmd.String("owner"), Kind: cmd.String("kind"), State: cmd.String("state")}
			if cmd.Bool("aging") {
				q.State = "aging"
			}
			if cmd.Bool("removed") {
				q.State = "removed"
			}
			entries, err := c.Find(ctx, place, q)
			if err != nil {
				return err
			}
			if len(entries.Entries) == 0 && cmd.String("output") == "table" {
				if q != (client.Query{}) {
					a.say("Nothing in %s is like that.", placeName(place))
				} else {
					a.say("%s has no entries yet; \"adytum keep NAME\" stores the first.", placeName(place))
				}
				return nil
			}
			switch q.State {
			case "removed":
				return list(a, cmd, entries.Entries, []string{"NAME", "KIND", "VERSION", "REMOVED", "RESTORABLE UNTIL"}, func(e wire.Entry) []string {
					return []string{e.Name, e.Kind, strconv.FormatInt(e.Version, 10), moment(e.Since), moment(e.RestorableUntil)}
				})
			case "destroyed":
				return list(a, cmd, entries.Entries, []string{"NAME", "VERSIONS", "DESTROYED"}, func(e wire.Entry) []string {
					return []string{e.Name, strconv.FormatInt(e.Version, 10), moment(e.Since)}
				})
			}
			return list(a, cmd, entries.Entries, []string{"NAME", "KIND", "VALUE", "FROM", "VERSION", "AGE", "BY"}, func(e wire.Entry) []string {
				return []string{e.Name, e.Kind, shownValue(e), from(e), strconv.FormatInt(e.Version, 10), ageOf(e), e.Author}
			})
		}),
	})
}

func (a *app) listSame(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place, name string) error {
	same, err := c.Same(ctx, place, name)
	if err != nil {
		return err
	}
	if len(same.Same) == 0 && cmd.String("output") == "table" {
		a.say("The value of %s is used nowhere else that you may read.", printable(name))
		return nil
	}
	return list(a, cmd, same.Same, []string{"WHERE", "NAME", "KIND", "VERSION", "AGE", "BY"}, func(e wire.Entry) []string {
		return []string{e.Layer, e.Name, e.Kind, strconv.FormatInt(e.Version, 10), ageOf(e), e.Author}
	})
}

// ageOf is how old a value is, and a word where it is older than it should be.
func ageOf(e wire.Entry) string {
	if e.AgedSince.IsZero() {
		return age(e.Since)
	}
	return age(e.Since) + ", too old"
}

// moment is a time for people, in their own zone.
func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04")
}

// shownValue is a setting's text, cut to fit a table; a secret's is withheld.
// What is not in force says so in its place.
func shownValue(e wire.Entry) string {
	switch e.State {
	case "waiting":
		return "(waits until " + moment(e.ActiveFrom) + ")"
	case "expired":
		return "(expired " + moment(e.Expires) + ")"
	case "destroyed":
		return "(destroyed)"
	}
	switch e.Kind {
	case "secret":
		return "(withheld)"
	case "nothing":
		return "(nothing)"
	}
	return shorten(strings.ReplaceAll(strings.TrimRight(e.Setting, "\n"), "\n", "⏎"), 44)
}

func from(e wire.Entry) string {
	switch e.Origin {
	case "here":
		return "here"
	case "private":
		return "your own"
	}
	return e.Layer
}

func (a *app) show() *cli.Command {
	return a.command(&cli.Command{
		Name: "show", Usage: "show one entry, without a secret's value", ArgsUsage: "NAME",
		Flags: append(placeFlags(), layerFlag(), outputFlag("text", "json"), &cli.BoolFlag{Name: "layers", Usage: "list every layer that sets it, and which one wins"}),
		Action: a.at(a.layerPlace, 1, 1, "NAME", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			if cmd.Bool("layers") {
				return a.showLayers(ctx, cmd, c, place)
			}
			e, err := c.Entry(ctx, place, cmd.Args().First())
			if err != nil {
				return err
			}
			if cmd.String("output") == "json" {
				return a.json(e)
			}
			a.showEntry(e, place)
			return nil
		}),
	})
}

func (a *app) showEntry(e wire.Entry, place client.Place) {
	line := func(what, text string) {
		if text != "" {
			fmt.Fprintf(a.out, "%-11s %s\n", what, printable(text))
		}
	}
	line("name", e.Name)
	line("reference", e.Reference)
	if e.Kind == "secret" && e.State == "active" {
		line("value", "withheld; \"adytum value "+e.Name+"\" prints it and leaves a trail")
	} else {
		line("value", shownValue(e))
	}
	line("kind", e.Kind)
	where := map[string]string{"here": "", "private": " (your own value, for you alone)"}
	note, own := where[e.Origin]
	if !own {
		note = " (" + placeName(place) + " has it from there)"
	}
	line("set in", e.Layer+note)
	line("version", fmt.Sprintf("%d, kept %s by %s", e.Version, moment(e.Since), e.Author))
	line("source", e.Source)
	if e.State == "active" {
		line("expires", moment(e.Expires))
	}
	if !e.Coming.IsZero() {
		line("coming", "another version counts from "+moment(e.Coming))
	}
	if !e.AgedSince.IsZero() {
		line("age", "older than it should be since "+moment(e.AgedSince))
	}
	d := e.Details
	for _, text := range []struct {
		what string
		from *string
	}{{"owner", d.Owner}, {"purpose", d.Purpose}, {"link", d.Link}} {
		if text.from != nil {
			line(text.what, *text.from)
		}
	}
	if d.Tags != nil {
		line("tags", strings.Join(*d.Tags, ", "))
	}
	if d.MaxAgeDays != nil {
		line("max age", fmt.Sprintf("%d days", *d.MaxAgeDays))
	}
	if d.Rules != nil {
		line("rules", rulesText(*d.Rules))
	}
	line("elsewhere", e.Absolute)
}

// rulesText is rules in one line.
func rulesText(r wire.Rules) string {
	var parts []string
	add := func(what, text string) {
		if text != "" {
			parts = append(parts, what+" "+text)
		}
	}
	add("type", r.Type)
	add("pattern", r.Pattern)
	add("range", r.Range)
	add("length", r.Length)
	add("choices", strings.Join(r.Choices, "|"))
	for _, environment := range slices.Sorted(maps.Keys(r.AllowedIn)) {
		add("in "+environment, strings.Join(r.AllowedIn[environment], "|"))
	}
	return strings.Join(parts, ", ")
}

func (a *app) showLayers(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
	all, err := c.Layers(ctx, place, cmd.Args().First())
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return a.json(all)
	}
	rows := make([][]string, len(all.Layers))
	for i, e := range all.Layers {
		wins := ""
		if i == all.Wins {
			wins = "wins"
		}
		rows[i] = []string{wins, e.Layer + map[bool]string{true: " (your own)"}[e.Origin == "private"], e.Kind, shownValue(e), strconv.FormatInt(e.Version, 10), ageOf(e), e.Author}
	}
	return a.table([]string{"", "LAYER", "KIND", "VALUE", "VERSION", "AGE", "BY"}, rows)
}

func (a *app) value() *cli.Command {
	return a.command(&cli.Command{
		Name: "value", Usage: "print one bare value, for a script; leaves a trail", ArgsUsage: "NAME",
		Flags: append(placeFlags(), layerFlag()),
		Action: a.at(a.layerPlace, 1, 1, "NAME", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
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
		Flags: append(placeFlags(), layerFlag(), listFlag()),
		Action: a.at(a.layerPlace, 1, 1, "NAME", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			h, err := c.History(ctx, place, cmd.Args().First())
			if err != nil {
				return err
			}
			return list(a, cmd, h.Versions, []string{"VERSION", "STATE", "KIND", "KEPT", "BY", "BECAUSE", "SOURCE"}, func(v wire.Version) []string {
				return []string{strconv.FormatInt(v.Version, 10), stateOf(v), v.Kind, moment(v.At), v.Author, v.Reason, v.Source}
			})
		}),
	})
}

// stateOf is a version's state with the moment that it turns on.
func stateOf(v wire.Version) string {
	switch {
	case v.State == "waiting":
		return "waiting until " + moment(v.ActiveFrom)
	case v.State == "expired":
		return "expired " + moment(v.Expires)
	case v.State == "destroyed":
		return "destroyed " + moment(v.Destroyed)
	case v.State == "active" && !v.Expires.IsZero():
		return "active until " + moment(v.Expires)
	}
	return v.State
}
