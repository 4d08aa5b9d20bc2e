package main

import (
	"context"
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"

	"adytum.example/client"
	"adytum.example/client/wire"
)

// The size that every list and resolve is measured at, and the small set that
// it is measured beside.
const (
	fewProjects  = 20
	manyProjects = 1000
	manyEntries  = 100 // in each project
	manyVersions = 10  // of each entry
)

// question is something that is asked of a place.
type question struct {
	name string
	ask  func(client.Place) error
}

func (b *bench) questions() []question {
	ctx := context.Background()
	references := make([]string, 50)
	for i := range references {
		references[i] = fmt.Sprintf("adytum:ENTRY_%d", i)
	}
	return []question{
		{"resolve of 50", func(p client.Place) error { _, err := b.owner.Resolve(ctx, p, references, nil); return err }},
		{"list of 100", func(p client.Place) error { _, err := b.owner.Entries(ctx, p); return err }},
		{"history", func(p client.Place) error { _, err := b.owner.History(ctx, p, "ENTRY_7"); return err }},
		{"changes", func(p client.Place) error { _, err := b.owner.Changes(ctx, p); return err }},
		{"search", func(p client.Place) error {
			_, err := b.owner.Find(ctx, p, client.Query{Search: "entry_9"})
			return err
		}},
	}
}

// scale measures lists and resolves on a few projects, fills the store with a
// hundred thousand entries of ten versions in a thousand projects, and measures
// the same again: of a place that was asked for before, and of places of which a
// service that has just started has nothing in memory.
func (b *bench) scale() (row, error) {
	fill := func(from, to int) error {
		for i := from; i < to; i++ {
			if err := b.fillProject(context.Background(), i, manyVersions); err != nil {
				return err
			}
		}
		return nil
	}
	if err := fill(0, fewProjects); err != nil {
		return row{}, err
	}
	before, err := b.warmAndCold(fewProjects)
	if err != nil {
		return row{}, err
	}
	start := time.Now()
	if err := fill(fewProjects, manyProjects); err != nil {
		return row{}, err
	}
	filled := time.Since(start)
	memory, err := b.memory()
	if err != nil {
		return row{}, err
	}
	after, err := b.warmAndCold(manyProjects)
	if err != nil {
		return row{}, err
	}
	worst, what := 0.0, []string{}
	for i, q := range b.questions() {
		worst = max(worst, float64(after[i].warm)/float64(before[i].warm), float64(after[i].cold)/float64(before[i].cold))
		what = append(what, fmt.Sprintf("%s %s → %s, cold %s → %s", q.name, ms(before[i].warm), ms(after[i].warm), ms(before[i].cold), ms(after[i].cold)))
	}
	return row{fmt.Sprintf("%.2f times", worst), "2 times", fmt.Sprintf("%.2f", worst/2),
		fmt.Sprintf("the worst of: %s; filled in %.0f s, memory %s", strings.Join(what, ", "), filled.Seconds(), memory.measured)}, nil
}

type warmCold struct{ warm, cold time.Duration }

// warmAndCold asks every question of one place again and again, and once of
// places of which a service that was started anew has nothing in memory.
func (b *bench) warmAndCold(projects int) ([]warmCold, error) {
	var all []warmCold
	for i := range b.questions() {
		if err := errors.Join(b.stop(), b.start()); err != nil {
			return nil, err
		}
		q := b.questions()[i]
		// The directory is in memory after this, and what belongs to a first request.
		if err := q.ask(client.Place{Project: "size-0", Environment: "live"}); err != nil {
			return nil, err
		}
		next := 0
		cold, err := times(fewProjects-1, func() error {
			next++
			return q.ask(client.Place{Project: fmt.Sprintf("size-%d", next*projects/fewProjects), Environment: "live"})
		})
		if err != nil {
			return nil, err
		}
		warm, err := times(300, func() error { return q.ask(client.Place{Project: "size-0", Environment: "live"}) })
		if err != nil {
			return nil, err
		}
		all = append(all, warmCold{warm, cold})
	}
	return all, nil
}

// fillProject makes a project with an environment full of entries with histories.
func (b *bench) fillProject(ctx context.Context, i, versions int) error {
	name := fmt.Sprintf("size-%d", i)
	if _, err := b.owner.AddProject(ctx, name); err != nil {
		return err
	}
	if _, err := b.owner.AddEnvironment(ctx, name, wire.NewEnvironment{Name: "live"}); err != nil {
		return err
	}
	request := wire.TakeInRequest{Reason: "to be measured"}
	for n := range manyEntries {
		e := wire.ArchivedEntry{Name: fmt.Sprintf("ENTRY_%d", n)}
		for v := range versions {
			e.Versions = append(e.Versions, wire.ArchivedVersion{Kind: []string{"secret", "setting"}[n%2], Value: fmt.Sprintf("value %d of entry %d", v, n), At: time.Now(), By: "bench"})
		}
		request.Entries = append(request.Entries, e)
	}
	_, err := b.owner.TakeIn(ctx, client.Place{Project: name, Environment: "live"}, client.Commit{Base: client.AnyRevision}, request)
	return err
}

// times is the median of many calls, one after the other.
func times(n int, ask func() error) (time.Duration, error) {
	all := make([]time.Duration, n)
	for i := range all {
		start := time.Now()
		if err := ask(); err != nil {
			return 0, err
		}
		all[i] = time.Since(start)
	}
	sort.Slice(all, func(i, j int) bool { return all[i] < all[j] })
	return all[len(all)/2], nil
}
