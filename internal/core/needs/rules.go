package needs

import (
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"math"
	"net/mail"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// Type is what a value must look like.
type Type string

// The types that there are.
const (
	Text     Type = "text"
	Integer  Type = "integer"
	Number   Type = "number"
	Boolean  Type = "boolean"
	Duration Type = "duration"
	URL      Type = "url"
	Email    Type = "email"
	Host     Type = "host"
	JSON     Type = "json"
	Base64   Type = "base64"
	PEM      Type = "pem"
	Choice   Type = "choice"
)

var types = []Type{Text, Integer, Number, Boolean, Duration, URL, Email, Host, JSON, Base64, PEM, Choice}

// Rules are what a value must satisfy.
type Rules struct {
	Type      Type
	Pattern   *regexp.Regexp
	Range     *Span
	Length    *Span // in characters
	Choices   []string
	AllowedIn map[string][]string // environment to the values allowed there
}

// Span is a range with both ends included; an open end is infinite.
type Span struct {
	Low, High float64
	text      string
}

func parseSpan(text string) (*Span, error) {
	low, high, found := strings.Cut(text, "..")
	s := &Span{math.Inf(-1), math.Inf(1), text}
	var err error
	if low != "" {
		if s.Low, err = strconv.ParseFloat(low, 64); err != nil {
			found = false
		}
	}
	if high != "" {
		if s.High, err = strconv.ParseFloat(high, 64); err != nil {
			found = false
		}
	}
	if !found || low == "" && high == "" || s.Low > s.High || math.IsNaN(s.Low) || math.IsNaN(s.High) {
		return nil, fmt.Errorf("has the form 1..200, 1.. or ..200, the lower end first")
	}
	return s, nil
}

// Check says whether a value satisfies the rules in an environment ("" for
// none in particular), and returns it in the form in which it is supplied:
// booleans as true and false, everything else as it is. The error completes a
// sentence that begins with the name, and never quotes the value.
func (r Rules) Check(environment string, value []byte) ([]byte, error) {
	normal, err := r.checkType(value)
	if err != nil {
		return nil, err
	}
	if r.Pattern != nil && !r.Pattern.Match(normal) {
		return nil, fmt.Errorf("does not match its pattern %s", r.Pattern)
	}
	if r.Length != nil {
		if n := float64(utf8.RuneCount(normal)); n < r.Length.Low || n > r.Length.High {
			return nil, fmt.Errorf("has %g characters; its length is %s", n, r.Length.text)
		}
	}
	if len(r.Choices) > 0 && !slices.Contains(r.Choices, string(normal)) {
		return nil, fmt.Errorf("is none of its choices: %s", strings.Join(r.Choices, ", "))
	}
	if allowed, limited := r.AllowedIn[environment]; limited && !slices.ContainsFunc(allowed, func(a string) bool { return r.equal(a, normal) }) {
		return nil, fmt.Errorf("has a value that is not allowed in %s; allowed there: %s", environment, strings.Join(allowed, ", "))
	}
	return normal, nil
}

// equal compares an allowed value as its type has it, so that "no" allows false.
func (r Rules) equal(allowed string, normal []byte) bool {
	if r.Type == Boolean {
		if b, err := parseBoolean(allowed); err == nil {
			return strconv.FormatBool(b) == string(normal)
		}
	}
	return allowed == string(normal)
}

func (r Rules) checkType(value []byte) ([]byte, error) {
	text := string(value)
	switch r.Type {
	case Integer:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return nil, errors.New("is not an integer: digits with an optional sign, within 64 bits")
		}
		return value, r.inRange(float64(n))
	case Number:
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsNaN(n) || math.IsInf(n, 0) || strings.ContainsAny(text, "xX_") {
			return nil, errors.New("is not a number, such as 12, -0.5 or 1e6")
		}
		return value, r.inRange(n)
	case Boolean:
		b, err := parseBoolean(text)
		if err != nil {
			return nil, err
		}
		return []byte(strconv.FormatBool(b)), nil
	case Duration:
		d, err := time.ParseDuration(text)
		if err != nil {
			return nil, errors.New("is not a duration, such as 30s, 5m or 1h30m")
		}
		return value, r.inRange(d.Seconds())
	case JSON:
		if !json.Valid(value) {
			return nil, errors.New("is not JSON")
		}
	case Base64:
		if _, err := base64.StdEncoding.DecodeString(text); err != nil {
			return nil, errors.New("is not base64 (standard alphabet with padding, RFC 4648)")
		}
	case PEM:
		if block, _ := pem.Decode(value); block == nil {
			return nil, errors.New("is not PEM (RFC 7468): it lacks a block from -----BEGIN to -----END")
		}
	default:
		return value, checkAddress(r.Type, text)
	}
	return value, nil
}

func checkAddress(t Type, text string) error {
	switch t {
	case URL:
		if u, err := url.Parse(text); err != nil || u.Scheme == "" || u.Host == "" && u.Opaque == "" && u.Path == "" {
			return errors.New("is not a URL with a scheme, such as https://catalogue.fernhollow.example/")
		}
	case Email:
		if a, err := mail.ParseAddress(text); err != nil || a.Address != text {
			return errors.New("is not an e-mail address")
		}
	case Host:
		host, port, hasPort := splitPort(text)
		if n, err := strconv.ParseUint(port, 10, 16); hasPort && (err != nil || n == 0) {
			return errors.New("is not a host: its port is not between 1 and 65535")
		}
		if _, err := netip.ParseAddr(strings.Trim(host, "[]")); err != nil && !hostName.MatchString(host) {
			return errors.New("is not a host: a name or an address, with a port where one is wanted")
		}
	}
	return nil
}

// splitPort splits HOST:PORT. An address of IP version 6 has its port behind brackets.
func splitPort(text string) (host, port string, hasPort bool) {
	i := strings.LastIndexByte(text, ':')
	if i < 0 || strings.Count(text, ":") > 1 && (i == 0 || text[i-1] != ']') {
		return text, "", false
	}
	return text[:i], text[i+1:], true
}

// hostName is RFC 1123, section 2.1.
var hostName = regexp.MustCompile(`^(?i:[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?)(\.(?i:[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?))*$`)

func (r Rules) inRange(n float64) error {
	if r.Range != nil && (n < r.Range.Low || n > r.Range.High) {
		return fmt.Errorf("is outside its range %s", r.Range.text)
	}
	return nil
}

func parseBoolean(text string) (bool, error) {
	switch strings.ToLower(text) {
	case "true", "yes", "on", "1":
		return true, nil
	case "false", "no", "off", "0":
		return false, nil
	}
	return false, errors.New("is not a boolean: true/false, yes/no, on/off, 1/0")
}
