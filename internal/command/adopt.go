package command

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/formats"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/sweep"
)

func (a *app) adopt() *cli.Command {
	return a.command(&cli.Command{
		Name: "adopt", Usage: "move the secrets of a dotenv file into the store and leave references in their place", ArgsUsage: "FILE",
		Description: "Settings stay in the file, and everything else of it stays byte for byte. A name that the store has already\nis taken over where its value is the same; where it differs, nothing is done unless --replace says so.",
		Flags: append(placeFlags(), becauseFlag(),
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be done, and do nothing"},
			&cli.BoolFlag{Name: "replace", Usage: "keep the file's value as a new version where the store has another"}),
		Action: a.runAdopt,
	})
}

// adoption is what adopting a file would do.
type adoption struct {
	secrets []formats.Variable
	edits   []wire.Edit       // what the store does not have yet
	after   map[string]string // name to reference
}

func (a *app) runAdopt(ctx context.Context, cmd *cli.Command) error {
	if err := arguments(cmd, 1, 1, "FILE"); err != nil {
		return err
	}
	path := cmd.Args().First()
	d, mode, err := readDotenv(path)
	if err != nil {
		return err
	}
	place, err := a.place(cmd)
	if err != nil {
		return err
	}
	c, err := a.client(ctx)
	if err != nil {
		return err
	}
	plan, err := planAdoption(ctx, c, place, d, cmd.Bool("replace"))
	if err != nil {
		return err
	}
	if len(plan.secrets) == 0 {
		a.say("%s holds no secret; nothing is to be done.", path)
		return nil
	}
	before, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	after := d.Replace(plan.after)
	a.showPlan(path, d, plan, place)
	if cmd.Bool("dry-run") {
		a.say("Nothing was done: this was a dry run.")
		return nil
	}
	if len(plan.edits) > 0 {
		request := wire.ChangeRequest{Reason: cmd.String("because"), Edits: plan.edits}
		if request.Reason == "" {
			request.Reason = "adopted from " + path
		}
		if err := a.commit(ctx, cmd, c, place, request); err != nil {
			return fmt.Errorf("%w; %s is as it was", err, path)
		}
	}
	// The proof comes before the file is touched: what the references give is
	// what stands in it.
	if err := proveAdoption(ctx, c, place, plan); err != nil {
		return fmt.Errorf("%w; %s is as it was, and the store has what was kept", err, path)
	}
	if present, err := os.ReadFile(path); err != nil || !bytes.Equal(present, before) {
		return fmt.Errorf("%s was changed meanwhile and is left as it is; adopt it again", path)
	}
	if err := writeFile(path, mode, after); err != nil {
		return fmt.Errorf("write %s: %w; it is as it was", path, err)
	}
	a.say("%s holds references now, and each gives what stood there. \"adytum supply -- COMMAND\" starts a program with them.", path)
	a.say("What is committed already stays in the history; \"adytum sweep history\" shows it. A value that was committed is to be rotated.")
	return nil
}

// planAdoption decides what each variable becomes.
func planAdoption(ctx context.Context, c *client.Client, place client.Place, d *formats.Dotenv, replace bool) (*adoption, error) {
	plan := &adoption{after: map[string]string{}}
	engine := sweep.NewEngine(sweep.Catalogue())
	var wrong []string
	for _, v := range d.Variables {
		if reference.Starts(v.Value) || !engine.IsSecret(v.Name, v.Value) {
			continue
		}
		if err := layers.CheckName(v.Name); err != nil {
			wrong = append(wrong, err.Error())
			continue
		}
		plan.secrets = append(plan.secrets, v)
		plan.after[v.Name] = reference.Reference{Name: v.Name}.String()
	}
	if len(plan.secrets) == 0 || len(wrong) > 0 {
		return plan, joined(wrong)
	}
	var optional []string
	for _, v := range plan.secrets {
		optional = append(optional, plan.after[v.Name])
	}
	present, err := c.Resolve(ctx, place, nil, optional)
	if err != nil {
		return nil, err
	}
	stored := map[string]wire.Value{}
	for _, v := range present.Values {
		stored[v.Reference] = v
	}
	for _, v := range plan.secrets {
		s, set := stored[plan.after[v.Name]]
		switch content, err := decode(s); {
		case !set:
		case err == nil && string(content) == v.Value && s.Kind == "secret":
			continue
		case !replace:
			wrong = append(wrong, fmt.Sprintf("%s has another value in %s than in the file; find out which one is right, then remove it here or use --replace", v.Name, s.Layer))
			continue
		}
		plan.edits = append(plan.edits, wire.Edit{Name: v.Name, Kind: "secret", Value: v.Value})
	}
	return plan, joined(wrong)
}

func joined(lines []string) error {
	if len(lines) == 0 {
		return nil
	}
	return errors.New(strings.Join(lines, "\n"))
}

// showPlan shows what happens to each line, without values.
func (a *app) showPlan(path string, d *formats.Dotenv, plan *adoption, place client.Place) {
	kept := map[string]bool{}
	for _, e := range plan.edits {
		kept[e.Name] = true
	}
	a.say("%s, in %s:", path, placeName(place))
	for _, v := range d.Variables {
		after, secret := plan.after[v.Name]
		switch {
		case secret && kept[v.Name]:
			a.say("  %d: %s=[withheld] is kept and becomes %s=%s", v.Line, v.Name, v.Name, after)
		case secret:
			a.say("  %d: %s=[withheld] is in the store already and becomes %s=%s", v.Line, v.Name, v.Name, after)
		case reference.Starts(v.Value):
			a.say("  %d: %s is a reference already", v.Line, v.Name)
		default:
			a.say("  %d: %s stays, a setting", v.Line, v.Name)
		}
	}
}

// proveAdoption resolves every new reference and compares it with what stood there.
func proveAdoption(ctx context.Context, c *client.Client, place client.Place, plan *adoption) error {
	var references []string
	for _, v := range plan.secrets {
		references = append(references, plan.after[v.Name])
	}
	out, err := c.Resolve(ctx, place, references, nil)
	if err != nil {
		return fmt.Errorf("the references could not be proven: %w", err)
	}
	got := map[string]string{}
	for _, v := range out.Values {
		content, err := decode(v)
		if err != nil {
			return err
		}
		got[v.Reference] = string(content)
	}
	for _, v := range plan.secrets {
		if got[plan.after[v.Name]] != v.Value {
			return fmt.Errorf("the reference %s gives something else than what stood there", plan.after[v.Name])
		}
	}
	return nil
}
