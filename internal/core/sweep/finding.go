package sweep

import (
	"crypto/sha256"
	"encoding/base32"
	"encoding/binary"
	"sort"
	"strings"
	"time"
)

// digest is the SHA-256 of a value. It is kept in memory alone, to tell equal
// values; it never leaves in a report.
type digest [sha256.Size]byte

func digestOf(value []byte) digest { return sha256.Sum256(value) }

// State of a finding.
const StateOpen = "open"

// Finding is one leaked value in one source, with every place it stands in.
type Finding struct {
	ID         string   `json:"id"`
	Rule       string   `json:"rule"`
	Finds      string   `json:"finds"`
	Severity   Severity `json:"severity"`
	Confidence float64  `json:"confidence"`
	State      string   `json:"state"`
	Why        string   `json:"why"`
	Remedy     string   `json:"remedy"`
	Places     []Place  `json:"places"`
}

// Place is where a value stands. Lines and columns count from 1, columns in
// characters.
type Place struct {
	Path      string     `json:"path"` // relative to what was swept, with forward slashes
	Line      int        `json:"line"`
	Column    int        `json:"column"`
	EndLine   int        `json:"endLine"`
	EndColumn int        `json:"endColumn"`
	Excerpt   string     `json:"excerpt"`
	Object    string     `json:"object,omitempty"`    // git object in which it stands
	Commit    string     `json:"commit,omitempty"`    // that brought it in
	Author    string     `json:"author,omitempty"`    // of that commit
	Date      *time.Time `json:"date,omitempty"`      // of that commit
	RemovedBy string     `json:"removedBy,omitempty"` // the commit that took it out again
	AtTip     *bool      `json:"atTip,omitempty"`     // whether a branch or tag still has it
}

// Report is the result of a sweep.
type Report struct {
	Source     string    `json:"source"` // tree or history
	Root       string    `json:"root"`
	Findings   []Finding `json:"findings"`
	Files      int       `json:"files"` // files or objects that were searched
	Bytes      int64     `json:"bytes"`
	Unsearched []Gap     `json:"unsearched"`      // what could not be searched; silence means searched
	Notes      []string  `json:"notes,omitempty"` // what one should know of how it was searched
}

// Gap is something that could not be searched, and why.
type Gap struct {
	What string `json:"what"`
	Why  string `json:"why"`
}

// Collector gathers hits into findings. It is used by one goroutine.
type Collector struct {
	findings map[collected]*Finding
	order    []collected
}

type collected struct {
	rule   string
	digest digest
}

// NewCollector returns an empty Collector.
func NewCollector() *Collector { return &Collector{findings: map[collected]*Finding{}} }

// Add adds a hit at a place; the hit's position and excerpt go into the place.
func (c *Collector) Add(h Hit, at Place) {
	key := collected{h.Rule.Name, h.digest}
	f, known := c.findings[key]
	if !known {
		f = &Finding{Rule: h.Rule.Name, Finds: h.Rule.Finds, Severity: h.Rule.Severity, Confidence: h.Confidence,
			State: StateOpen, Why: h.Rule.Why, Remedy: h.Rule.Remedy}
		c.findings[key] = f
		c.order = append(c.order, key)
	}
	f.Confidence = max(f.Confidence, h.Confidence)
	at.Line, at.Column, at.EndLine, at.EndColumn, at.Excerpt = h.Line, h.Column, h.EndLine, h.EndColumn, h.Excerpt
	f.Places = append(f.Places, at)
}

// Findings returns what was gathered, worst first, each with its id.
func (c *Collector) Findings() []Finding {
	all := make([]Finding, 0, len(c.order))
	for _, key := range c.order {
		f := *c.findings[key]
		sort.SliceStable(f.Places, func(i, j int) bool { return earlier(f.Places[i], f.Places[j]) })
		f.ID = findingID(f.Rule, f.Places[0].Path, key.digest)
		all = append(all, f)
	}
	sort.SliceStable(all, func(i, j int) bool {
		a, b := all[i], all[j]
		if a.Severity != b.Severity {
			return a.Severity.Rank() < b.Severity.Rank()
		}
		if a.Confidence != b.Confidence {
			return a.Confidence > b.Confidence
		}
		return earlier(a.Places[0], b.Places[0])
	})
	return all
}

// earlier orders places: by the commit's date where there is one, then by path
// and position.
func earlier(a, b Place) bool {
	switch {
	case a.Date != nil && b.Date != nil && !a.Date.Equal(*b.Date):
		return a.Date.Before(*b.Date)
	case a.Path != b.Path:
		return a.Path < b.Path
	case a.Line != b.Line:
		return a.Line < b.Line
	}
	return a.Column < b.Column
}

// findingID is made of the rule, the path that the value came in by, and 24 bits
// of the value's digest: enough to tell two findings apart, too little to confirm
// a guess of the value. Moved lines do not change it.
func findingID(rule, path string, d digest) string {
	sum := sha256.New()
	for _, part := range []string{rule, path, string(d[:3])} {
		sum.Write(binary.BigEndian.AppendUint32(nil, uint32(len(part))))
		sum.Write([]byte(part))
	}
	return "F-" + strings.ToLower(base32.StdEncoding.EncodeToString(sum.Sum(nil)[:8])[:12])
}
