// Package sweep recognises values that escaped: rules, the search over bytes,
// findings and reports. Where the bytes come from is internal/source's business.
package sweep

import (
	"errors"
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
)

// Severity says how bad a leak of a kind is.
type Severity string

// The severities, worst first.
const (
	Critical Severity = "critical"
	High     Severity = "high"
	Medium   Severity = "medium"
	Low      Severity = "low"
)

// Rank orders severities, worst first.
func (s Severity) Rank() int {
	for i, other := range []Severity{Critical, High, Medium, Low} {
		if s == other {
			return i
		}
	}
	return len(s) + 4
}

// Rule is what a kind of leak looks like.
type Rule struct {
	Name     string   `yaml:"name"`
	Finds    string   `yaml:"finds"`
	Why      string   `yaml:"why"`
	Remedy   string   `yaml:"remedy"`
	Severity Severity `yaml:"severity"`
	// Confidence is the share of findings of this rule that are leaks, from 0 to 1.
	Confidence float64 `yaml:"confidence"`
	// Pattern is a regular expression (RE2 syntax); its first group is the value,
	// or all of it where there is none.
	Pattern string `yaml:"pattern"`
	// Near are words of which one must stand near for the pattern to be tried.
	Near []string `yaml:"near"`
	// Starts says that every match starts with one of the words.
	Starts bool `yaml:"starts"`
	// Reach is how many bytes before and behind a word the pattern is tried on;
	// 64 before and 512 behind where it is 0.
	Reach int `yaml:"reach"`
	// Confirm names a check that a match must pass.
	Confirm string `yaml:"confirm"`
	// Method is "assignment" for a rule that looks for secret-named assignments
	// in any syntax instead of a pattern, and "url" for one that looks for
	// passwords in URLs, whose pattern is then that of the scheme.
	Method string `yaml:"method"`
	// Text says that the rule is not tried on binary files.
	Text bool `yaml:"text"`
	// Hits and Misses are examples; <ALPHABET:COUNT> in them is filled at random.
	Hits   []string `yaml:"hits"`
	Misses []string `yaml:"misses"`

	compiled *regexp.Regexp
	confirm  func([]byte) bool
	group    int
	least    int  // the length of the shortest match
	word     bool // whether no match holds white space or quotes
}

const (
	reachBefore  = 64
	reachBehind  = 512
	maxReach     = 64 << 10
	maxRules     = 2000
	maxRulesFile = 1 << 20
	maxPattern   = 4096
)

// ReadRules reads rules as YAML. All that is wrong comes back at once, joined.
func ReadRules(file string, source []byte) ([]*Rule, error) {
	if len(source) > maxRulesFile {
		return nil, fmt.Errorf("%s has more than 1 MiB; a file of rules is far smaller", file)
	}
	rules, err := decodeRules(source)
	if err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		return nil, fmt.Errorf("%s: %s", file, first)
	}
	if len(rules) > maxRules {
		return nil, fmt.Errorf("%s has %d rules; at most %d are allowed", file, len(rules), maxRules)
	}
	var all []error
	names := map[string]bool{}
	for i, r := range rules {
		if r == nil {
			all = append(all, fmt.Errorf("%s: rule %d is empty", file, i+1))
			continue
		}
		for _, err := range r.prepare() {
			all = append(all, fmt.Errorf("%s: rule %d (%s): %w", file, i+1, r.Name, err))
		}
		if names[r.Name] {
			all = append(all, fmt.Errorf("%s: rule %d: the name %s stands twice", file, i+1, r.Name))
		}
		names[r.Name] = true
	}
	return rules, errors.Join(all...)
}

// decodeRules decodes YAML from outside. The library panics on some malformed
// tags; to the caller that is one more kind of error.
func decodeRules(source []byte) (rules []*Rule, err error) {
	defer func() {
		if recover() != nil {
			err = errors.New("this is not a list of rules in YAML")
		}
	}()
	err = yaml.UnmarshalWithOptions(source, &rules, yaml.Strict())
	return rules, err
}

var ruleName = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

func (r *Rule) prepare() (all []error) {
	wrong := func(format string, args ...any) { all = append(all, fmt.Errorf(format, args...)) }
	if !ruleName.MatchString(r.Name) {
		wrong("name is lower-case words joined by \"-\"")
	}
	if r.Finds == "" || r.Why == "" || r.Remedy == "" {
		wrong("finds, why and remedy are needed: what it is, why it matters, what to do")
	}
	if r.Severity.Rank() > 3 {
		wrong("severity is critical, high, medium or low")
	}
	if r.Confidence <= 0 || r.Confidence > 1 {
		wrong("confidence is above 0 and at most 1")
	}
	if len(r.Near) == 0 {
		wrong("near is needed: words of which one must stand near")
	}
	for _, word := range r.Near {
		if len(word) < 3 || len(word) > 32 || !utf8.ValidString(word) {
			wrong("near has a word that is not 3 to 32 bytes of UTF-8")
		}
	}
	if r.Reach < 0 || r.Reach > maxReach {
		wrong("reach is at most %d", maxReach)
	}
	var known bool
	if r.confirm, known = confirmations[r.Confirm]; !known {
		wrong("confirm names %q, which there is not", r.Confirm)
	}
	switch {
	case r.Method == "assignment" && r.Pattern == "":
		return all
	case r.Method != "" && r.Method != "url":
		wrong("method is \"assignment\", and then there is no pattern, or \"url\"")
	case r.Pattern == "" || len(r.Pattern) > maxPattern:
		wrong("pattern is needed, with at most %d characters", maxPattern)
	}
	return append(all, r.compile()...)
}

func (r *Rule) compile() []error {
	pattern := r.Pattern
	if r.Starts {
		pattern = "^(?:" + pattern + ")"
	}
	compiled, err := regexp.Compile(pattern)
	if err != nil {
		var s *syntax.Error
		if errors.As(err, &s) {
			return []error{fmt.Errorf("pattern: %s: %s", s.Code, s.Expr)}
		}
		return []error{errors.New("pattern is not a regular expression (RE2 syntax)")}
	}
	r.compiled = compiled
	if tree, err := syntax.Parse(r.Pattern, syntax.Perl); err == nil {
		r.least, r.word = leastLength(tree), oneWord(tree)
	}
	r.group = min(compiled.NumSubexp(), 1)
	return nil
}

// leastLength is the length of the shortest text that a pattern matches.
func leastLength(r *syntax.Regexp) int {
	switch r.Op {
	case syntax.OpLiteral:
		return len(r.Rune)
	case syntax.OpCharClass, syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		return 1
	case syntax.OpCapture, syntax.OpPlus:
		return leastLength(r.Sub[0])
	case syntax.OpRepeat:
		return r.Min * leastLength(r.Sub[0])
	case syntax.OpConcat:
		sum := 0
		for _, sub := range r.Sub {
			sum += leastLength(sub)
		}
		return sum
	case syntax.OpAlternate:
		least := leastLength(r.Sub[0])
		for _, sub := range r.Sub[1:] {
			least = min(least, leastLength(sub))
		}
		return least
	}
	return 0
}

// oneWord tells whether no match of a pattern can hold white space or quotes.
func oneWord(r *syntax.Regexp) bool {
	switch r.Op {
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		return false
	case syntax.OpCharClass:
		for i := 0; i < len(r.Rune); i += 2 {
			for _, c := range " \"'" {
				if r.Rune[i] <= c && c <= r.Rune[i+1] {
					return false
				}
			}
		}
	case syntax.OpLiteral:
		return !strings.ContainsAny(string(r.Rune), " \"'")
	}
	for _, sub := range r.Sub {
		if !oneWord(sub) {
			return false
		}
	}
	return true
}
