package command

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/envelope"
)

func becauseFlag() cli.Flag {
	return &cli.StringFlag{Name: "because", Aliases: []string{"b"}, Usage: "`REASON` that the change is recorded with"}
}

func dryRunFlag() cli.Flag {
	return &cli.BoolFlag{Name: "dry-run", Usage: "say what it would do, and do nothing"}
}

// changeFlags are what every command has that changes a layer.
func changeFlags() []cli.Flag {
	return append(placeFlags(), layerFlag(), becauseFlag(), dryRunFlag(),
		&cli.Int64Flag{Name: "revision", Value: client.AnyRevision, Usage: "the layer's `REVISION` that you looked at; where it has moved on since, you are shown what happened", HideDefault: true})
}

func (a *app) keep() *cli.Command {
	return a.command(&cli.Command{
		Name: "keep", Usage: "store values as one change", ArgsUsage: "[NAME…]",
		Description: "Each NAME is a secret, asked for without echo; with one NAME, --stdin or --from-file takes its value from there,\nand --random or --generate makes it in the service, where nobody sees it. A plain setting is --setting NAME=VALUE.",
		Flags: append(append(changeFlags(),
			&cli.BoolFlag{Name: "stdin", Usage: "take the one secret's value from standard input, byte for byte but for one line end"},
			&cli.StringFlag{Name: "from-file", Usage: "take the one secret's value from `FILE`, byte for byte; - is standard input"},
			&cli.StringSliceFlag{Name: "setting", Aliases: []string{"s"}, Usage: "a plain `NAME=VALUE`; can be repeated"},
			&cli.StringFlag{Name: "setting-file", Usage: "the one NAME is a setting with the text of `FILE`"},
			&cli.StringSliceFlag{Name: "nothing", Usage: "`NAME` to hide here what lies farther away; can be repeated"},
			&cli.StringFlag{Name: "active-from", Usage: "when the value begins to count: `TIME` as 2026-12-01, 2026-12-01T08:00 or in 36h"},
			&cli.StringFlag{Name: "expires", Usage: "when the value ceases to count: `TIME` as 2026-12-01, 2026-12-01T08:00 or in 90d"},
		), append(generateFlags(), detailFlags()...)...),
		DisableSliceFlagSeparator: true,
		Action:                    a.runKeep,
	})
}

func generateFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "random", Usage: "generate a random text: --length, --alphabet"},
		&cli.StringFlag{Name: "generate", Usage: "generate `WHAT`: text, passphrase, uuid, rsa, ec, ed25519 or certificate"},
		&cli.IntFlag{Name: "length", Usage: "characters of a generated text (32)", HideDefault: true},
		&cli.StringFlag{Name: "alphabet", Usage: "of a generated text: alphanumeric, digits, hex, lower, url, clear, symbols, or the characters themselves"},
		&cli.IntFlag{Name: "words", Usage: "of a generated passphrase (8)", HideDefault: true},
		&cli.IntFlag{Name: "bits", Usage: "of a generated RSA (3072) or EC (256) key", HideDefault: true},
		&cli.StringSliceFlag{Name: "host", Usage: "`HOST` that a generated certificate is for; can be repeated"},
		&cli.IntFlag{Name: "days", Usage: "that a generated certificate holds (365)", HideDefault: true},
	}
}

// generation is what is to be generated, nil for nothing.
func generation(cmd *cli.Command) *wire.Generate {
	what := cmd.String("generate")
	if what == "" && cmd.Bool("random") {
		what = "text"
	}
	if what == "" {
		return nil
	}
	return &wire.Generate{What: what, Length: cmd.Int("length"), Alphabet: cmd.String("alphabet"), Words: cmd.Int("words"), Bits: cmd.Int("bits"),
		Hosts: cmd.StringSlice("host"), Days: cmd.Int("days")}
}

func detailFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "owner", Usage: "`WHO` looks after the entry; \"\" for nobody"},
		&cli.StringFlag{Name: "purpose", Usage: "`WHAT` the entry is for"},
		&cli.StringFlag{Name: "link", Usage: "`URL` where the value is managed"},
		&cli.StringSliceFlag{Name: "tag", Usage: "`TAG`; can be repeated, and replaces the tags before"},
		&cli.IntFlag{Name: "max-age", Usage: "`DAYS` after which the value should be replaced; 0: as the environment has it", HideDefault: true},
		&cli.StringFlag{Name: "type", Usage: "`TYPE` that values must have: text, integer, number, boolean, duration, url, email, host, json, base64, pem, choice"},
		&cli.StringFlag{Name: "pattern", Usage: "`REGEXP` that values must match (RE2)"},
		&cli.StringFlag{Name: "range", Usage: "`LOW..HIGH` that numbers must lie in"},
		&cli.StringFlag{Name: "size", Usage: "`LEAST..MOST` characters that values must have"},
		&cli.StringSliceFlag{Name: "choice", Usage: "`VALUE` that is allowed; can be repeated"},
		&cli.BoolFlag{Name: "no-rules", Usage: "take the rules away"},
	}
}

// details are what is said of an entry, nil for nothing.
func details(cmd *cli.Command) *wire.Details {
	var d wire.Details
	said := false
	text := func(to **string, flag string) {
		if cmd.IsSet(flag) {
			value := cmd.String(flag)
			*to, said = &value, true
		}
	}
	text(&d.Owner, "owner")
	text(&d.Purpose, "purpose")
	text(&d.Link, "link")
	if cmd.IsSet("tag") {
		tags := cmd.StringSlice("tag")
		if len(tags) == 1 && tags[0] == "" {
			tags = []string{}
		}
		d.Tags, said = &tags, true
	}
	if cmd.IsSet("max-age") {
		days := cmd.Int("max-age")
		d.MaxAgeDays, said = &days, true
	}
	rules := wire.Rules{Type: cmd.String("type"), Pattern: cmd.String("pattern"), Range: cmd.String("range"), Length: cmd.String("size"), Choices: cmd.StringSlice("choice")}
	if len(rules.Choices) > 0 && rules.Type == "" {
		rules.Type = "choice"
	}
	if rules.Type+rules.Pattern+rules.Range+rules.Length != "" || cmd.Bool("no-rules") {
		d.Rules, said = &rules, true
	}
	if !said {
		return nil
	}
	return &d
}

// describe says something of entries and leaves their values as they are.
func (a *app) describe() *cli.Command {
	return a.command(&cli.Command{
		Name: "describe", Usage: "say who owns an entry, what it is for, and what its values must be", ArgsUsage: "NAME…",
		Flags: append(changeFlags(), detailFlags()...),
		Action: a.at(a.layerPlace, 1, -1, "NAME… --owner WHO …", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			d := details(cmd)
			if d == nil {
				return usage("say something of it: --owner, --purpose, --link, --tag, --max-age, --type … (\"adytum describe --help\")")
			}
			request := wire.ChangeRequest{Reason: cmd.String("because")}
			for _, name := range cmd.Args().Slice() {
				request.Edits = append(request.Edits, wire.Edit{Act: "describe", Name: name, Details: d})
			}
			return a.commit(ctx, cmd, c, place, request)
		}),
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
	base := a.seenRevision(ctx, cmd, c, place)
	for i, name := range names {
		e, err := a.keptEdit(cmd, names, i)
		if err != nil {
			return err
		}
		e.Name = name
		request.Edits = append(request.Edits, e)
	}
	if err := a.finishEdits(cmd, request.Edits); err != nil {
		return err
	}
	return a.commitOn(ctx, cmd, c, place, base, request)
}

// finishEdits puts times and details to edits.
func (a *app) finishEdits(cmd *cli.Command, edits []wire.Edit) error {
	d := details(cmd)
	var from, until *time.Time
	for flag, to := range map[string]**time.Time{"active-from": &from, "expires": &until} {
		if text := cmd.String(flag); text != "" {
			t, err := parseTime(text, time.Now())
			if err != nil {
				return usage("--%s: %s", flag, err)
			}
			*to = &t
		}
	}
	for i := range edits {
		edits[i].Details, edits[i].ActiveFrom, edits[i].Expires = d, from, until
	}
	return nil
}

// parseTime reads a day, a minute, or a while from now.
func parseTime(text string, now time.Time) (time.Time, error) {
	for _, layout := range []string{"2006-01-02", "2006-01-02T15:04", "2006-01-02 15:04"} {
		if t, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return t, nil
		}
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	while := strings.TrimPrefix(text, "in ")
	if days, isDays := strings.CutSuffix(while, "d"); isDays {
		var n int
		if _, err := fmt.Sscanf(days, "%d", &n); err == nil && n > 0 && fmt.Sprint(n) == days {
			return now.AddDate(0, 0, n), nil
		}
	}
	if d, err := time.ParseDuration(while); err == nil && d > 0 {
		return now.Add(d), nil
	}
	return time.Time{}, fmt.Errorf("%q is no time; it is a day (2026-12-01), a minute (2026-12-01T08:00), or a while from now (36h, 90d)", printable(text))
}

// seenRevision is the revision that one who types values has before them, so
// that they do not overwrite unseen what somebody else does meanwhile.
func (a *app) seenRevision(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) int64 {
	if cmd.IsSet("revision") {
		return cmd.Int64("revision")
	}
	if !terminal(a.in) {
		return client.AnyRevision
	}
	newest, err := c.ChangesBefore(ctx, place, 0, 1)
	if err != nil || len(newest) == 0 {
		return client.AnyRevision
	}
	return newest[0].Revision
}

// keptEdit obtains the value of one name.
func (a *app) keptEdit(cmd *cli.Command, names []string, i int) (wire.Edit, error) {
	if g := generation(cmd); g != nil {
		if cmd.Bool("stdin") || cmd.String("from-file") != "" || cmd.String("setting-file") != "" {
			return wire.Edit{}, usage("a value is either generated or taken from somewhere; say one of them")
		}
		return wire.Edit{Kind: "secret", Generate: g}, nil
	}
	file := cmd.String("setting-file")
	if file != "" && len(names) == 1 {
		content, err := a.fileValue(file)
		return wire.Edit{Kind: "setting", Value: string(content)}, err
	}
	value, err := a.keptValue(cmd, names, i)
	if err != nil {
		return wire.Edit{}, err
	}
	return secretEdit(names[i], value), nil
}

// keptValue obtains the value of one secret.
func (a *app) keptValue(cmd *cli.Command, names []string, i int) ([]byte, error) {
	file, stdin := cmd.String("from-file"), cmd.Bool("stdin")
	if (file != "" || stdin) && len(names) > 1 {
		return nil, usage("--stdin and --from-file hold one value, and %d names were given; keep them one by one", len(names))
	}
	if file != "" {
		return a.fileValue(file)
	}
	value, err := a.secretInput(stdin, "Value of "+printable(names[i])+": ", "the value of "+printable(names[i]), "--stdin, --from-file or --random")
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

// fileValue reads a value from a file, byte for byte.
func (a *app) fileValue(file string) ([]byte, error) {
	if file == "-" {
		return readAll(a.in, "the value")
	}
	info, err := os.Stat(file)
	if err != nil {
		return nil, fmt.Errorf("read the value: %w", err)
	}
	if info.Size() > envelope.MaxValue {
		return nil, fmt.Errorf("%s has %d bytes, and a value has at most 1 MiB", file, info.Size())
	}
	return os.ReadFile(file)
}

func secretEdit(name string, value []byte) wire.Edit {
	if !utf8.Valid(value) {
		return wire.Edit{Name: name, Kind: "secret", Value: base64.StdEncoding.EncodeToString(value), Encoding: "base64"}
	}
	return wire.Edit{Name: name, Kind: "secret", Value: string(value), Encoding: "text"}
}

// commit makes a change and says what it did.
func (a *app) commit(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place, request wire.ChangeRequest) error {
	return a.commitOn(ctx, cmd, c, place, a.revisionFlag(cmd), request)
}

func (a *app) revisionFlag(cmd *cli.Command) int64 {
	if cmd.IsSet("revision") {
		return cmd.Int64("revision")
	}
	return client.AnyRevision
}

// commitOn makes a change on a revision. Where the layer has moved on, it shows
// what happened and offers to go on.
func (a *app) commitOn(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place, base int64, request wire.ChangeRequest) error {
	return a.committing(ctx, c, place, client.Commit{Base: base, DryRun: cmd.Bool("dry-run")}, func(o client.Commit) (wire.Change, error) {
		return c.Commit(ctx, place, o, request)
	})
}

// committing makes any kind of change on a revision.
func (a *app) committing(ctx context.Context, c *client.Client, place client.Place, o client.Commit, commit func(client.Commit) (wire.Change, error)) error {
	for {
		change, err := commit(o)
		var problem *client.Error
		if err == nil {
			a.sayChange(place, change)
			return nil
		}
		if o.Base == client.AnyRevision || !errors.As(err, &problem) || problem.Status != http.StatusConflict {
			return err
		}
		present, showErr := a.sayMeanwhile(ctx, c, place, o.Base)
		if showErr != nil {
			return errors.Join(err, showErr)
		}
		if !terminal(a.in) {
			return fmt.Errorf("%w; to go on all the same: --revision %d", err, present)
		}
		if yes, err := a.confirm("Go on and make the change on top of that?"); err != nil || !yes {
			return errors.Join(err, &exitError{exitFailed, errors.New("nothing was changed")})
		}
		o.Base = present
	}
}

// sayMeanwhile shows what happened to a layer after a revision.
func (a *app) sayMeanwhile(ctx context.Context, c *client.Client, place client.Place, base int64) (present int64, err error) {
	changes, err := c.ChangesBefore(ctx, place, 0, 200)
	if err != nil || len(changes) == 0 {
		return base, err
	}
	a.say("Meanwhile in %s:", placeName(place))
	for i := len(changes) - 1; i >= 0; i-- {
		if change := changes[i]; change.Revision > base {
			a.say("  revision %d, %s by %s: %s%s", change.Revision, moment(change.At), printable(change.Author), printable(whatOf(change)), printable(because(change.Reason)))
		}
	}
	return changes[0].Revision, nil
}

func because(reason string) string {
	if reason == "" {
		return ""
	}
	return " (" + reason + ")"
}

func whatOf(c wire.Change) string {
	what := make([]string, len(c.Effects))
	for i, e := range c.Effects {
		what[i] = e.Name + " " + e.Act
		if e.To != "" {
			what[i] += " to " + e.To
		}
	}
	if len(what) > 3 {
		what = append(what[:2], fmt.Sprintf("and %d more", len(what)-2))
	}
	return strings.Join(what, ", ")
}

// sayChange says what a change did, or would do.
func (a *app) sayChange(place client.Place, change wire.Change) {
	switch {
	case change.Proposal > 0:
		a.say("Nothing is changed yet: changes of %s need another person's approval. Proposed as %d:", placeName(place), change.Proposal)
	case change.DryRun:
		a.say("This would make revision %d of %s; nothing was done:", change.Revision, placeName(place))
	default:
		a.say("%s is now at revision %d:", placeName(place), change.Revision)
	}
	for _, e := range change.Effects {
		facts := []string{e.Kind}
		if e.Version > 0 {
			facts = append(facts, fmt.Sprintf("version %d", e.Version))
		}
		if e.Source != "" {
			facts = append(facts, printable(e.Source))
		} else if e.Strength > 0 {
			facts = append(facts, fmt.Sprintf("about %d bits", e.Strength))
		}
		to := ""
		if e.To != "" {
			to = " to " + printable(e.To)
		}
		act := e.Act
		if change.Proposal > 0 {
			act = "to be " + act
		}
		a.say("  %s %s%s (%s)", printable(e.Name), act, to, strings.Join(facts, ", "))
		for _, w := range e.Warnings {
			a.say("    warning: %s", printable(w))
		}
	}
	if change.Proposal > 0 {
		a.say("Somebody else does it with \"adytum proposal approve %d\".", change.Proposal)
	}
	if len(change.Refers) > 0 {
		a.say("These still refer to a name that is gone: %s", printable(strings.Join(change.Refers, ", ")))
	}
	if change.GoneOn != "" {
		a.say("No backup that follows the rules holds what was destroyed after %s.", change.GoneOn)
	}
}

// confirm asks a person, on their terminal.
func (a *app) confirm(question string) (bool, error) {
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	answer, err := a.line()
	answer = strings.ToLower(strings.TrimSpace(answer))
	return answer == "y" || answer == "yes", err
}

// line reads one line that a person types, and no more.
func (a *app) line() (string, error) {
	var b strings.Builder
	one := make([]byte, 1)
	for b.Len() < 1000 {
		n, err := a.in.Read(one)
		if n == 1 && one[0] == '\n' {
			return b.String(), nil
		}
		b.Write(one[:n])
		if err != nil {
			return b.String(), nil // the end of the input ends the line
		}
	}
	return b.String(), nil
}
