package command

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
)

func (a *app) changes() *cli.Command {
	return a.command(&cli.Command{
		Name: "changes", Usage: "list what was done to a layer, newest first",
		Flags: append(placeFlags(), layerFlag(), listFlag(), &cli.IntFlag{Name: "limit", Value: 50, Usage: "how many, newest first"},
			&cli.Int64Flag{Name: "before", Usage: "only changes before this `REVISION`", HideDefault: true}),
		Action: a.at(a.layerPlace, 0, 0, "[OPTIONS]", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			limit, before := cmd.Int("limit"), cmd.Int64("before")
			if limit < 1 || limit > 100_000 {
				return usage("--limit is between 1 and 100000")
			}
			var all []wire.Change
			for len(all) < limit {
				page, err := c.ChangesBefore(ctx, place, before, min(200, limit-len(all)))
				if err != nil {
					return err
				}
				if all = append(all, page...); len(page) == 0 || page[len(page)-1].Revision == 1 {
					break
				}
				before = page[len(page)-1].Revision
			}
			return list(a, cmd, all, []string{"REVISION", "WHEN", "BY", "WHAT", "BECAUSE"}, func(c wire.Change) []string {
				return []string{strconv.FormatInt(c.Revision, 10), moment(c.At), c.Author, whatOf(c), c.Reason}
			})
		}),
	})
}

// acts makes a command whose every argument is a name that the same is done to.
func (a *app) acts(c *cli.Command, edit func(*cli.Command, string) wire.Edit) *cli.Command {
	c.ArgsUsage = "NAME…"
	c.Flags = append(changeFlags(), c.Flags...)
	c.Action = a.at(a.layerPlace, 1, -1, "NAME…", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
		request := wire.ChangeRequest{Reason: cmd.String("because")}
		for _, name := range cmd.Args().Slice() {
			request.Edits = append(request.Edits, edit(cmd, name))
		}
		return a.commit(ctx, cmd, c, place, request)
	})
	return a.command(c)
}

func (a *app) remove() *cli.Command {
	return a.acts(&cli.Command{Name: "remove", Usage: "take names out of a layer, as one change; \"adytum restore\" brings them back for a while"},
		func(_ *cli.Command, name string) wire.Edit { return wire.Edit{Act: "remove", Name: name} })
}

func (a *app) restore() *cli.Command {
	return a.acts(&cli.Command{Name: "restore", Usage: "bring back what was removed last under a name"},
		func(_ *cli.Command, name string) wire.Edit { return wire.Edit{Act: "restore", Name: name} })
}

func (a *app) destroy() *cli.Command {
	return a.command(&cli.Command{
		Name: "destroy", Usage: "delete the keys of a version or of a whole entry, at once and for good", ArgsUsage: "NAME",
		Description: "What is destroyed cannot be restored by anyone. The name is asked for once more; --yes leaves that out.",
		Flags:       append(changeFlags(), &cli.Int64Flag{Name: "version", Usage: "this `VERSION` alone; otherwise all of them", HideDefault: true}, yesFlag()),
		Action: a.at(a.layerPlace, 1, 1, "NAME", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			name, version := cmd.Args().First(), cmd.Int64("version")
			what := fmt.Sprintf("all versions of %s in %s", printable(name), placeName(place))
			if version > 0 {
				what = fmt.Sprintf("version %d of %s in %s", version, printable(name), placeName(place))
			}
			if !cmd.Bool("dry-run") {
				if err := a.typed(cmd, name, "This destroys "+what+" for good."); err != nil {
					return err
				}
			}
			return a.commit(ctx, cmd, c, place, wire.ChangeRequest{Reason: cmd.String("because"), Edits: []wire.Edit{{Act: "destroy", Name: name, Version: version}}})
		}),
	})
}

func yesFlag() cli.Flag {
	return &cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do it without asking"}
}

// typed asks for a name to be typed, before what cannot be undone.
func (a *app) typed(cmd *cli.Command, name, warning string) error {
	if cmd.Bool("yes") {
		return nil
	}
	if !terminal(a.in) {
		return usage("%s It asks for the name to be typed on a terminal; in a script, say --yes", warning)
	}
	fmt.Fprintf(a.err, "%s Type %s to go on: ", warning, printable(name))
	answer, err := a.line()
	if err != nil || strings.TrimSpace(answer) != name {
		return &exitError{exitFailed, errors.New("that is not the name; nothing was destroyed")}
	}
	return nil
}

func (a *app) rename() *cli.Command {
	return a.command(&cli.Command{
		Name: "rename", Usage: "give an entry a new name, or move entries to another layer, with their history", ArgsUsage: "NAME NEW | NAME… --to PLACE",
		Flags: append(changeFlags(), &cli.StringFlag{Name: "to", Usage: "`PLACE` to move to: PROJECT/ENVIRONMENT, PROJECT (its common layer) or organization"}),
		Action: a.at(a.layerPlace, 1, -1, "NAME NEW, or NAME… --to PLACE", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			names := cmd.Args().Slice()
			to := cmd.String("to")
			switch {
			case to != "":
				target, err := parsePlace(to, place.Project)
				if err != nil {
					return err
				}
				request := wire.MoveRequest{Reason: cmd.String("because"), To: wire.PlaceID(target), Names: names}
				return a.committing(ctx, c, place, client.Commit{Base: a.revisionFlag(cmd), DryRun: cmd.Bool("dry-run")}, func(o client.Commit) (wire.Change, error) {
					return c.Move(ctx, place, o, request)
				})
			case len(names) != 2:
				return usage("the command is: adytum rename NAME NEW, or adytum rename NAME… --to PLACE")
			}
			err := a.commit(ctx, cmd, c, place, wire.ChangeRequest{Reason: cmd.String("because"), Edits: []wire.Edit{{Act: "rename", Name: names[0], To: names[1]}}})
			if err == nil {
				a.sayNeeds(names[0])
			}
			return err
		}),
	})
}

// sayNeeds says that the needs file of this folder still has a name.
func (a *app) sayNeeds(name string) {
	file, err := findNeeds()
	if err != nil || file == nil {
		return
	}
	for _, n := range file.Needs {
		names := n.Name == name
		for _, r := range n.Text().References() {
			names = names || r.Name == name
		}
		if names {
			a.say("%s:%d still names it.", file.path, n.Line)
		}
	}
}

// parsePlace reads PROJECT/ENVIRONMENT, an environment of the project at hand,
// "PROJECT/" for its common layer, or organization.
func parsePlace(text, project string) (client.Place, error) {
	before, after, found := strings.Cut(text, "/")
	switch {
	case text == "organization":
		return client.Place{}, nil
	case found && before != "":
		return client.Place{Project: before, Environment: after}, nil
	case !found && text != "" && text == project:
		return client.Place{Project: text}, nil
	case !found && text != "" && project != "":
		return client.Place{Project: project, Environment: text}, nil
	}
	return client.Place{}, usage("%q is no place; it is PROJECT/ENVIRONMENT, ENVIRONMENT, PROJECT/ for its common layer, or organization", printable(text))
}

func (a *app) revert() *cli.Command {
	return a.command(&cli.Command{
		Name: "revert", Usage: "go back, as a new change: an entry to a version, one change, or a whole layer to a revision", ArgsUsage: "NAME --version VERSION | --change REVISION | --to REVISION",
		Flags: append(changeFlags(),
			&cli.Int64Flag{Name: "version", Usage: "the `VERSION` that the entry goes back to", HideDefault: true},
			&cli.Int64Flag{Name: "change", Usage: "undo the change that made `REVISION`, and no other", HideDefault: true},
			&cli.Int64Flag{Name: "to", Usage: "set the layer back to `REVISION`: everything after it is undone", HideDefault: true}),
		Action: a.at(a.layerPlace, 0, 1, "NAME --version VERSION, --change REVISION or --to REVISION", func(ctx context.Context, cmd *cli.Command, c *client.Client, place client.Place) error {
			reason, named := cmd.String("because"), cmd.Args().Present()
			if named != cmd.IsSet("version") || named == (cmd.IsSet("change") || cmd.IsSet("to")) {
				return usage("say what to go back to: adytum revert NAME --version VERSION, or --change REVISION, or --to REVISION")
			}
			if named {
				return a.commit(ctx, cmd, c, place, wire.ChangeRequest{Reason: reason, Edits: []wire.Edit{{Act: "revert", Name: cmd.Args().First(), Version: cmd.Int64("version")}}})
			}
			request := wire.RevertRequest{Reason: reason, Change: cmd.Int64("change")}
			if cmd.IsSet("to") {
				to := cmd.Int64("to")
				request.Revision = &to
			}
			return a.committing(ctx, c, place, client.Commit{Base: a.revisionFlag(cmd), DryRun: cmd.Bool("dry-run")}, func(o client.Commit) (wire.Change, error) {
				return c.Revert(ctx, place, o, request)
			})
		}),
	})
}
