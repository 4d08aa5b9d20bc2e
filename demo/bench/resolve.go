package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"

	"adytum.example/client"
	"adytum.example/client/wire"
)

// fifty are the references of an environment with 50 entries over three layers:
// 30 of its own, of which 20 are secrets, 12 of the project and 8 of the
// organization, half of them secrets.
func (b *bench) fifty() ([]string, error) {
	var references []string
	for _, layer := range []struct {
		place    client.Place
		n, plain int
	}{{client.Place{}, 8, 4}, {client.Place{Project: "loans"}, 12, 6}, {b.place, 30, 10}} {
		request := wire.ChangeRequest{Reason: "to be measured"}
		for i := range layer.n {
			name := fmt.Sprintf("BENCH_%d_%d", layer.n, i)
			references = append(references, "adytum:"+name)
			e := wire.Edit{Name: name, Kind: "setting", Value: fmt.Sprintf("setting number %d of the layer", i)}
			if i >= layer.plain {
				e = wire.Edit{Name: name, Generate: &wire.Generate{What: "text"}}
			}
			request.Edits = append(request.Edits, e)
		}
		if _, err := b.owner.Change(context.Background(), layer.place, client.AnyRevision, request); err != nil {
			return nil, err
		}
	}
	return references, nil
}

func (b *bench) resolve() (row, error) {
	references, err := b.fifty()
	if err != nil {
		return row{}, err
	}
	answer, err := b.client.Resolve(context.Background(), b.place, references, nil)
	if err != nil {
		return row{}, err
	}
	request, err := json.Marshal(wire.ResolveRequest{References: references})
	if err != nil {
		return row{}, err
	}
	return b.beside(http.MethodPost, benchPath+"/resolve", request, answer)
}

var tps = regexp.MustCompile(`tps = ([0-9.]+) \(without`)

// resolveBesideSelect compares a resolve, which makes an event durable, with the
// rate at which the same cluster answers the plainest question there is.
func (b *bench) resolveBesideSelect() (row, error) {
	programs, err := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench")
	if err != nil || len(programs) == 0 {
		return row{}, fmt.Errorf("pgbench is not there: %w", err)
	}
	pgbench := func(args ...string) (string, error) {
		cmd := exec.Command(programs[len(programs)-1], append(args, strings.Replace(b.demo.Database, "/postgres", "/loans", 1))...)
		cmd.Env = append(os.Environ(), "LC_ALL=C")
		output, err := cmd.CombinedOutput()
		if err != nil {
			err = fmt.Errorf("pgbench: %w: %s", err, output)
		}
		return string(output), err
	}
	if _, err := pgbench("-i", "-q"); err != nil {
		return row{}, err
	}
	output, err := pgbench("-S", "-n", "-c", strconv.Itoa(callers), "-j", "2", "-T", "6")
	if err != nil {
		return row{}, err
	}
	m := tps.FindStringSubmatch(output)
	if m == nil {
		return row{}, fmt.Errorf("pgbench told no rate")
	}
	selects, err := strconv.ParseFloat(m[1], 64)
	if err != nil {
		return row{}, err
	}
	var references []string
	for i := range 30 {
		references = append(references, fmt.Sprintf("adytum:BENCH_30_%d", i))
	}
	request, err := json.Marshal(wire.ResolveRequest{References: references})
	if err != nil {
		return row{}, err
	}
	rate, _, err := load(callers, duration, b.requester(http.MethodPost, request)(b.demo.URL+benchPath+"/resolve"))
	return row{fmt.Sprintf("%.0f/s", rate), fmt.Sprintf("%.0f/s", selects), fmt.Sprintf("%.2f", rate/selects), "30 values; beside pgbench -S on the same cluster"}, err
}

// keep measures changes of one secret each to one layer, beside PostgreSQL's own
// small transactions on one row.
func (b *bench) keep() (row, error) {
	var n atomic.Int64
	place := client.Place{Project: "loans", Environment: "staging"}
	rate, p99, err := load(callers, duration, func() error {
		_, err := b.owner.Change(context.Background(), place, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Name: fmt.Sprintf("KEPT_%d", n.Add(1)%40), Kind: "secret", Value: "a value that is kept"}}})
		return err
	})
	if err != nil {
		return row{}, err
	}
	single, _, err := load(1, duration/2, func() error {
		_, err := b.owner.Change(context.Background(), place, client.AnyRevision, wire.ChangeRequest{Edits: []wire.Edit{{Name: "KEPT_ALONE", Kind: "secret", Value: "a value that is kept"}}})
		return err
	})
	return row{fmt.Sprintf("%.0f/s", rate), fmt.Sprintf("%.0f/s", single), fmt.Sprintf("%.2f", rate/single), fmt.Sprintf("%d callers on one layer beside one caller; 99 %% within %.1f ms", callers, float64(p99.Microseconds())/1000)}, err
}
