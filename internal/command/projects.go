package command

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
)

func (a *app) project() *cli.Command {
	return a.noun("project", "manage projects",
		&cli.Command{Name: "list", Usage: "list projects", Flags: []cli.Flag{listFlag(), removedFlag()}, Action: a.signedIn(0, 0, "", a.listProjects)},
		&cli.Command{Name: "add", Usage: "add a project", ArgsUsage: "PROJECT", Action: a.signedIn(1, 1, "PROJECT", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			p, err := c.AddProject(ctx, cmd.Args().First())
			if err == nil {
				a.say("The project %s is there; \"adytum environment add --project %s NAME\" gives it environments.", p.Name, p.Name)
			}
			return err
		})},
		&cli.Command{Name: "show", Usage: "show a project's environments and policies", ArgsUsage: "PROJECT", Flags: []cli.Flag{outputFlag("text", "json")}, Action: a.signedIn(1, 1, "PROJECT", a.showProject)},
		&cli.Command{Name: "edit", Usage: "give a project another name or other policies", ArgsUsage: "PROJECT", Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "the new `NAME`"},
			&cli.IntFlag{Name: "keep-removed", Usage: "`DAYS` for which what was removed can be restored", HideDefault: true, Validator: between(1, 3650)},
			&cli.IntFlag{Name: "max-age", Usage: "`DAYS` after which a secret should be replaced; 0: none", HideDefault: true, Validator: between(0, 3650)}},
			Action: a.signedIn(1, 1, "PROJECT", a.editProject)},
		&cli.Command{Name: "remove", Usage: "remove a project; \"adytum project restore\" brings it back for a while", ArgsUsage: "PROJECT", Flags: []cli.Flag{yesFlag()},
			Action: a.signedIn(1, 1, "PROJECT", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				return a.removePlace(ctx, cmd, c, client.Place{Project: cmd.Args().First()})
			})},
		&cli.Command{Name: "restore", Usage: "bring back the project that was removed last under a name", ArgsUsage: "PROJECT",
			Action: a.signedIn(1, 1, "PROJECT", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				return a.restorePlace(ctx, c, client.Place{Project: cmd.Args().First()})
			})},
		a.archiveProject(), a.takeInProject(),
		&cli.Command{Name: "destroy", Usage: "delete the keys of a removed project, at once and for good", ArgsUsage: "PROJECT", Flags: []cli.Flag{yesFlag()},
			Action: a.signedIn(1, 1, "PROJECT", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
				return a.destroyPlace(ctx, cmd, c, client.Place{Project: cmd.Args().First()})
			})},
	)
}

func removedFlag() cli.Flag {
	return &cli.BoolFlag{Name: "removed", Usage: "those that were removed and can be restored"}
}

func (a *app) listProjects(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	if cmd.Bool("removed") {
		all, err := c.RemovedProjects(ctx)
		if err != nil {
			return err
		}
		return list(a, cmd, all, []string{"PROJECT", "RESTORABLE UNTIL"}, func(p wire.Project) []string { return []string{p.Name, moment(p.RestorableUntil)} })
	}
	all, err := c.Projects(ctx)
	if err != nil {
		return err
	}
	return list(a, cmd, all, []string{"PROJECT", "ENVIRONMENTS"}, func(p wire.Project) []string { return []string{p.Name, environmentNames(p)} })
}

func environmentNames(p wire.Project) string {
	names := make([]string, len(p.Environments))
	for i, e := range p.Environments {
		names[i] = e.Name
	}
	return strings.Join(names, ", ")
}

func (a *app) showProject(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	p, err := c.Project(ctx, cmd.Args().First())
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return a.json(p)
	}
	age := "none"
	if p.MaxAgeDays > 0 {
		age = fmt.Sprintf("%d days", p.MaxAgeDays)
	}
	fmt.Fprintf(a.out, "%-14s %s\n%-14s %s\n%-14s %d days\n%-14s %s\n", "project", printable(p.Name), "environments", printable(environmentNames(p)),
		"removed kept", p.KeepRemovedDays, "max age", age)
	return nil
}

func (a *app) editProject(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	var e wire.ProjectEdit
	given(cmd, "name", &e.Name, cmd.String)
	given(cmd, "keep-removed", &e.KeepRemovedDays, cmd.Int)
	given(cmd, "max-age", &e.MaxAgeDays, cmd.Int)
	if e == (wire.ProjectEdit{}) {
		return usage("say what to change: --name, --keep-removed or --max-age")
	}
	p, err := c.EditProject(ctx, cmd.Args().First(), e)
	if err == nil {
		a.say("The project %s is changed.", printable(p.Name))
		a.sayRefers(p.Refers)
	}
	return err
}

// given takes over a flag that was set.
func given[T any](cmd *cli.Command, flag string, to **T, value func(string) T) {
	if cmd.IsSet(flag) {
		v := value(flag)
		*to = &v
	}
}

func (a *app) sayRefers(refers []string) {
	if len(refers) > 0 {
		a.say("These settings still refer to the old name: %s", printable(strings.Join(refers, ", ")))
	}
}

// agreed asks on a terminal before something is removed, unless --yes said it.
func (a *app) agreed(cmd *cli.Command, what, question string) error {
	if cmd.Bool("yes") {
		return nil
	}
	if !terminal(a.in) {
		return usage("%s asks on a terminal; in a script, say --yes", what)
	}
	if yes, err := a.confirm(question); err != nil || !yes {
		return &exitError{exitFailed, fmt.Errorf("nothing was removed")}
	}
	return nil
}

func (a *app) removePlace(ctx context.Context, cmd *cli.Command, c *client.Client, p client.Place) error {
	if err := a.agreed(cmd, "removing "+printable(placeName(p)), "Remove "+printable(placeName(p))+"? What refers to it stops working."); err != nil {
		return err
	}
	until, err := c.RemovePlace(ctx, p)
	if err == nil {
		a.say("%s is removed; until %s it can be restored.", printable(placeName(p)), moment(until))
	}
	return err
}

func (a *app) restorePlace(ctx context.Context, c *client.Client, p client.Place) error {
	err := c.RestorePlace(ctx, p)
	if err == nil {
		a.say("%s is there again, with everything in it.", printable(placeName(p)))
	}
	return err
}

func (a *app) destroyPlace(ctx context.Context, cmd *cli.Command, c *client.Client, p client.Place) error {
	name := p.Environment
	if name == "" {
		name = p.Project
	}
	if err := a.typed(cmd, name, "This destroys "+printable(placeName(p))+" and everything in it for good."); err != nil {
		return err
	}
	gone, err := c.DestroyPlace(ctx, p)
	if err == nil {
		a.say("%s is destroyed. No backup that follows the rules holds it after %s.", printable(placeName(p)), gone.GoneOn)
	}
	return err
}

func (a *app) environmentCommand() *cli.Command {
	projectFlag := placeFlags()[0]
	// named makes an action on the environment that the argument names.
	named := func(f func(context.Context, *cli.Command, *client.Client, client.Place) error) cli.ActionFunc {
		return a.signedIn(1, 1, "ENVIRONMENT", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			place, err := a.place(cmd)
			if err != nil {
				return err
			}
			place.Environment = cmd.Args().First()
			return f(ctx, cmd, c, place)
		})
	}
	policies := []cli.Flag{projectFlag,
		&cli.StringFlag{Name: "follows", Usage: "`ENVIRONMENT` from which comes what this one does not set itself; \"\" for none"},
		&cli.BoolFlag{Name: "protected", Usage: "no private values here (--protected=false: allow them)"},
		&cli.BoolFlag{Name: "approval", Usage: "changes here need a second person's approval (--approval=false: they do not, which itself needs one)"},
		&cli.IntFlag{Name: "max-age", Usage: "`DAYS` after which a secret should be replaced; 0: as the project has it", HideDefault: true, Validator: between(0, 3650)}}
	return a.noun("environment", "manage environments",
		&cli.Command{Name: "list", Usage: "list a project's environments", Flags: []cli.Flag{projectFlag, listFlag(), removedFlag()}, Action: a.signedIn(0, 0, "", a.listEnvironments)},
		&cli.Command{Name: "add", Usage: "add an environment", ArgsUsage: "ENVIRONMENT", Flags: policies,
			Action: named(func(ctx context.Context, cmd *cli.Command, c *client.Client, p client.Place) error {
				e, err := c.AddEnvironment(ctx, p.Project, wire.NewEnvironment{Name: p.Environment, Follows: cmd.String("follows"), Protected: cmd.Bool("protected"), Approval: cmd.Bool("approval"), MaxAgeDays: cmd.Int("max-age")})
				if err == nil {
					a.say("The environment %s/%s is there.", p.Project, e.Name)
				}
				return err
			})},
		&cli.Command{Name: "edit", Usage: "give an environment another name, another to follow, or other policies", ArgsUsage: "ENVIRONMENT",
			Flags: append(policies, &cli.StringFlag{Name: "name", Usage: "the new `NAME`"}), Action: named(a.editEnvironment)},
		&cli.Command{Name: "remove", Usage: "remove an environment; \"adytum environment restore\" brings it back for a while", ArgsUsage: "ENVIRONMENT", Flags: []cli.Flag{projectFlag, yesFlag()},
			Action: named(a.removePlace)},
		&cli.Command{Name: "restore", Usage: "bring back the environment that was removed last under a name", ArgsUsage: "ENVIRONMENT", Flags: []cli.Flag{projectFlag},
			Action: named(func(ctx context.Context, _ *cli.Command, c *client.Client, p client.Place) error {
				return a.restorePlace(ctx, c, p)
			})},
		&cli.Command{Name: "destroy", Usage: "delete the keys of a removed environment, at once and for good", ArgsUsage: "ENVIRONMENT", Flags: []cli.Flag{projectFlag, yesFlag()},
			Action: named(a.destroyPlace)},
	)
}

func (a *app) listEnvironments(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	place, err := a.place(cmd)
	if err != nil {
		return err
	}
	if cmd.Bool("removed") {
		all, err := c.RemovedEnvironments(ctx, place.Project)
		if err != nil {
			return err
		}
		return list(a, cmd, all, []string{"ENVIRONMENT", "RESTORABLE UNTIL"}, func(e wire.Environment) []string { return []string{e.Name, moment(e.RestorableUntil)} })
	}
	all, err := c.Environments(ctx, place.Project)
	if err != nil {
		return err
	}
	return list(a, cmd, all, []string{"ENVIRONMENT", "FOLLOWS", "PROTECTED", "APPROVAL", "MAX AGE"}, func(e wire.Environment) []string {
		row := []string{e.Name, e.Follows, "", "", ""}
		if e.Protected {
			row[2] = "protected"
		}
		if e.Approval {
			row[3] = "by another"
		}
		if e.MaxAgeDays > 0 {
			row[4] = fmt.Sprintf("%d d", e.MaxAgeDays)
		}
		return row
	})
}

func (a *app) editEnvironment(ctx context.Context, cmd *cli.Command, c *client.Client, p client.Place) error {
	var e wire.EnvironmentEdit
	given(cmd, "name", &e.Name, cmd.String)
	given(cmd, "follows", &e.Follows, cmd.String)
	given(cmd, "protected", &e.Protected, cmd.Bool)
	given(cmd, "approval", &e.Approval, cmd.Bool)
	given(cmd, "max-age", &e.MaxAgeDays, cmd.Int)
	if e == (wire.EnvironmentEdit{}) {
		return usage("say what to change: --name, --follows, --protected, --approval or --max-age")
	}
	out, err := c.EditEnvironment(ctx, p, e)
	if err == nil && out.Proposal > 0 {
		a.say("Nothing is changed yet: changes of %s/%s need another person's approval. Proposed as %d.", printable(p.Project), printable(p.Environment), out.Proposal)
		a.say("Somebody else does it with \"adytum proposal approve %d\".", out.Proposal)
	} else if err == nil {
		a.say("The environment %s/%s is changed.", printable(p.Project), printable(out.Name))
		a.sayRefers(out.Refers)
	}
	return err
}
