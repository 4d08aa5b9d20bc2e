package command

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/formats"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/sweep"
)

func formatNames() string {
	names := make([]string, len(formats.Formats))
	for i, f := range formats.Formats {
		names[i] = string(f)
	}
	return strings.Join(names, ", ")
}

func formatFlag(usage string) cli.Flag {
	return &cli.StringFlag{Name: "format", Usage: usage + ": " + formatNames(), Validator: func(text string) error {
		if !slices.Contains(formats.Formats, formats.Format(text)) {
			return fmt.Errorf("there is no format %q; there are %s", text, formatNames())
		}
		return nil
	}}
}

func (a *app) importFile() *cli.Command {
	return a.command(&cli.Command{
		Name: "import", Usage: "store what a file holds as one change; the file stays as it is", ArgsUsage: "FILE",
		Description: "Which names are secrets is guessed by the sweep's rules and shown. What the layer has already with the same value is\nleft as it is; where it has another value, nothing is kept unless --replace or --leave says what to do. - is standard input.",
		Flags: append(changeFlags(), formatFlag("the file's format; otherwise told by its content"), yesFlag(),
			&cli.BoolFlag{Name: "replace", Usage: "keep the file's value as a new version where the layer has another"},
			&cli.BoolFlag{Name: "leave", Usage: "leave the layer's value where it has another"},
			&cli.StringSliceFlag{Name: "secret", Usage: "`NAME` is a secret, whatever the rules say; can be repeated"},
			&cli.StringSliceFlag{Name: "setting", Usage: "`NAME` is a plain setting, whatever the rules say; can be repeated"}),
		Action: a.runImport,
	})
}

func (a *app) runImport(ctx context.Context, cmd *cli.Command) error {
	if err := arguments(cmd, 1, 1, "FILE"); err != nil {
		return err
	}
	file := cmd.Args().First()
	edits, err := a.importedEdits(cmd, file)
	if err != nil {
		return err
	}
	place, err := a.layerPlace(cmd)
	if err != nil {
		return err
	}
	c, err := a.client(ctx)
	if err != nil {
		return err
	}
	request := wire.ChangeRequest{Reason: cmd.String("because"), Edits: edits}
	preview, err := c.Commit(ctx, place, client.Commit{Base: a.revisionFlag(cmd), DryRun: true}, request)
	if err != nil {
		return err
	}
	request.Edits, err = a.showImport(cmd, place, edits, preview)
	if err != nil || cmd.Bool("dry-run") || len(request.Edits) == 0 {
		return err
	}
	if terminal(a.in) && !cmd.Bool("yes") {
		if yes, err := a.confirm("Keep these?"); err != nil || !yes {
			return &exitError{exitFailed, errors.New("nothing was kept")}
		}
	}
	// On the revision that was looked at.
	return a.commitOn(ctx, cmd, c, place, preview.Revision-1, request)
}

// importedEdits reads a file and says what each of its names would be.
func (a *app) importedEdits(cmd *cli.Command, file string) ([]wire.Edit, error) {
	content, err := a.importedFile(file)
	if err != nil {
		return nil, err
	}
	format := formats.Format(cmd.String("format"))
	if format == "" {
		format = formats.Detect(file, content)
	}
	pairs, problems := formats.ReadPairs(file, content, format)
	if len(problems) > 0 {
		lines := make([]string, len(problems))
		for i, p := range problems {
			lines[i] = p.Error()
		}
		return nil, fmt.Errorf("%s\nread as %s; nothing was kept", strings.Join(lines, "\n"), format)
	}
	if len(pairs) == 0 {
		return nil, fmt.Errorf("%s holds no names with values (read as %s)", file, format)
	}
	if len(pairs) > layers.MaxEdits {
		return nil, fmt.Errorf("%s holds %d names, and one change keeps at most %d; import it in parts", file, len(pairs), layers.MaxEdits)
	}
	engine := sweep.NewEngine(sweep.Catalogue())
	edits := make([]wire.Edit, len(pairs))
	for i, p := range pairs {
		kind := p.Kind
		switch {
		case slices.Contains(cmd.StringSlice("secret"), p.Name) || p.Binary:
			kind = "secret"
		case slices.Contains(cmd.StringSlice("setting"), p.Name):
			kind = "setting"
		case kind == "" && engine.IsSecret(p.Name, string(p.Value)):
			kind = "secret"
		case kind == "":
			kind = "setting"
		}
		edits[i] = secretEdit(p.Name, p.Value)
		edits[i].Kind, edits[i].Imported = kind, filepath.Base(file)
	}
	return edits, nil
}

func (a *app) importedFile(file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(io.LimitReader(a.in, formats.MaxFile+1))
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("read what to import: %w", err)
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, formats.MaxFile+1))
}

// showImport shows what an import would do, and returns what is to be kept.
func (a *app) showImport(cmd *cli.Command, place client.Place, edits []wire.Edit, preview wire.Change) ([]wire.Edit, error) {
	var keep []wire.Edit
	var rows [][]string
	conflicts := 0
	for i, e := range preview.Effects {
		what := "new"
		switch {
		case e.Same:
			what = "has this value already"
		case e.Act == "replaced" && cmd.Bool("leave"):
			what = "set there; left as it is"
		case e.Act == "replaced" && cmd.Bool("replace"):
			what = fmt.Sprintf("replaced, version %d", e.Version)
			keep = append(keep, edits[i])
		case e.Act == "replaced":
			what = "set there with another value, or one that you may not read"
			conflicts++
		default:
			keep = append(keep, edits[i])
		}
		rows = append(rows, []string{e.Name, e.Kind, what})
	}
	if cmd.Bool("dry-run") || conflicts > 0 || terminal(a.in) {
		if err := a.table([]string{"NAME", "KIND", "IN " + placeName(place)}, rows); err != nil {
			return nil, err
		}
	}
	switch {
	case conflicts > 0:
		return nil, fmt.Errorf("%d of these names are set in %s already; nothing was kept: say --replace to keep the file's values, or --leave to leave those as they are", conflicts, placeName(place))
	case cmd.Bool("dry-run"):
		a.say("Nothing was done; %d of %d would be kept.", len(keep), len(edits))
	case len(keep) == 0:
		a.say("%s has all of it already; nothing was changed.", placeName(place))
	}
	return keep, nil
}

func (a *app) export() *cli.Command {
	return a.command(&cli.Command{
		Name: "export", Usage: "write values to a file that you alone can read; leaves a trail", ArgsUsage: "[NAME…]",
		Description: "Without NAME, everything that the environment has. What is written is plaintext: a reference that is resolved\nwhen a program starts (\"adytum supply\") does without it.",
		Flags: append(placeFlags(), layerFlag(), formatFlag("dotenv unless said otherwise"), yesFlag(),
			&cli.StringFlag{Name: "to", Usage: "`FILE` to write, mode 0600; - is standard output", Required: true},
			&cli.StringFlag{Name: "name", Usage: "`NAME` of the manifests, for kubernetes; otherwise the project's"}),
		Action: a.at(a.layerPlace, 0, -1, "[NAME…] --to FILE", a.runExport),
	})
}

func (a *app) runExport(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
	format := formats.Format(cmd.String("format"))
	if format == "" {
		format = formats.DotenvFormat
	}
	entries, err := c.Entries(ctx, place)
	if err != nil {
		return err
	}
	wanted := map[string]bool{}
	for _, name := range cmd.Args().Slice() {
		wanted[name] = true
	}
	var chosen []wire.Entry
	secrets := 0
	for _, e := range entries.Entries {
		if e.Kind == "nothing" || cmd.Args().Present() && !wanted[e.Name] {
			continue
		}
		delete(wanted, e.Name)
		chosen = append(chosen, e)
		if e.Kind == "secret" {
			secrets++
		}
	}
	if len(wanted) > 0 {
		return fmt.Errorf("%s: not set in %s; nothing was written", printable(strings.Join(slices.Sorted(maps.Keys(wanted)), ", ")), placeName(place))
	}
	to := cmd.String("to")
	if secrets > 0 && !cmd.Bool("yes") {
		if !terminal(a.in) {
			return usage("this writes %d secrets in plain to %s and asks on a terminal; in a script, say --yes", secrets, to)
		}
		if yes, err := a.confirm(fmt.Sprintf("Write %d secrets in plain to %s?", secrets, to)); err != nil || !yes {
			return &exitError{exitFailed, errors.New("nothing was written")}
		}
	}
	pairs, err := a.exported(ctx, c, place, chosen, format)
	if err != nil {
		return err
	}
	name := cmd.String("name")
	if name == "" {
		name = strings.Trim(strings.ReplaceAll(placeName(place), "/", "-"), " ")
	}
	content, err := formats.WritePairs(format, name, pairs)
	if err != nil {
		return err
	}
	if to == "-" {
		_, err = a.out.Write(content)
		return err
	}
	if err := writeFile(to, 0o600, content); err != nil {
		return fmt.Errorf("write %s: %w", to, err)
	}
	a.say("%d values are in %s, %d of them secrets in plain; remove the file when it has served.", len(pairs), to, secrets)
	return nil
}

// exported obtains the values of entries, as far as a format can hold them.
func (a *app) exported(ctx context.Context, c *client.Client, place client.Place, entries []wire.Entry, format formats.Format) ([]formats.Pair, error) {
	var pairs []formats.Pair
	var cannot []string
	for start := 0; start < len(entries); start += 1000 {
		some := entries[start:min(start+1000, len(entries))]
		references := make([]string, len(some))
		for i, e := range some {
			references[i] = e.Reference
			if place.Environment == "" {
				references[i] = e.Absolute
			}
		}
		resolved, err := a.resolveAt(ctx, c, place, references)
		if err != nil {
			return nil, err
		}
		for i, v := range resolved.Values {
			p := formats.Pair{Name: some[i].Name, Value: []byte(v.Value), Kind: v.Kind}
			if v.Encoding == "base64" {
				if p.Value, err = base64.StdEncoding.DecodeString(v.Value); err != nil {
					return nil, errors.New("the service sent a value that cannot be decoded")
				}
			}
			if why := format.CannotHold(p.Value); why != "" {
				cannot = append(cannot, fmt.Sprintf("%s cannot stand in %s: %s", p.Name, format, why))
			}
			pairs = append(pairs, p)
		}
	}
	if len(cannot) > 0 {
		return nil, fmt.Errorf("%s\nnothing was written; --format kubernetes holds any bytes, and \"adytum value NAME\" prints one", strings.Join(cannot, "\n"))
	}
	return pairs, nil
}

// resolveAt resolves references at a place; for a layer without an environment
// they are absolute, and each is read by itself.
func (a *app) resolveAt(ctx context.Context, c *client.Client, place client.Place, references []string) (wire.Resolved, error) {
	if place.Environment != "" {
		return c.Resolve(ctx, place, references, nil)
	}
	var out wire.Resolved
	for _, r := range references {
		v, err := c.Value(ctx, place, r[strings.LastIndexAny(r, ":/")+1:])
		if err != nil {
			return out, err
		}
		out.Values = append(out.Values, v)
	}
	return out, nil
}
