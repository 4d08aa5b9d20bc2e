package needs

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Spec is rules as text, in the words of the needs file. The zero value asks
// for nothing.
type Spec struct {
	Type      string              `json:"type,omitempty"`
	Pattern   string              `json:"pattern,omitempty"`
	Range     string              `json:"range,omitempty"`
	Length    string              `json:"length,omitempty"`
	Choices   []string            `json:"choices,omitempty"`
	AllowedIn map[string][]string `json:"allowedIn,omitempty"`
}

// Text is the one form in which a Spec is kept, "" for the zero value.
func (s Spec) Text() string {
	b, err := json.Marshal(s)
	if err != nil || string(b) == "{}" {
		return "" // texts always marshal
	}
	return string(b)
}

// ParseSpec reads what [Spec.Text] wrote.
func ParseSpec(text string) (Spec, error) {
	var s Spec
	if text == "" {
		return s, nil
	}
	if err := json.Unmarshal([]byte(text), &s); err != nil {
		return s, fmt.Errorf("read an entry's rules: %w", err)
	}
	return s, nil
}

// maxRule bounds each text of a Spec, in bytes.
const maxRule = 1000

// Rules makes a Spec into rules, or says everything that is wrong with it. Each
// error completes a sentence that begins with a name.
func (s Spec) Rules() (Rules, []error) {
	r := Rules{Type: Type(s.Type), Choices: s.Choices, AllowedIn: s.AllowedIn}
	var wrong []error
	say := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(format, args...)) }
	if r.Type == "" {
		r.Type = Text
	}
	if len(s.Text()) > 8*maxRule || len(s.Pattern) > maxRule {
		return r, []error{fmt.Errorf("has rules of more than %d bytes", 8*maxRule)}
	}
	if !slices.Contains(types, r.Type) {
		say("has the type %q; %sthere are %s", s.Type, didYouMean(s.Type, typeNames()), strings.Join(typeNames(), ", "))
	}
	var err error
	if s.Pattern != "" {
		if r.Pattern, err = regexp.Compile(s.Pattern); err != nil {
			say("has a pattern that is not a regular expression (RE2 syntax): %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		}
	}
	if s.Range != "" {
		if r.Range, err = parseSpan(s.Range); err != nil {
			say("has a range that is none: it %s", err)
		}
	}
	if s.Length != "" {
		if r.Length, err = parseSpan(s.Length); err != nil {
			say("has a length that is none: it %s", err)
		}
	}
	if r.Range != nil && !r.Type.ranged() {
		say("has a range, which is for integer, number and duration; give it one of these types")
	}
	if r.Type == Choice && len(r.Choices) == 0 {
		say("is a choice and says no choices; name them")
	}
	return r, wrong
}

// ranged tells whether values of a type can lie in a range.
func (t Type) ranged() bool { return t == Integer || t == Number || t == Duration }

func typeNames() []string {
	names := make([]string, len(types))
	for i, t := range types {
		names[i] = string(t)
	}
	return names
}
