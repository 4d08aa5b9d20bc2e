package command

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/needs"
)

func placeFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "project", Aliases: []string{"p"}, Usage: "`PROJECT`; otherwise ADYTUM_PROJECT, or the one of the needs file"},
		&cli.StringFlag{Name: "environment", Aliases: []string{"e"}, Usage: "`ENVIRONMENT`; otherwise ADYTUM_ENVIRONMENT, or local"},
	}
}

// layerFlag lets a command work on a layer other than an environment's.
func layerFlag() cli.Flag {
	return &cli.StringFlag{Name: "layer", Value: "environment", Usage: "environment, project (its common layer) or organization",
		Validator: func(layer string) error {
			if layer != "environment" && layer != "project" && layer != "organization" {
				return fmt.Errorf("there is no layer %q; there are environment, project and organization", layer)
			}
			return nil
		}}
}

// defaultEnvironment is where a developer works.
const defaultEnvironment = "local"

// place is the environment that a command works on.
func (a *app) place(cmd *cli.Command) (client.Place, error) {
	p := client.Place{Project: cmd.String("project"), Environment: cmd.String("environment")}
	if p.Project == "" {
		p.Project, _ = a.environment("ADYTUM_PROJECT")
	}
	if p.Environment == "" {
		p.Environment, _ = a.environment("ADYTUM_ENVIRONMENT")
	}
	if p.Environment == "" {
		p.Environment = defaultEnvironment
	}
	if p.Project == "" {
		file, err := findNeeds()
		if err != nil {
			return p, err
		}
		if file == nil {
			return p, usage("which project? name it with --project, set ADYTUM_PROJECT, or bind this folder with \"adytum link PROJECT\"")
		}
		p.Project = file.Project
	}
	return p, nil
}

// layerPlace is the layer that a command works on.
func (a *app) layerPlace(cmd *cli.Command) (client.Place, error) {
	if cmd.String("layer") == "organization" {
		return client.Place{}, nil
	}
	p, err := a.place(cmd)
	if cmd.String("layer") == "project" {
		p.Environment = ""
	}
	return p, err
}

// at makes an action of one that works on a place: it checks the arguments,
// finds the place, and signs in.
func (a *app) at(where func(*cli.Command) (client.Place, error), least, most int, form string,
	f func(context.Context, *cli.Command, *client.Client, client.Place) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		if err := arguments(cmd, least, most, form); err != nil {
			return err
		}
		place, err := where(cmd)
		if err != nil {
			return err
		}
		c, err := a.client(ctx)
		if err != nil {
			return err
		}
		return f(ctx, cmd, c, place)
	}
}

func placeName(p client.Place) string {
	switch {
	case p.Project == "":
		return "the organization"
	case p.Environment == "":
		return p.Project
	}
	return p.Project + "/" + p.Environment
}

// needsFile is a needs file with its folder.
type needsFile struct {
	*needs.File
	path string
}

// findNeeds finds the nearest needs file from here upwards, nil where there is none.
func findNeeds() (*needsFile, error) {
	folder, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	for {
		path := filepath.Join(folder, needs.FileName)
		content, err := os.ReadFile(path)
		if err == nil {
			return readNeeds(path, content)
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("read the needs file: %w", err)
		}
		// Not beyond the repository: what lies above is somebody else's.
		if _, err := os.Stat(filepath.Join(folder, ".git")); err == nil || folder == filepath.Dir(folder) {
			return nil, nil
		}
		folder = filepath.Dir(folder)
	}
}

func readNeeds(path string, content []byte) (*needsFile, error) {
	shown := path
	if here, err := os.Getwd(); err == nil {
		if relative, err := filepath.Rel(here, path); err == nil {
			shown = relative
		}
	}
	file, problems := needs.Read(shown, content)
	if len(problems) > 0 {
		all := make([]string, len(problems))
		for i, p := range problems {
			all[i] = p.Error()
		}
		return nil, errors.New(strings.Join(all, "\n"))
	}
	return &needsFile{file, path}, nil
}

// readAll reads standard input up to the size of the largest value.
func readAll(in io.Reader, what string) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(in, envelope.MaxValue+1))
	if err != nil {
		return nil, fmt.Errorf("read %s from standard input: %w", what, err)
	}
	if len(b) > envelope.MaxValue {
		return nil, fmt.Errorf("standard input holds more than 1 MiB, the largest that a value can be")
	}
	if len(b) == 0 {
		return nil, fmt.Errorf("standard input holds nothing where %s was expected", what)
	}
	return b, nil
}
