// Package signed checks tokens that an issuer outside has signed (RFC 7519, RFC
// 7523): by algorithms of a list, with the issuer's own keys and none that the
// token names, for this installation alone, and for a short time. Obtaining the
// issuer's keys is the caller's business.
package signed

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Limits on tokens.
const (
	MaxToken    = 16 << 10         // bytes
	MaxLifetime = 15 * time.Minute // from when it was issued, or from now, to its end
	Leeway      = time.Minute      // between the clocks
)

// algorithms are the signatures that are accepted: asymmetric ones alone, so that
// what verifies a token cannot make one.
var algorithms = []jose.SignatureAlgorithm{jose.RS256, jose.RS384, jose.RS512, jose.PS256, jose.PS384, jose.PS512, jose.ES256, jose.ES384, jose.ES512, jose.EdDSA}

// ErrUnknownKey says that a token names a key that the issuer's are not known to
// have: they may have changed.
var ErrUnknownKey = errors.New("it is signed with a key that the issuer does not publish")

// Claims are what a token says, once it was verified.
type Claims struct {
	Issuer  string
	Subject string
	ID      string // of the token; empty where it has none
	Expires time.Time
	All     map[string]any
}

// Token is a token that was read and not verified.
type Token struct {
	parsed *jwt.JSONWebToken
	Issuer string // as the token says
	key    string // the id of the key that signed it
}

// Read reads a token in the compact form.
func Read(text string) (*Token, error) {
	if len(text) > MaxToken {
		return nil, fmt.Errorf("it is longer than %d bytes", MaxToken)
	}
	parsed, err := jwt.ParseSigned(text, algorithms)
	if err != nil {
		return nil, errors.New("it is no token signed by an algorithm that is accepted")
	}
	if len(parsed.Headers) != 1 {
		return nil, errors.New("it has more than one signature")
	}
	var claims jwt.Claims
	if err := parsed.UnsafeClaimsWithoutVerification(&claims); err != nil {
		return nil, errors.New("its claims cannot be read")
	}
	return &Token{parsed, claims.Issuer, parsed.Headers[0].KeyID}, nil
}

// Verify checks a token that was read: its signature by a key of the issuer, that
// it is meant for audience and nobody else, and its times. It says why not in
// words that hold nothing of the token.
func (t *Token) Verify(keys jose.JSONWebKeySet, issuer, audience string, now time.Time) (*Claims, error) {
	if t.Issuer != issuer {
		return nil, errors.New("it is of another issuer")
	}
	candidates := keys.Keys
	if t.key != "" {
		candidates = keys.Key(t.key)
	}
	if len(candidates) == 0 {
		return nil, ErrUnknownKey
	}
	var std jwt.Claims
	var all map[string]any
	verified := false
	for _, k := range candidates {
		if k.IsPublic() && k.Valid() && (k.Use == "" || k.Use == "sig") && t.parsed.Claims(k.Key, &std, &all) == nil {
			verified = true
			break
		}
	}
	if !verified {
		return nil, errors.New("its signature is wrong")
	}
	// What was read before the signature was checked is not relied on.
	switch {
	case std.Issuer != issuer:
		return nil, errors.New("it is of another issuer")
	case len(std.Audience) != 1 || std.Audience[0] != audience:
		return nil, errors.New("it is not meant for this installation alone")
	case std.Subject == "":
		return nil, errors.New("it has no subject")
	case std.Expiry == nil:
		return nil, errors.New("it has no end")
	case !now.Before(std.Expiry.Time().Add(Leeway)):
		return nil, errors.New("it has expired")
	case std.NotBefore != nil && now.Add(Leeway).Before(std.NotBefore.Time()):
		return nil, errors.New("it is not valid yet")
	case std.IssuedAt != nil && now.Add(Leeway).Before(std.IssuedAt.Time()):
		return nil, errors.New("it was issued in the future")
	}
	from := now
	if std.IssuedAt != nil {
		from = std.IssuedAt.Time()
	}
	if std.Expiry.Time().Sub(from) > MaxLifetime+Leeway {
		return nil, fmt.Errorf("it is good for longer than %d minutes", int(MaxLifetime.Minutes()))
	}
	return &Claims{Issuer: std.Issuer, Subject: std.Subject, ID: std.ID, Expires: std.Expiry.Time(), All: all}, nil
}

// Trust is what claims must be for a token to be a workload's.
type Trust struct {
	Subject string            // a pattern, as [MatchSubject] reads it
	Claims  map[string]string // claims that must have exactly this value
}

// Accepts tells whether claims are what a trust asks for.
func (t Trust) Accepts(c *Claims) bool {
	if !MatchSubject(t.Subject, c.Subject) {
		return false
	}
	for name, want := range t.Claims {
		if got, is := text(c.All[name]); !is || got != want {
			return false
		}
	}
	return true
}

// text is a claim that is a string, a number or a truth, as text.
func text(v any) (string, bool) {
	switch v := v.(type) {
	case string:
		return v, true
	case bool, float64, json.Number:
		return fmt.Sprint(v), true
	}
	return "", false
}

// MatchSubject tells whether a subject fits a pattern. Both are split at ":" and
// "/", and each segment of the pattern is the same text or "*", which stands for
// any one segment that is not empty: no pattern can be fitted by putting a
// separator into a name.
func MatchSubject(pattern, subject string) bool {
	p, s := segments(pattern), segments(subject)
	if len(p) != len(s) {
		return false
	}
	for i := range p {
		if p[i] == "*" && s[i] != "" && !separator(s[i]) {
			continue
		}
		if p[i] != s[i] {
			return false
		}
	}
	return true
}

func separator(s string) bool { return s == ":" || s == "/" }

// segments splits a subject, keeping the separators.
func segments(s string) []string {
	var all []string
	for {
		i := strings.IndexAny(s, ":/")
		if i < 0 {
			return append(all, s)
		}
		all = append(all, s[:i], s[i:i+1])
		s = s[i+1:]
	}
}

// CheckPattern says what is wrong with a subject's pattern.
func CheckPattern(pattern string) error {
	all := segments(pattern)
	switch {
	case pattern == "" || len(pattern) > 500:
		return errors.New("a subject's pattern has 1 to 500 characters")
	case !slices.ContainsFunc(all, func(s string) bool { return s != "*" && !separator(s) }):
		return errors.New("a subject's pattern names something: \"*\" alone would be everybody whom the issuer knows")
	case slices.ContainsFunc(all, func(s string) bool { return s != "*" && strings.Contains(s, "*") }):
		return errors.New("in a subject's pattern \"*\" stands for a whole segment, between \":\" or \"/\"")
	}
	return nil
}
