package trail

import (
	"bytes"
	"encoding/json"
	"hash/fnv"
	"strings"
	"time"
)

// Indexer makes what a batch is found by. It remembers what it made of names,
// which come again and again; it is not safe for concurrent use.
type Indexer struct{ names map[string][]int64 }

// maxRemembered bounds what an Indexer remembers.
const maxRemembered = 4096

// Index is what a batch is found by: the terms of its events, and the time that
// they span.
type Index struct {
	Terms            []int64
	Earliest, Latest time.Time
}

// Index makes the index of a batch.
func (x *Indexer) Index(b Batch) (Index, error) {
	if x.names == nil || len(x.names) > maxRemembered {
		x.names = map[string][]int64{}
	}
	events, err := elements(b.Body, b.N)
	if err != nil {
		return Index{}, err
	}
	var out Index
	seen := map[int64]bool{}
	add := func(t int64) {
		if !seen[t] {
			seen[t] = true
			out.Terms = append(out.Terms, t)
		}
	}
	for _, event := range events {
		var at time.Time
		var badly error
		err := members(event, func(key, value []byte) {
			switch field := string(key); field {
			case "at":
				at, badly = time.Parse(`"`+timeForm+`"`, string(value))
			case "action":
				whole := plain(value)
				add(term(field, whole))
				noun, _, _ := strings.Cut(whole, ".")
				add(term(field, noun))
			case "actor", "outcome", "project", "environment", "from":
				add(term(field, plain(value)))
			case "names":
				for _, t := range x.namesOf(value) {
					add(t)
				}
			}
		})
		if err != nil || badly != nil {
			return Index{}, errForm
		}
		if out.Earliest.IsZero() || at.Before(out.Earliest) {
			out.Earliest = at
		}
		if at.After(out.Latest) {
			out.Latest = at
		}
	}
	return out, nil
}

func (x *Indexer) namesOf(value []byte) []int64 {
	if terms, known := x.names[string(value)]; known {
		return terms
	}
	var names []string
	_ = json.Unmarshal(value, &names) // what cannot be read has no names to be found by
	terms := make([]int64, len(names))
	for i, n := range names {
		terms[i] = term("name", bareName(n))
	}
	x.names[string(value)] = terms
	return terms
}

// plain is the text of a JSON text.
func plain(value []byte) string {
	if n := len(value); n >= 2 && value[0] == '"' && bytes.IndexByte(value, '\\') < 0 {
		return string(value[1 : n-1])
	}
	var s string
	_ = json.Unmarshal(value, &s)
	return s
}

// term is a field's value as a number. Two values may have the same one: what is
// found by terms is looked at again.
func term(field, value string) int64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(field + "\x00" + value))
	return int64(h.Sum64())
}

// Terms are the terms that the index of each batch has in which the filter may
// choose an event.
func (f Filter) Terms() []int64 {
	terms := []int64{}
	for field, value := range map[string]string{"actor": f.Actor, "action": f.Action, "outcome": string(f.Outcome), "project": f.Project,
		"environment": f.Environment, "name": f.Name, "from": f.From} {
		if value != "" {
			terms = append(terms, term(field, value))
		}
	}
	return terms
}
