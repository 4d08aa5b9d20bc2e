package layers

import (
	"encoding/json"
	"fmt"
	"net/url"
	"sort"
	"strings"
	"time"
	"unicode/utf8"
)

// Details are what people say of an entry beside its value. They are readable
// with the listing.
type Details struct {
	Owner      string   `json:"owner,omitempty"`      // who looks after it
	Purpose    string   `json:"purpose,omitempty"`    // what it is for
	Link       string   `json:"link,omitempty"`       // where it is managed, such as the issuer's page
	Tags       []string `json:"tags,omitempty"`       // sorted, each once
	MaxAgeDays int      `json:"maxAgeDays,omitempty"` // after which a value should be replaced; 0: the environment's
	Rules      string   `json:"rules,omitempty"`      // what a value must satisfy, as package needs reads it
}

// Limits of details.
const (
	maxDetail = 500 // characters of a text
	maxTags   = 20
	maxTag    = 40
	MaxDays   = 3650
)

// Empty tells whether nothing is said.
func (d Details) Empty() bool { return d.Text() == "" }

// Text is the one form in which details are kept, "" where nothing is said.
func (d Details) Text() string {
	b, err := json.Marshal(d)
	if err != nil || string(b) == "{}" {
		return "" // texts and numbers always marshal
	}
	return string(b)
}

// ParseDetails reads what [Details.Text] wrote.
func ParseDetails(text string) (Details, error) {
	var d Details
	if text == "" {
		return d, nil
	}
	if err := json.Unmarshal([]byte(text), &d); err != nil {
		return d, fmt.Errorf("read an entry's details: %w", err)
	}
	return d, nil
}

// Check puts details into their one form, or says everything that is wrong.
func (d Details) Check(name string) (Details, []error) {
	var wrong []error
	say := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(name+": "+format, args...)) }
	for _, text := range []struct{ what, value string }{{"owner", d.Owner}, {"purpose", d.Purpose}, {"link", d.Link}} {
		if n := utf8.RuneCountInString(text.value); n > maxDetail || !utf8.ValidString(text.value) {
			say("the %s has %d characters; it is text of at most %d", text.what, n, maxDetail)
		}
	}
	if d.Link != "" {
		if u, err := url.Parse(d.Link); err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.User != nil {
			say("the link is not an address such as https://accounts.quillpost.example/keys")
		}
	}
	tags := map[string]bool{}
	for _, tag := range d.Tags {
		if tag = strings.ToLower(strings.TrimSpace(tag)); tag == "" || len(tag) > maxTag || strings.ContainsAny(tag, " ,\t\n") || !utf8.ValidString(tag) {
			say("a tag is one word of at most %d characters", maxTag)
			continue
		}
		tags[tag] = true
	}
	d.Tags = nil
	for tag := range tags {
		d.Tags = append(d.Tags, tag)
	}
	sort.Strings(d.Tags)
	if len(d.Tags) > maxTags {
		say("it has %d tags; at most %d are kept", len(d.Tags), maxTags)
	}
	if d.MaxAgeDays < 0 || d.MaxAgeDays > MaxDays {
		say("the greatest age is %d days; it lies between 1 and %d, or 0 for none", d.MaxAgeDays, MaxDays)
	}
	return d, wrong
}

// Source says where a version came from, where it was not simply given.
type Source struct {
	How     string `json:"how,omitempty"`  // generated, copied, moved, reverted, imported, derived
	From    string `json:"from,omitempty"` // the layer that it was copied or moved from
	Name    string `json:"name,omitempty"` // its name there, where that differs
	Version int64  `json:"version,omitempty"`
	What    string `json:"what,omitempty"` // what was generated
	Bits    int    `json:"bits,omitempty"` // of a generated value's randomness
}

// The ways in which a version can come to be.
const (
	Generated = "generated"
	Copied    = "copied"
	Moved     = "moved"
	Reverted  = "reverted"
	Imported  = "imported"
	Derived   = "derived" // the public half of what was generated
)

// Text is the one form in which a source is kept, "" for a value that was given.
func (s Source) Text() string {
	if s == (Source{}) {
		return ""
	}
	b, err := json.Marshal(s)
	if err != nil {
		return "" // texts and numbers always marshal
	}
	return string(b)
}

// ParseSource reads what [Source.Text] wrote.
func ParseSource(text string) (Source, error) {
	var s Source
	if text == "" {
		return s, nil
	}
	if err := json.Unmarshal([]byte(text), &s); err != nil {
		return s, fmt.Errorf("read where a version came from: %w", err)
	}
	return s, nil
}

// String is the source for people.
func (s Source) String() string {
	from := s.From
	if s.Name != "" {
		from += ", " + s.Name
	}
	switch s.How {
	case Generated:
		if s.Bits > 0 {
			return fmt.Sprintf("generated: %s, %d bits", s.What, s.Bits)
		}
		return "generated: " + s.What
	case Derived:
		return "belongs to " + s.Name
	case Copied, Moved:
		return fmt.Sprintf("%s from %s, version %d", s.How, from, s.Version)
	case Reverted:
		return fmt.Sprintf("as version %d", s.Version)
	case Imported:
		return "imported from " + s.What
	}
	return ""
}

// Aging says since when a version is older than the greatest age that holds for
// it: the entry's, else the environment's, else the project's, in days; 0 is
// none. Zero is what it says where it is not.
func Aging(e *Entry, v *Version, now time.Time, environment, project int) time.Time {
	days := e.Details.MaxAgeDays
	for _, d := range []int{environment, project} {
		if days == 0 {
			days = d
		}
	}
	since := v.At
	if v.ActiveFrom.After(since) {
		since = v.ActiveFrom
	}
	if due := since.AddDate(0, 0, days); days > 0 && v.Kind == Secret && due.Before(now) {
		return due
	}
	return time.Time{}
}
