// Package alert tells what is out of the ordinary: it keeps a running baseline of
// what each identity does, and says of each event whether it departs from it. It
// decides; keeping and telling people is others' business.
package alert

import (
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"strconv"
	"time"
)

// Kind is a kind of alert.
type Kind string

// The kinds of alerts.
const (
	Refusals   Kind = "refusals"    // many refusals in a short time
	Volume     Kind = "volume"      // more values than ever before in an hour
	Network    Kind = "new-network" // a first use from there
	Everything Kind = "everything"  // the reading of everything at once
	Hours      Kind = "hours"       // a use at an hour of the day at which there was none before
	Decoy      Kind = "decoy"       // a use of what nobody needs
	Test       Kind = "test"        // sent to see whether it arrives
)

// Seen is what an event shows of who did it.
type Seen struct {
	At       time.Time
	Actor    string // person:3, workload:1; empty: nobody who signed in
	Person   bool
	From     string
	Refused  bool
	Obtained []string // names of values that were obtained, with their place
	Times    int      // that the event stands for; 0: once
	Archive  bool     // a whole project at once
}

// Raised is an alert that an event gives rise to.
type Raised struct {
	Kind Kind
	What string // a sentence for people, without values
}

// The bounds that decide. What an identity has done before moves most of them.
const (
	refusedMany   = 10
	refusedWithin = 5 * time.Minute
	volumeFloor   = 200 // values in an hour that are never too many
	volumeTimes   = 5   // the most in an hour before
	knownAfter    = 24 * time.Hour
	volumeAfter   = 72 * time.Hour
	hoursAfter    = 10 // days on which somebody was active
	atOnceWithin  = 10 * time.Minute
	atOnceFloor   = 20 // different names that are never everything
	atOnceNew     = 50 // for one who has not been seen for long
	atOnceTimes   = 3
	quietFor      = time.Hour // in which the same is not told again
	maxNetworks   = 64
	maxWindow     = 2000
)

// Baseline is what was ordinary for one identity so far. The zero value is that of
// one who was never seen. It is kept as JSON.
type Baseline struct {
	Since    time.Time          `json:"since"`
	Last     time.Time          `json:"last"`
	Days     int                `json:"days"`  // on which it was active
	Hours    uint32             `json:"hours"` // of the day, in UTC, a bit each
	Networks []string           `json:"networks,omitempty"`
	Hour     time.Time          `json:"hour"` // the one that is counted
	InHour   int                `json:"inHour,omitempty"`
	TopHour  int                `json:"topHour,omitempty"` // the most in an hour before
	Window   time.Time          `json:"window"`
	Names    map[string]bool    `json:"names,omitempty"` // obtained in the window, as numbers
	TopNames int                `json:"topNames,omitempty"`
	Refused  int                `json:"refused,omitempty"`
	RefusedA time.Time          `json:"refusedSince"`
	Told     map[Kind]time.Time `json:"told,omitempty"`
}

// Observe takes an event into the baseline, and returns what is out of the
// ordinary about it. Events come in about the order of their times.
func (b *Baseline) Observe(s Seen) (all []Raised) {
	raise := func(kind Kind, format string, args ...any) {
		if last, told := b.Told[kind]; told && s.At.Sub(last) < quietFor {
			return
		}
		if b.Told == nil {
			b.Told = map[Kind]time.Time{}
		}
		b.Told[kind] = s.At
		all = append(all, Raised{kind, fmt.Sprintf(format, args...)})
	}
	times := max(s.Times, 1)
	if s.Refused {
		if s.At.Sub(b.RefusedA) > refusedWithin || b.RefusedA.IsZero() {
			b.Refused, b.RefusedA = 0, s.At
		}
		if b.Refused += times; b.Refused >= refusedMany {
			raise(Refusals, "%d requests were refused within %d minutes", b.Refused, int(refusedWithin.Minutes()))
		}
	}
	if s.Actor == "" {
		return all
	}
	if b.Since.IsZero() {
		b.Since = s.At
	}
	known := s.At.Sub(b.Since)
	if !s.Refused {
		if network := networkOf(s.From); network != "" && !slices.Contains(b.Networks, network) {
			if known >= knownAfter && len(b.Networks) > 0 {
				raise(Network, "it was used from the network %s for the first time", network)
			}
			if b.Networks = append(b.Networks, network); len(b.Networks) > maxNetworks {
				b.Networks = b.Networks[1:]
			}
		}
	}
	if s.Person && !s.Refused {
		b.hours(s, raise)
	}
	if day := s.At.UTC().Truncate(24 * time.Hour); b.Last.Before(day) {
		b.Days++
	}
	if s.At.After(b.Last) {
		b.Last = s.At
	}
	if len(s.Obtained) > 0 || s.Archive {
		b.obtained(s, known, raise)
	}
	return all
}

// hours looks at the hour of the day, with the ones beside it.
func (b *Baseline) hours(s Seen, raise func(Kind, string, ...any)) {
	hour := s.At.UTC().Hour()
	near := uint32(1)<<hour | uint32(1)<<((hour+1)%24) | uint32(1)<<((hour+23)%24)
	if b.Days >= hoursAfter && b.Hours&near == 0 {
		raise(Hours, "it was used at %02d:%02d UTC, at which it was not used on any of %d days", hour, s.At.UTC().Minute(), b.Days)
	}
	b.Hours |= uint32(1) << hour
}

// obtained looks at how much was obtained, and how much of it was different.
func (b *Baseline) obtained(s Seen, known time.Duration, raise func(Kind, string, ...any)) {
	if hour := s.At.UTC().Truncate(time.Hour); !hour.Equal(b.Hour) {
		b.TopHour, b.InHour, b.Hour = max(b.TopHour, b.InHour), 0, hour
	}
	b.InHour += len(s.Obtained) * max(s.Times, 1)
	if limit := max(volumeFloor, volumeTimes*b.TopHour); known >= volumeAfter && b.InHour > limit {
		raise(Volume, "%d values were obtained within an hour, and never more than %d before", b.InHour, b.TopHour)
	}
	if s.Archive {
		raise(Everything, "a whole project was read at once")
	}
	if s.At.Sub(b.Window) > atOnceWithin {
		b.TopNames, b.Names, b.Window = max(b.TopNames, len(b.Names)), nil, s.At
	}
	if b.Names == nil {
		b.Names = map[string]bool{}
	}
	for _, name := range s.Obtained {
		if len(b.Names) < maxWindow {
			b.Names[number(name)] = true
		}
	}
	limit := max(atOnceFloor, atOnceTimes*b.TopNames)
	if known < knownAfter {
		limit = max(limit, atOnceNew)
	}
	if s.Person && len(b.Names) >= limit {
		raise(Everything, "%d different values were obtained within %d minutes, and never more than %d before", len(b.Names), int(atOnceWithin.Minutes()), b.TopNames)
	}
}

// number is a name as a number, which is all that the baseline needs of it.
func number(name string) string {
	h := fnv.New32a()
	_, _ = h.Write([]byte(name))
	return strconv.FormatUint(uint64(h.Sum32()), 36)
}

// networkOf is the network that an address counts as: 24 bits of IPv4, 48 of IPv6.
func networkOf(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return ""
	}
	bits := 48
	if a = a.Unmap(); a.Is4() {
		bits = 24
	}
	p, err := a.Prefix(bits)
	if err != nil {
		return ""
	}
	return p.String()
}
