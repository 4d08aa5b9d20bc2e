// Package reference reads and writes references: the text that stands in a file
// or a variable in place of a value. It knows the grammar alone; what a
// reference leads to is somebody else's to find out.
//
// A reference is a URI (RFC 3986) without authority:
//
//	reference = "adytum:" locator [ "@" version ] [ ":" field ]
//	locator   = name                            ; of whoever resolves it
//	          / project "/" environment "/" name
//	          / project "/" name                ; the project's common layer alone
//	          / "/" name                        ; the organization's layer alone
//	version   = 1*DIGIT                         ; with an absolute locator only
//	field     = member *( "." member )          ; of a JSON object
package reference

import (
	"strconv"
	"strings"
)

// Scheme is what every reference starts with.
const Scheme = "adytum:"

// Limits of what is read; nothing sensible comes near them.
const (
	MaxName    = 128 // bytes in the name of an entry
	MaxPlace   = 63  // bytes in the name of a project or an environment
	MaxFields  = 16  // members in a field path
	maxVersion = 1 << 31
)

// Scope says which layers a reference is looked up in.
type Scope int

// The scopes that there are.
const (
	Relative     Scope = iota // the project and environment of whoever resolves it
	Environment               // a named environment with its layers
	Project                   // a project's common layer alone
	Organization              // the organization's layer alone
)

// Reference is one valid reference. The zero value is none; obtain one from [Parse].
type Reference struct {
	Scope       Scope
	Project     string // empty for Relative and Organization
	Environment string // set for Environment alone
	Name        string
	Version     int64    // 0 is the newest active one
	Field       []string // path into a JSON object, empty for the whole value
}

// String writes the reference in the one canonical form that [Parse] reads.
func (r Reference) String() string {
	var b strings.Builder
	b.WriteString(Scheme)
	switch r.Scope {
	case Environment:
		b.WriteString(r.Project + "/" + r.Environment + "/")
	case Project:
		b.WriteString(r.Project + "/")
	case Organization:
		b.WriteString("/")
	}
	b.WriteString(r.Name)
	if r.Version > 0 {
		b.WriteString("@" + strconv.FormatInt(r.Version, 10))
	}
	if len(r.Field) > 0 {
		b.WriteString(":" + strings.Join(r.Field, "."))
	}
	return b.String()
}

// Starts tells whether text starts like a reference. Such a text is either a
// valid reference or an error; it is never passed on as a value.
func Starts(text string) bool { return strings.HasPrefix(text, Scheme) }

// Parse reads text as one reference from its first to its last character. Its
// error is a *[SyntaxError].
func Parse(text string) (Reference, error) {
	s := scanner{text: text}
	if !Starts(text) {
		return Reference{}, s.fail("\"" + Scheme + "\"")
	}
	s.at = len(Scheme)
	r, err := s.reference()
	if err != nil {
		return Reference{}, err
	}
	if s.at < len(text) {
		return Reference{}, s.fail(s.expectedNext(r))
	}
	return r, nil
}

// ValidName tells whether name can be the name of an entry:
// a letter or "_", then letters, digits and "_", at most [MaxName] bytes.
func ValidName(name string) bool {
	if name == "" || len(name) > MaxName || !isNameStart(name[0]) {
		return false
	}
	for i := range len(name) {
		if !isName(name[i]) {
			return false
		}
	}
	return true
}

// ValidPlace tells whether name can be the name of a project or an environment:
// a lower-case letter, then lower-case letters, digits and "-", not ending in
// "-", at most [MaxPlace] bytes.
func ValidPlace(name string) bool {
	if name == "" || len(name) > MaxPlace || name[0] < 'a' || name[0] > 'z' || name[len(name)-1] == '-' {
		return false
	}
	for i := range len(name) {
		if !isPlace(name[i]) {
			return false
		}
	}
	return true
}

func isNameStart(c byte) bool { return isLetter(c) || c == '_' }
func isName(c byte) bool      { return isLetter(c) || isDigit(c) || c == '_' }
func isPlace(c byte) bool     { return c >= 'a' && c <= 'z' || isDigit(c) || c == '-' }
func isLetter(c byte) bool    { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }
func isDigit(c byte) bool     { return c >= '0' && c <= '9' }
func isMember(c byte) bool    { return isName(c) || c == '-' }
