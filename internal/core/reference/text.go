package reference

import (
	"encoding/base64"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net/url"
	"strings"
	"unicode/utf8"
)

// Encoding is how a value is written at the place it lands in.
type Encoding string

// The encodings that a reference inside a longer text may name with ?as=.
const (
	Plain  Encoding = ""
	URL    Encoding = "url"    // percent-encoding of all but unreserved characters, RFC 3986
	JSON   Encoding = "json"   // the inside of a JSON string, without its quotes, RFC 8259
	YAML   Encoding = "yaml"   // the inside of a double-quoted YAML scalar
	Shell  Encoding = "shell"  // one word for a POSIX shell, quotes included
	XML    Encoding = "xml"    // character data or an attribute's value
	Base64 Encoding = "base64" // standard alphabet with padding, RFC 4648
)

const encodings = "url, json, yaml, shell, xml, base64"

// opening starts a reference inside a text, escaped stands for a literal opening.
const (
	opening = "{" + Scheme
	escaped = "{" + Scheme + ":"
)

// Part is a piece of a [Text]: either a literal or a reference with its encoding.
type Part struct {
	Literal   string
	Reference *Reference // nil for a literal
	As        Encoding
	Offset    int // of the reference's first character in the text
}

// Text is a text with references in it, or a bare reference.
type Text struct {
	parts []Part
	bare  bool
}

// ParseText reads a variable's or a configuration's value: a bare reference, or
// a text in which references stand in braces. Its error is a *[SyntaxError].
func ParseText(text string) (Text, error) {
	if Starts(text) {
		r, err := Parse(text)
		if err != nil {
			return Text{}, err
		}
		return Text{parts: []Part{{Reference: &r}}, bare: true}, nil
	}
	var t Text
	at := 0
	for {
		i := strings.Index(text[at:], opening)
		if i < 0 {
			return t.literal(text[at:]), nil
		}
		t = t.literal(text[at : at+i])
		at += i
		if strings.HasPrefix(text[at:], escaped) {
			t = t.literal(opening)
			at += len(escaped)
			continue
		}
		part, end, err := braced(text, at)
		if err != nil {
			return Text{}, err
		}
		t.parts = append(t.parts, part)
		at = end
	}
}

// braced reads the reference in braces at an offset, and returns where it ends.
func braced(text string, at int) (Part, int, error) {
	s := scanner{text: text, at: at + len(opening)}
	r, err := s.reference()
	if err != nil {
		return Part{}, 0, err
	}
	part := Part{Reference: &r, Offset: at + 1}
	if strings.HasPrefix(text[s.at:], "?as=") {
		s.at += len("?as=")
		start := s.at
		part.As = Encoding(s.while(func(c byte) bool { return isLetter(c) || isDigit(c) }))
		if _, known := encoders[part.As]; !known || part.As == Plain {
			s.at = start
			return Part{}, 0, s.fail("an encoding, one of " + encodings)
		}
	} else if s.peek() == '?' {
		return Part{}, 0, s.fail("\"?as=\" with an encoding, or \"}\"")
	}
	if s.peek() != '}' {
		expected := "\"}\""
		if part.As == Plain {
			expected = "\"}\" or \"?as=\" or " + strings.TrimSuffix(s.expectedNext(r), " or the end")
		}
		return Part{}, 0, s.fail(expected)
	}
	return part, s.at + 1, nil
}

func (t Text) literal(s string) Text {
	if s == "" {
		return t
	}
	if n := len(t.parts); n > 0 && t.parts[n-1].Reference == nil {
		t.parts[n-1].Literal += s
		return t
	}
	t.parts = append(t.parts, Part{Literal: s})
	return t
}

// Bare tells whether the whole text is one reference without braces.
func (t Text) Bare() bool { return t.bare }

// References are the references in the text, in their order, repetitions included.
func (t Text) References() []Reference {
	var all []Reference
	for _, p := range t.parts {
		if p.Reference != nil {
			all = append(all, *p.Reference)
		}
	}
	return all
}

// Expand writes the text with every reference replaced by what lookup gives for
// it, in its encoding.
func (t Text) Expand(lookup func(Reference) ([]byte, error)) ([]byte, error) {
	var out []byte
	for _, p := range t.parts {
		if p.Reference == nil {
			out = append(out, p.Literal...)
			continue
		}
		value, err := lookup(*p.Reference)
		if err != nil {
			return nil, err
		}
		encoded, err := Encode(p.As, value)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.Reference, err)
		}
		out = append(out, encoded...)
	}
	return out, nil
}

// Encode writes a value for the place it lands in. What cannot stand there (a
// NUL in a shell word or in XML, bytes that are no UTF-8 in JSON) is an error.
func Encode(as Encoding, value []byte) ([]byte, error) {
	encode, known := encoders[as]
	if !known {
		return nil, fmt.Errorf("there is no encoding %q; there are %s", string(as), encodings)
	}
	return encode(value)
}

var encoders = map[Encoding]func([]byte) ([]byte, error){
	Plain: func(v []byte) ([]byte, error) { return v, nil },
	URL: func(v []byte) ([]byte, error) {
		return []byte(strings.ReplaceAll(url.QueryEscape(string(v)), "+", "%20")), nil
	},
	JSON:   jsonString,
	YAML:   jsonString, // every JSON string is a double-quoted YAML 1.2 scalar
	Shell:  shellWord,
	XML:    xmlText,
	Base64: func(v []byte) ([]byte, error) { return []byte(base64.StdEncoding.EncodeToString(v)), nil },
}

func jsonString(v []byte) ([]byte, error) {
	if !utf8.Valid(v) {
		return nil, fmt.Errorf("the value is not UTF-8 text; use the encoding base64")
	}
	quoted, err := json.Marshal(string(v))
	if err != nil {
		return nil, err
	}
	return quoted[1 : len(quoted)-1], nil
}

func shellWord(v []byte) ([]byte, error) {
	if strings.ContainsRune(string(v), 0) {
		return nil, fmt.Errorf("the value holds a NUL, which no shell word can; use the encoding base64")
	}
	return []byte("'" + strings.ReplaceAll(string(v), "'", `'\''`) + "'"), nil
}

func xmlText(v []byte) ([]byte, error) {
	for _, c := range string(v) {
		if c == utf8.RuneError || c < 0x20 && c != '\t' && c != '\n' && c != '\r' || c == 0xFFFE || c == 0xFFFF {
			return nil, fmt.Errorf("the value holds a character that XML cannot; use the encoding base64")
		}
	}
	var b strings.Builder
	if err := xml.EscapeText(&b, v); err != nil {
		return nil, err
	}
	return []byte(b.String()), nil
}
