package reference

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// SyntaxError is a text that starts like a reference and is none. It points at
// the character where reading stopped. It quotes nothing but that character, for
// what follows a mistyped reference may be a value.
type SyntaxError struct {
	Offset   int    // in bytes from the start of the text that was read
	Found    string // the character found there, empty at the end
	Expected string // what could have stood there
}

func (e *SyntaxError) Error() string {
	if e.Found == "" {
		return fmt.Sprintf("the reference ends at character %d where %s was expected", e.Offset+1, e.Expected)
	}
	return fmt.Sprintf("the reference has %s at character %d where %s was expected", e.Found, e.Offset+1, e.Expected)
}

// scanner reads one reference. It stops at the first character that cannot
// belong to it; the caller decides whether that may follow.
type scanner struct {
	text string
	at   int
}

func (s *scanner) fail(expected string) *SyntaxError {
	e := &SyntaxError{Offset: s.at, Expected: expected}
	if s.at < len(s.text) {
		c, _ := utf8.DecodeRuneInString(s.text[s.at:])
		e.Found = strconv.QuoteRune(c)
	}
	return e
}

func (s *scanner) peek() byte {
	if s.at < len(s.text) {
		return s.text[s.at]
	}
	return 0
}

// while takes the characters that belong to a class.
func (s *scanner) while(class func(byte) bool) string {
	start := s.at
	for s.at < len(s.text) && class(s.text[s.at]) {
		s.at++
	}
	return s.text[start:s.at]
}

// reference reads what follows the scheme.
func (s *scanner) reference() (Reference, error) {
	r, err := s.locator()
	if err != nil {
		return r, err
	}
	if s.peek() == '@' {
		if r.Version, err = s.version(r); err != nil {
			return r, err
		}
	}
	if s.peek() == ':' {
		r.Field, err = s.field()
	}
	return r, err
}

func (s *scanner) locator() (Reference, error) {
	if s.peek() == '/' {
		s.at++
		name, err := s.name()
		return Reference{Scope: Organization, Name: name}, err
	}
	// Whether the first segment is a project or a name shows only behind it.
	start := s.at
	s.while(func(c byte) bool { return isName(c) || c == '-' })
	if s.peek() != '/' {
		s.at = start
		name, err := s.name()
		return Reference{Name: name}, err
	}
	s.at = start
	project, err := s.place("a project")
	if err != nil {
		return Reference{}, err
	}
	start = s.at
	s.while(func(c byte) bool { return isName(c) || c == '-' })
	isEnvironment := s.peek() == '/'
	s.at = start
	if !isEnvironment {
		name, err := s.name()
		return Reference{Scope: Project, Project: project, Name: name}, err
	}
	environment, err := s.place("an environment")
	if err != nil {
		return Reference{}, err
	}
	name, err := s.name()
	return Reference{Scope: Environment, Project: project, Environment: environment, Name: name}, err
}

func (s *scanner) name() (string, error) {
	if !isNameStart(s.peek()) {
		return "", s.fail("a name (a letter or \"_\", then letters, digits and \"_\")")
	}
	name := s.while(isName)
	if len(name) > MaxName {
		s.at -= len(name) - MaxName
		return "", s.fail(fmt.Sprintf("the end of the name, which has at most %d characters", MaxName))
	}
	return name, nil
}

// place reads a project's or an environment's name and the slash behind it.
func (s *scanner) place(what string) (string, error) {
	start := s.at
	name := s.while(isPlace)
	if s.peek() != '/' {
		return "", s.fail("the name of " + what + " (lower-case letters, digits and \"-\") followed by \"/\"")
	}
	if !ValidPlace(name) {
		s.at = start
		return "", s.fail(fmt.Sprintf("the name of %s (it starts with a lower-case letter, does not end in \"-\" and has at most %d characters)", what, MaxPlace))
	}
	s.at++
	return name, nil
}

func (s *scanner) version(r Reference) (int64, error) {
	if r.Scope == Relative {
		return 0, s.fail("no version: only a reference that names its project, or the organization with \"/\", can be pinned to one; here \":\" or the end")
	}
	s.at++
	start := s.at
	digits := s.while(isDigit)
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || n < 1 || n >= maxVersion || digits[0] == '0' {
		s.at = start
		return 0, s.fail("a version's number, from 1 and without leading zeros")
	}
	return n, nil
}

func (s *scanner) field() ([]string, error) {
	var path []string
	for s.peek() == ':' && path == nil || s.peek() == '.' && path != nil {
		s.at++
		member := s.while(isMember)
		if member == "" {
			return nil, s.fail("the name of a field (letters, digits, \"_\" and \"-\")")
		}
		if path = append(path, member); len(path) > MaxFields {
			return nil, s.fail(fmt.Sprintf("at most %d fields in a path", MaxFields))
		}
	}
	return path, nil
}

// expectedNext says what could have stood behind a complete reference.
func (s *scanner) expectedNext(r Reference) string {
	var options []string
	if len(r.Field) > 0 {
		options = append(options, "\".\"")
	} else {
		if r.Scope != Relative && r.Version == 0 {
			options = append(options, "\"@\"")
		}
		options = append(options, "\":\"")
	}
	return strings.Join(append(options, "the end"), " or ")
}
