package trail

import (
	"strings"
	"time"
)

// Filter chooses among events. Empty fields choose all.
type Filter struct {
	Actor       string // person:3
	Action      string // noun.verb, or a noun alone
	Outcome     Outcome
	Project     string
	Environment string
	Name        string // of an entry, or anything that stands among the event's names
	From        string // network address
	Since       time.Time
	Until       time.Time
}

// Chooses tells whether an event is one of those.
func (f Filter) Chooses(e Event) bool {
	switch {
	case f.Actor != "" && f.Actor != e.Actor,
		f.Action != "" && f.Action != e.Action && !strings.HasPrefix(e.Action, f.Action+"."),
		f.Outcome != "" && f.Outcome != e.Outcome,
		f.Project != "" && f.Project != e.Project,
		f.Environment != "" && f.Environment != e.Environment,
		f.From != "" && f.From != e.From,
		!f.Since.IsZero() && e.At.Before(f.Since),
		!f.Until.IsZero() && !e.At.Before(f.Until):
		return false
	}
	return f.Name == "" || named(e.Names, f.Name)
}

// named tells whether a name stands among others, or in a reference among them.
func named(all []string, name string) bool {
	for _, n := range all {
		if bareName(n) == name {
			return true
		}
	}
	return false
}

// bareName is the name that stands in a reference.
func bareName(n string) string {
	n = strings.TrimPrefix(n, "adytum:")
	if i := strings.LastIndexByte(n, '/'); i >= 0 {
		n = n[i+1:]
	}
	n, _, _ = strings.Cut(n, ":")
	n, _, _ = strings.Cut(n, "@")
	return n
}
