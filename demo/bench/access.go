package main

import (
	"fmt"
	"net/netip"
	"time"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
)

// decision measures one decision among ten thousand grants, of which one person
// has a hundred in the project that is asked about, none of which allows it.
func (b *bench) decision() (row, error) {
	var rules access.Rules
	who := access.Subject{Kind: access.Person, ID: 1}
	for i := range int64(10_000) {
		rules.Grants = append(rules.Grants, access.Grant{ID: i, Who: access.Subject{Kind: access.Person, ID: 1 + i%10}, Role: "observer",
			Where: access.Where{Project: 1 + i/10%10, Environment: i}, Limits: access.Limits{Names: "DB_*", Networks: []netip.Prefix{netip.MustParsePrefix("2001:db8::/32")}}})
	}
	grants := access.NewGrants(rules)
	asker := access.Asker{Subject: who, From: netip.MustParseAddr("192.0.2.7"), At: time.Now()}
	const n = 100_000
	start := time.Now()
	for range n {
		if _, may := grants.DecideName(asker, access.Read, access.Where{Project: 7, Environment: 1 << 40}, "DB_PASSWORD"); may {
			return row{}, fmt.Errorf("it was allowed")
		}
	}
	each := time.Since(start) / n
	return row{fmt.Sprintf("%.2f µs", float64(each.Nanoseconds())/1000), "20 µs", fmt.Sprintf("%.3f", float64(each)/float64(20*time.Microsecond)), "beside the aim; 10,000 grants"}, nil
}

// verification measures the check of a million events, as it is done once they
// were read from the database, beside the aim.
func (b *bench) verification() (row, error) {
	key, err := secret.RandomKey()
	if err != nil {
		return row{}, err
	}
	defer key.Destroy()
	const total, size = 1_000_000, 64
	verifier := trail.NewVerifier(key)
	spent := time.Duration(0)
	at := time.Now()
	for first := int64(1); first <= total; first += size {
		events := make([]trail.Event, size)
		for i := range events {
			events[i] = trail.Event{Lane: "reader-bench", Seq: first + int64(i), At: at, Action: "entry.resolve", Outcome: trail.Allowed, Actor: "workload:1", Token: 7, From: "192.0.2.7",
				Project: "loans", Environment: "live", Names: []string{"adytum:PGPASSWORD", "adytum:QUILLPOST_KEY", "adytum:PGHOST"}, Layers: map[string]int64{"3": 12, "2": 4, "1": 1}, Grant: 9}
		}
		batch := trail.NewBatch(key, events)
		start := time.Now()
		verifier.Add(batch)
		spent += time.Since(start)
	}
	if len(verifier.Problems) > 0 || verifier.Events != total {
		return row{}, fmt.Errorf("the trail that was made does not verify: %v", verifier.Problems)
	}
	return row{fmt.Sprintf("%.1f s", spent.Seconds()), "20 s", fmt.Sprintf("%.2f", spent.Seconds()/20), "beside the aim; one core, without reading from the database"}, nil
}
