package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sort"
	"strings"
	"time"

	"adytum.example/client"
	"adytum.example/client/wire"
)

// The size that every list and resolve is measured at.
const (
	manyProjects = 1000
	manyEntries  = 100 // in each project
	manyVersions = 10  // of each entry
)

// scale measures lists and resolves on the demo's few entries, fills the store
// with a hundred thousand entries of ten versions in a thousand projects, and
// measures the same again.
func (b *bench) scale() (row, error) {
	ctx := context.Background()
	references := make([]string, 50)
	small := client.Place{Project: "size-0", Environment: "live"}
	for i := range references {
		references[i] = fmt.Sprintf("adytum:ENTRY_%d", i)
	}
	if err := b.fillProject(ctx, 0, manyVersions); err != nil {
		return row{}, err
	}
	asks := []struct {
		name string
		ask  func(client.Place) error
	}{
		{"resolve of 50", func(p client.Place) error { _, err := b.owner.Resolve(ctx, p, references, nil); return err }},
		{"list of 100", func(p client.Place) error { _, err := b.owner.Entries(ctx, p); return err }},
		{"history", func(p client.Place) error { _, err := b.owner.History(ctx, p, "ENTRY_7"); return err }},
		{"changes", func(p client.Place) error { _, err := b.owner.Changes(ctx, p); return err }},
		{"search", func(p client.Place) error {
			_, err := b.owner.Find(ctx, p, client.Query{Search: "entry_9"})
			return err
		}},
	}
	before := make([]time.Duration, len(asks))
	var err error
	for i, a := range asks {
		if before[i], err = times(func() error { return a.ask(small) }); err != nil {
			return row{}, err
		}
	}
	start := time.Now()
	for i := 1; i < manyProjects; i++ {
		if err := b.fillProject(ctx, i, manyVersions); err != nil {
			return row{}, err
		}
	}
	filled := time.Since(start)
	random := rand.New(rand.NewPCG(1, 1))
	worst, what := 0.0, []string{}
	for i, a := range asks {
		warm, err := times(func() error { return a.ask(small) })
		if err != nil {
			return row{}, err
		}
		// Most of these are not in memory.
		cold, err := times(func() error {
			return a.ask(client.Place{Project: fmt.Sprintf("size-%d", random.IntN(manyProjects)), Environment: "live"})
		})
		if err != nil {
			return row{}, err
		}
		ratio := float64(warm) / float64(before[i])
		worst = max(worst, ratio)
		what = append(what, fmt.Sprintf("%s %s → %s (any project %s)", a.name, ms(before[i]), ms(warm), ms(cold)))
	}
	memory, err := b.memory()
	return row{fmt.Sprintf("%.2f times", worst), "2 times", fmt.Sprintf("%.2f", worst/2),
		fmt.Sprintf("the worst of: %s; filled in %.0f s, memory %s", strings.Join(what, ", "), filled.Seconds(), memory.measured)}, err
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
func times(ask func() error) (time.Duration, error) {
	all := make([]time.Duration, 300)
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
