package demo

import (
	"context"
	"crypto/rand"
	_ "embed"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/jackc/pgx/v5"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/sample"
)

//go:embed store.yaml
var storeFile []byte

// store is what store.yaml says.
type store struct {
	Organization string
	Values       map[string]string
	People       []struct{ Login, Name string }
	Workloads    []string
	Projects     []struct {
		Name         string
		Environments []string // NAME or NAME < FOLLOWED
	}
	Grants  []struct{ Person, Workload, Role, On string }
	Changes []change
}

type change struct {
	By       string
	On       string
	Because  string
	Settings map[string]string
	Secrets  map[string]string
	Nothing  []string
}

func storeData() store {
	var s store
	if err := yaml.UnmarshalWithOptions(storeFile, &s, yaml.Strict()); err != nil {
		panic("the demo's data is part of the program: " + err.Error())
	}
	return s
}

// fill makes the named values of this installation.
func (s store) fill() map[string]string {
	values := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(s.Values)) {
		values[name] = sample.Expand(s.Values[name], rand.Reader)
	}
	return values
}

var valueName = regexp.MustCompile(`\$[A-Z][A-Z_]+`)

// expand puts named values into a text; other uses of $ stay.
func expand(text string, values map[string]string) string {
	return valueName.ReplaceAllStringFunc(text, func(m string) string {
		if value, known := values[m[1:]]; known {
			return value
		}
		return m
	})
}

// fillStore does what the demo's people would have done, each signed in as
// themselves.
func (d *demo) fillStore(ctx context.Context, data store) error {
	clients := map[string]*client.Client{}
	signIn := func(p Person) error {
		c, err := client.New(d.URL)
		if err != nil {
			return err
		}
		_, err = c.SignIn(ctx, p.Login, p.Password)
		clients[p.Login] = c
		return err
	}
	if err := signIn(d.People[0]); err != nil {
		return err
	}
	owner := clients[d.People[0].Login]
	for _, p := range d.People[1:] {
		if _, err := owner.AddPerson(ctx, wire.NewPerson{Login: p.Login, Name: p.Name, Password: p.Password}); err != nil {
			return err
		}
	}
	for _, name := range data.Workloads {
		w, err := owner.AddWorkload(ctx, name)
		if err != nil {
			return err
		}
		d.Workloads = append(d.Workloads, Workload{w.Name, w.ClientID, w.ClientSecret})
	}
	if err := d.addPlaces(ctx, owner, data); err != nil {
		return err
	}
	if err := d.trustStandIns(ctx, owner); err != nil {
		return err
	}
	for _, p := range d.People[1:] {
		if err := signIn(p); err != nil {
			return err
		}
	}
	for _, c := range data.Changes {
		if _, err := clients[c.By].Change(ctx, parsePlace(c.On), client.AnyRevision, c.request(d.values)); err != nil {
			return fmt.Errorf("%s in %q: %w", c.Because, c.On, err)
		}
	}
	for _, c := range clients {
		if err := c.SignOut(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (d *demo) addPlaces(ctx context.Context, owner *client.Client, data store) error {
	for _, p := range data.Projects {
		if _, err := owner.AddProject(ctx, p.Name); err != nil {
			return err
		}
		for _, e := range p.Environments {
			name, follows, _ := strings.Cut(e, " < ")
			if _, err := owner.AddEnvironment(ctx, p.Name, wire.NewEnvironment{Name: name, Follows: follows}); err != nil {
				return err
			}
		}
	}
	for _, g := range data.Grants {
		place := parsePlace(g.On)
		request := wire.NewGrant{Kind: "person", Who: g.Person, Role: g.Role, Project: place.Project, Environment: place.Environment}
		if g.Workload != "" {
			request.Kind, request.Who = "workload", g.Workload
		}
		if _, err := owner.AddGrant(ctx, request); err != nil {
			return err
		}
	}
	return nil
}

func parsePlace(text string) client.Place {
	project, environment, _ := strings.Cut(text, "/")
	return client.Place{Project: project, Environment: environment}
}

func (c change) request(values map[string]string) wire.ChangeRequest {
	request := wire.ChangeRequest{Reason: c.Because}
	for _, name := range slices.Sorted(maps.Keys(c.Settings)) {
		request.Edits = append(request.Edits, wire.Edit{Name: name, Kind: "setting", Value: expand(c.Settings[name], values)})
	}
	for _, name := range slices.Sorted(maps.Keys(c.Secrets)) {
		request.Edits = append(request.Edits, wire.Edit{Name: name, Kind: "secret", Value: expand(sample.Expand(c.Secrets[name], rand.Reader), values)})
	}
	for _, name := range c.Nothing {
		request.Edits = append(request.Edits, wire.Edit{Name: name, Kind: "nothing"})
	}
	return request
}

// loansDatabase makes the database that the demo's own program reads, with a
// role whose password is the one in the store.
func (d *demo) loansDatabase(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, d.cluster.URL("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for _, statement := range []string{
		"DROP DATABASE IF EXISTS loans", "DROP ROLE IF EXISTS loans_app", "CREATE DATABASE loans",
		"CREATE ROLE loans_app LOGIN PASSWORD '" + d.values["LOANS_DB_PASSWORD"] + "'", // letters and digits alone
	} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return err
		}
	}
	inside, err := pgx.Connect(ctx, d.cluster.URL("loans"))
	if err != nil {
		return err
	}
	defer inside.Close(ctx)
	_, err = inside.Exec(ctx, `CREATE TABLE requests (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, branch text NOT NULL, title text NOT NULL, returned boolean NOT NULL);
		INSERT INTO requests (branch, title, returned) VALUES ('Harbour Street', 'A Field Guide to Ferns', false),
			('Harbour Street', 'Tides and Timetables', false), ('Mill Lane', 'The Cartographer''s Winter', false), ('Mill Lane', 'Bread by Hand', true);
		GRANT SELECT ON requests TO loans_app`)
	return err
}

// movePort keeps the store right about the port that the database has in this run.
func (d *demo) movePort(ctx context.Context) error {
	owner, err := client.New(d.URL)
	if err != nil {
		return err
	}
	if _, err := owner.SignIn(ctx, d.People[0].Login, d.People[0].Password); err != nil {
		return err
	}
	port := fmt.Sprint(d.cluster.Port())
	for _, environment := range []string{"local", "live"} {
		place := client.Place{Project: "loans", Environment: environment}
		present, err := owner.Entry(ctx, place, "PGPORT")
		if err != nil || present.Setting == port {
			continue
		}
		request := wire.ChangeRequest{Reason: "the demo's database has another port in this run", Edits: []wire.Edit{{Name: "PGPORT", Kind: "setting", Value: port}}}
		if _, err := owner.Change(ctx, place, client.AnyRevision, request); err != nil {
			return err
		}
	}
	return owner.SignOut(ctx)
}
