package sweep

import (
	"bytes"
	"regexp"
	"strings"
)

// Secret-named assignments, in any syntax: NAME = "value", "name": "value",
// name: value, <name>value</name>, --name value, setenv("NAME", "value").

const (
	maxNameLength = 80
	minValue      = 8
	maxValueLen   = 400
)

// quietNames end in a secret's word and name no secret: what is public, or keys
// that look something up.
var quietNames = regexp.MustCompile(`(?i)(?:public|pub|verif\w*|v|primary|foreign|sort|partition|cache|csrf|xsrf|site|publishable|anon|next|page|continuation|cursor|sync|idempotency|translation|i18n|message|label|title|placeholder|error|invalid|missing|row|object|lookup|index|group|tree|map|hash|query|react|param|header|dom|element|field|form|input|json|yaml|config|event|state|color|font|feature|flag|metric|log|lang|locale|registry|item|node|type|name|id|data|path|file|property|attribute)s?[_.-]?(?:key|token)[0-9]?$`)

// loudNames end in what holds a secret.
var loudNames = regexp.MustCompile(`(?i)(?:pass(?:word|wd|phrase)?|pwd|secret|token|api[_.-]?key|access[_.-]?key|auth|credentials?|private[_.-]?key|(?:signing|encryption|secret|session|master|client|account|service|subscription|shared|deploy|license|app|application|webhook|storage|server|admin|consumer|cookie|jwt|hmac|cipher|crypto|aes|smtp|mail|stripe|live|test|prod|dev|staging)[_.-]?key|[A-Z0-9]_KEY|[a-z0-9]Key|[_.-]key)[0-9]?$`)

// passwordNames hold what people choose, so that less strength is asked of it.
var passwordNames = regexp.MustCompile(`(?i)(?:pass(?:word|wd|phrase)?|pwd)[0-9]?$`)

// assignment looks at a name around a secret's word and at what is assigned to it.
func (f *finder) assignment(r *Rule, start, end int) {
	if f.binary || f.lock {
		return
	}
	left, right := f.name(start, end)
	if right-left > maxNameLength {
		return
	}
	// The word must end the name but for a few letters: passwordHint holds no
	// password. What is cheap to tell comes first; most words assign nothing.
	if right-end > 8 {
		return
	}
	value, at, quoted := f.assigned(left, right)
	if !plausible(value) {
		return
	}
	name := f.data[left:right]
	if !loudNames.Match(name) || quietNames.Match(name) || !f.judge(name, value, quoted) {
		return
	}
	// Programs' tests are full of vectors in hex; they open nothing.
	if hexOnly.Match(value) && isTest(f.path) {
		return
	}
	bits := Strength(value)
	confidence := f.trust(r)
	if bits < 60 || !quoted && bits < 90 {
		confidence *= 0.75
	}
	f.matches = append(f.matches, Match{Rule: r, Start: at, End: at + len(value), Confidence: confidence})
}

func isNameByte(c byte) bool {
	return classOf(c) == letters || classOf(c) == digits || c == '_' || c == '-' || c == '.' || c == '$'
}

// name widens a word to the whole name that it stands in.
func (f *finder) name(start, end int) (left, right int) {
	left, right = start, end
	for left > 0 && isNameByte(f.data[left-1]) && start-left < maxNameLength {
		left--
	}
	for right < len(f.data) && isNameByte(f.data[right]) && right-end < maxNameLength {
		right++
	}
	for right > end && (f.data[right-1] == '.' || f.data[right-1] == '-') {
		right--
	}
	return left, right
}

// assigned finds the value that is assigned to a name: what it is, where it
// starts, and whether it is quoted.
func (f *finder) assigned(left, right int) (value []byte, at int, quoted bool) {
	i := right
	nameQuoted := false
	if c := f.byteAt(i); c == '"' || c == '\'' || c == '`' {
		i++
		nameQuoted = true
	} else if c == '\\' && f.byteAt(i+1) == '"' { // JSON within a string
		i += 2
		nameQuoted = true
	}
	if f.byteAt(i) == ']' {
		i++
	}
	if !nameQuoted && f.byteAt(i) == '>' && left > 0 && f.data[left-1] == '<' { // <name>value</name>
		return f.until(i+1, "<\n", false)
	}
	if left >= 2 && f.data[left-1] == '-' && f.byteAt(i) == ' ' && !f.code { // --name value
		return f.bare(i + 1)
	}
	if left < len(f.data) && f.data[left] == '-' && f.byteAt(i) == ' ' && !f.code {
		return f.bare(i + 1)
	}
	i = f.blanks(i)
	i, found := f.operator(i, nameQuoted && left > 0 && isQuote(f.data[left-1]))
	if !found {
		return nil, 0, false
	}
	i = f.blanks(i)
	return f.value(i)
}

func (f *finder) byteAt(i int) byte {
	if i >= 0 && i < len(f.data) {
		return f.data[i]
	}
	return 0
}

func (f *finder) blanks(i int) int {
	for i < len(f.data) && (f.data[i] == ' ' || f.data[i] == '\t') {
		i++
	}
	return i
}

// operator steps over what assigns: = : := => and, between quoted arguments, a
// comma. A comparison is none. A type may stand between a name and its "=".
func (f *finder) operator(i int, nameQuoted bool) (int, bool) {
	switch c := f.byteAt(i); {
	case c == '=':
		if f.byteAt(i+1) == '=' || f.byteAt(i+1) == '~' {
			return i, false
		}
		if f.byteAt(i+1) == '>' {
			return i + 2, true
		}
		return i + 1, true
	case c == ':':
		if f.byteAt(i+1) == '=' {
			return i + 2, true
		}
		if f.byteAt(i+1) == ':' {
			return i, false
		}
		// name: Type = "value"
		j := f.blanks(i + 1)
		k := j
		for k < len(f.data) && k-j < 40 && (isNameByte(f.data[k]) || strings.IndexByte("&'<>?[]", f.data[k]) >= 0) {
			k++
		}
		if e := f.blanks(k); k > j && f.byteAt(e) == '=' && f.byteAt(e+1) != '=' {
			return e + 1, true
		}
		return i + 1, true
	case c == ',' && nameQuoted:
		return i + 1, isQuote(f.byteAt(f.blanks(i + 1)))
	}
	return i, false
}

// value reads a value: quoted, or bare where the file is no program.
func (f *finder) value(i int) ([]byte, int, bool) {
	// Prefixes of string literals: b"", r'', f"", @"", L"".
	if c := f.byteAt(i); strings.IndexByte("bBrRfFuUL@", c) >= 0 && c != 0 && isQuote(f.byteAt(i+1)) {
		i++
	}
	if c := f.byteAt(i); c == '\\' && f.byteAt(i+1) == '"' {
		return f.until(i+2, "\\\n", true)
	}
	if c := f.byteAt(i); isQuote(c) {
		return f.until(i+1, string(c)+"\n", true)
	}
	if f.code {
		return nil, 0, false
	}
	return f.bare(i)
}

func isQuote(c byte) bool { return c == '"' || c == '\'' || c == '`' }

// until reads up to one of some bytes; a quoted value must be closed.
func (f *finder) until(i int, stops string, quoted bool) ([]byte, int, bool) {
	for j := i; j < len(f.data) && j-i <= maxValueLen; j++ {
		c := f.data[j]
		if strings.IndexByte(stops, c) >= 0 {
			if c == '\n' {
				return nil, 0, false
			}
			return f.data[i:j], i, quoted
		}
		if c == '\\' && quoted {
			j++
		}
	}
	return nil, 0, false
}

// bare reads an unquoted value: up to white space or what ends one.
func (f *finder) bare(i int) ([]byte, int, bool) {
	if isQuote(f.byteAt(i)) {
		return f.until(i+1, string(f.byteAt(i))+"\n", true)
	}
	j := i
	for j < len(f.data) && j-i <= maxValueLen && f.data[j] > ' ' && strings.IndexByte(",;)}]\"'`<>|", f.data[j]) < 0 {
		j++
	}
	if j == i || j-i > maxValueLen {
		return nil, 0, false
	}
	return f.data[i:j], i, false
}

// judge decides whether an assigned value is a secret.
func (f *finder) judge(name, v []byte, quoted bool) bool {
	isPassword := passwordNames.Match(name)
	if placeholder(v) || lookup(v) || isMask(v) || commonPassword(v) || sampleToken(v) {
		return false
	}
	if uuid.Match(v) || dotted.Match(v) || urlLike.Match(v) || dateLike.Match(v) || hashStart.Match(v) {
		return false
	}
	if bytes.ContainsAny(v, "(){}") && (!quoted || !isPassword) || bytes.HasPrefix(v, []byte("--")) || bytes.HasPrefix(v, []byte("#")) || bytes.HasPrefix(v, []byte("/")) && bytes.Count(v, []byte("/")) > 1 {
		return false
	}
	return strongEnough(v, isPassword, quoted)
}

// strongEnough asks for what random values have. Words with a number behind are
// names; a password may be weaker than a key, though not a plain word.
func strongEnough(v []byte, isPassword, quoted bool) bool {
	bits, hasDigit, hasOther := Strength(v), false, false
	for _, c := range v {
		hasDigit = hasDigit || classOf(c) == digits
		hasOther = hasOther || classOf(c) == others
	}
	perCharacter := bits / float64(len(v))
	switch {
	case identWord.Match(v) && perCharacter < 3:
		return false
	case isPassword && quoted:
		return bits >= 30 && perCharacter >= 2.6 && (hasDigit || hasOther) || bits >= 56 && perCharacter >= 4
	case isPassword:
		return bits >= 34 && perCharacter >= 2.8 && (hasDigit || hasOther) || bits >= 70 && perCharacter >= 4
	case hexOnly.Match(v):
		return len(v) >= 24 && hasDigit && bits >= 60
	case len(v) < 16:
		return bits >= 48 && hasDigit && perCharacter >= 3.6
	}
	return hasDigit && (bits >= 56 && perCharacter >= 3 || bits >= 90 && perCharacter >= 2.5) || bits >= 90 && perCharacter >= 4.3
}

// plausible tells whether a value could be one at all: long enough, printable
// without spaces, and not letters alone of one case.
func plausible(v []byte) bool {
	return len(v) >= minValue && printable(v)
}

func printable(v []byte) bool {
	for _, c := range v {
		if c < 0x21 || c > 0x7e {
			return false
		}
	}
	return true
}
