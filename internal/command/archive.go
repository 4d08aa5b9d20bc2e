package command

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/archive"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/secret"
)

func passphraseFlag() cli.Flag {
	return &cli.BoolFlag{Name: "passphrase-stdin", Usage: "read the passphrase from standard input"}
}

func (a *app) archiveProject() *cli.Command {
	return &cli.Command{Name: "archive", Usage: "write everything of a project to a file, encrypted under a passphrase", ArgsUsage: "PROJECT",
		Flags: []cli.Flag{&cli.StringFlag{Name: "to", Required: true, Usage: "`FILE` to write, mode 0600"}, passphraseFlag()},
		Action: a.signedIn(1, 1, "PROJECT --to FILE", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			passphrase, err := a.passphrase(cmd)
			if err != nil {
				return err
			}
			entries := 0
			err = writeInto(cmd.String("to"), func(f io.Writer) error {
				w, err := archive.NewWriter(f, passphrase)
				if err != nil {
					return err
				}
				if entries, err = copyLines(ctx, c, cmd.Args().First(), w); err != nil {
					return err
				}
				return w.Close()
			})
			if err == nil {
				a.say("%d entries of %s are in %s with all their versions; \"adytum project take-in %s\" reads it, with the passphrase alone.", entries, printable(cmd.Args().First()), cmd.String("to"), cmd.String("to"))
			}
			return err
		})}
}

// copyLines copies the lines of a project's archive, but the last, which tells
// that none is missing, and counts its entries.
func copyLines(ctx context.Context, c *client.Client, project string, w io.Writer) (entries int, err error) {
	lines := -1 // the first is the project's
	err = c.Archive(ctx, project, func(r io.Reader) error {
		from := bufio.NewReaderSize(r, 1<<20)
		for {
			line, err := from.ReadBytes('\n')
			if err != nil {
				return fmt.Errorf("the service's answer was cut off; nothing was written: %w", err)
			}
			var end struct{ End *int }
			if bytes.HasPrefix(line, []byte(`{"end":`)) && json.Unmarshal(line, &end) == nil && end.End != nil && *end.End == lines {
				return nil
			}
			lines++
			if _, err := w.Write(line); err != nil {
				return err
			}
		}
	})
	return lines, err
}

// writeInto writes a file of mode 0600 whole or not at all.
func writeInto(path string, write func(io.Writer) error) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".adytum-*") // mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := write(f); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

// passphrase obtains the passphrase of an archive.
func (a *app) passphrase(cmd *cli.Command) (secret.Value, error) {
	text, err := a.secretInput(cmd.Bool("passphrase-stdin"), "Passphrase of the archive: ", "the passphrase", "--passphrase-stdin")
	if err != nil {
		return secret.Value{}, err
	}
	line, _, _ := strings.Cut(string(text), "\n")
	line = strings.TrimSuffix(line, "\r")
	if utf8.RuneCountInString(line) < archive.MinPassphrase {
		return secret.Value{}, fmt.Errorf("a passphrase has %d characters or more; \"adytum keep NAME --generate passphrase\" makes one", archive.MinPassphrase)
	}
	return secret.FromString(line), nil
}

func (a *app) takeInProject() *cli.Command {
	return &cli.Command{Name: "take-in", Usage: "make a project from an archive", ArgsUsage: "FILE",
		Flags: []cli.Flag{&cli.StringFlag{Name: "as", Usage: "`NAME` of the new project; otherwise the archive's"}, passphraseFlag()},
		Action: a.signedIn(1, 1, "FILE", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			passphrase, err := a.passphrase(cmd)
			if err != nil {
				return err
			}
			path := cmd.Args().First()
			// Once through for nothing but to see that all of it is there.
			project, _, err := readArchive(path, passphrase, func(wire.ArchivedEntry) error { return nil })
			if err != nil {
				return fmt.Errorf("%s: %w", path, err)
			}
			if name := cmd.String("as"); name != "" {
				project.Project = name
			}
			entries, err := a.takeIn(ctx, c, path, passphrase, project)
			if err == nil {
				a.say("The project %s is there with %d entries and all their versions.", printable(project.Project), entries)
			}
			return err
		})}
}

// readArchive reads an archive and calls for every entry.
func readArchive(path string, passphrase secret.Value, each func(wire.ArchivedEntry) error) (project wire.ArchivedProject, entries int, err error) {
	f, err := os.Open(path)
	if err != nil {
		return project, 0, err
	}
	defer f.Close()
	r, err := archive.NewReader(f, passphrase)
	if err != nil {
		return project, 0, err
	}
	lines := json.NewDecoder(r)
	if err := lines.Decode(&project); err != nil {
		return project, 0, archiveError(err)
	}
	if project.Format != 1 || !reference.ValidPlace(project.Project) {
		return project, 0, archive.ErrNotArchive
	}
	for {
		var e wire.ArchivedEntry
		if err := lines.Decode(&e); errors.Is(err, io.EOF) {
			return project, entries, nil
		} else if err != nil {
			return project, entries, archiveError(err)
		}
		entries++
		if err := each(e); err != nil {
			return project, entries, err
		}
	}
}

// archiveError keeps what JSON says of the content out of the message.
func archiveError(err error) error {
	if errors.Is(err, archive.ErrDamaged) {
		return err
	}
	return archive.ErrNotArchive
}

// takeInBytes is how much of an archive goes into one change.
const takeInBytes = 4 << 20

func (a *app) takeIn(ctx context.Context, c *client.Client, path string, passphrase secret.Value, project wire.ArchivedProject) (entries int, err error) {
	if err := makeProject(ctx, c, project); err != nil {
		return 0, err
	}
	waiting, size := map[string][]wire.ArchivedEntry{}, 0
	flush := func() error {
		for environment, some := range waiting {
			place := client.Place{Project: project.Project, Environment: environment}
			request := wire.TakeInRequest{Reason: "from the archive " + filepath.Base(path), Entries: some}
			if _, err := c.TakeIn(ctx, place, client.Commit{Base: client.AnyRevision}, request); err != nil {
				return fmt.Errorf("%s is there in part; remove it with \"adytum project remove %s\" and try again: %w", printable(project.Project), printable(project.Project), err)
			}
		}
		waiting, size = map[string][]wire.ArchivedEntry{}, 0
		return nil
	}
	_, entries, err = readArchive(path, passphrase, func(e wire.ArchivedEntry) error {
		waiting[e.Environment] = append(waiting[e.Environment], e)
		for _, v := range e.Versions {
			size += len(v.Value) + 200
		}
		if size > takeInBytes || len(waiting[e.Environment]) >= 500 {
			return flush()
		}
		return nil
	})
	if err != nil {
		return entries, err
	}
	return entries, flush()
}

// makeProject makes an archive's project with its environments, those that
// others follow first.
func makeProject(ctx context.Context, c *client.Client, project wire.ArchivedProject) error {
	if _, err := c.AddProject(ctx, project.Project); err != nil {
		return err
	}
	edit := wire.ProjectEdit{KeepRemovedDays: &project.KeepRemovedDays, MaxAgeDays: &project.MaxAgeDays}
	if _, err := c.EditProject(ctx, project.Project, edit); err != nil {
		return err
	}
	for _, e := range project.Environments {
		if _, err := c.AddEnvironment(ctx, project.Project, wire.NewEnvironment{Name: e.Name, Protected: e.Protected, MaxAgeDays: e.MaxAgeDays}); err != nil {
			return err
		}
	}
	for _, e := range project.Environments {
		if e.Follows == "" {
			continue
		}
		if _, err := c.EditEnvironment(ctx, client.Place{Project: project.Project, Environment: e.Name}, wire.EnvironmentEdit{Follows: &e.Follows}); err != nil {
			return err
		}
	}
	return nil
}
