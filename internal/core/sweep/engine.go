package sweep

import (
	"bytes"
	_ "embed"
	"slices"
	"sort"
	"sync"
)

//go:embed catalogue.yaml
var catalogueFile []byte

// Catalogue is the built-in rules. They are read once and shared.
var Catalogue = sync.OnceValue(func() []*Rule {
	rules, err := ReadRules("catalogue.yaml", catalogueFile)
	if err != nil {
		panic("the catalogue is part of the program: " + err.Error())
	}
	return rules
})

// Engine searches bytes for what its rules describe. It is not changed after
// [NewEngine] and safe for concurrent use.
type Engine struct {
	words *automaton
	byKey [][]*Rule // rules of each keyword
}

// NewEngine makes an engine of rules that [ReadRules] gave.
func NewEngine(rules []*Rule) *Engine {
	e := &Engine{}
	var keywords []string
	index := map[string]int{}
	for _, r := range rules {
		for _, word := range r.Near {
			folded := string(bytes.ToLower([]byte(word)))
			k, known := index[folded]
			if !known {
				k = len(keywords)
				index[folded] = k
				keywords = append(keywords, folded)
				e.byKey = append(e.byKey, nil)
			}
			e.byKey[k] = append(e.byKey[k], r)
		}
	}
	e.words = newAutomaton(keywords)
	return e
}

// Match is one place of one leaked value within the bytes that were searched.
type Match struct {
	Rule       *Rule
	Start, End int // of the value
	Confidence float64
}

// Hint says what is known of the bytes beforehand.
type Hint struct {
	Path string // by whose ending code is told from configuration

	binary bool
}

// Find returns the matches in data, in their order and without overlaps: of two
// that overlap the more confident stands.
func (e *Engine) Find(data []byte, hint Hint) []Match {
	f := finder{data: data, binary: hint.binary || isBinary(data), code: isCode(hint.Path), lock: isLock(hint.Path), path: hint.Path}
	e.words.find(data, func(keyword int32, start int) {
		for _, r := range e.byKey[keyword] {
			if r.Text && f.binary {
				continue
			}
			switch r.Method {
			case "assignment":
				f.assignment(r, start, start+e.words.lengths[keyword])
			case "url":
				f.url(r, start)
			default:
				f.try(r, start)
			}
		}
	})
	return f.settle()
}

type finder struct {
	data    []byte
	binary  bool
	code    bool
	lock    bool
	path    string
	matches []Match
	tried   map[*Rule]int // up to where a rule's pattern was tried
}

// try runs a rule's pattern on what lies around one of its words.
func (f *finder) try(r *Rule, start int) {
	before, behind := reachBefore, reachBehind
	if r.Reach > 0 {
		before, behind = min(r.Reach, reachBefore), r.Reach
	}
	if r.Starts {
		if start > 0 && continues(f.data, start) || r.word && !isWord(f.data, start, r.least) {
			return
		}
		f.match(r, start, min(len(f.data), start+behind), true)
		return
	}
	from, to := max(0, start-before), min(len(f.data), start+behind)
	if f.tried == nil {
		f.tried = map[*Rule]int{}
	}
	if done := f.tried[r]; done > from {
		from = done
	}
	if from >= to {
		return
	}
	for from < to {
		end := f.match(r, from, to, false)
		if end < 0 {
			break
		}
		from = end
		f.tried[r] = end
	}
}

// isWord tells whether some bytes hold neither white space nor quotes: a cheap
// question that spares most patterns.
func isWord(data []byte, start, length int) bool {
	if start+length > len(data) {
		return false
	}
	for _, c := range data[start : start+length] {
		if c <= ' ' || c == '"' || c == '\'' {
			return false
		}
	}
	return true
}

// url looks for a password in a URL around its "://".
func (f *finder) url(r *Rule, start int) {
	end := start + len("://")
	colon, at := 0, 0
scan:
	for i := end; i < len(f.data) && i-end < maxUserInfo; i++ {
		switch c := f.data[i]; {
		case c == ':' && colon == 0:
			colon = i
		case c == '@':
			at = i
		case c <= ' ' || c >= 0x7f || bytes.IndexByte([]byte("/?#\"'<>`\\"), c) >= 0:
			break scan
		}
	}
	if colon == 0 || at < colon {
		return
	}
	scheme := start
	for scheme > 0 && start-scheme < 20 && (classOf(f.data[scheme-1]) == letters || classOf(f.data[scheme-1]) == digits) {
		scheme--
	}
	value := f.data[colon+1 : at]
	if r.compiled.Match(f.data[scheme:start]) && r.confirm(value) && !sampleToken(value) {
		f.matches = append(f.matches, Match{Rule: r, Start: colon + 1, End: at, Confidence: f.trust(r)})
	}
}

// maxUserInfo is the longest name and password in a URL that is looked at.
const maxUserInfo = 400

// match tries a pattern on part of the data; it returns where the match ended,
// or -1.
func (f *finder) match(r *Rule, from, to int, anchored bool) int {
	found := r.compiled.FindSubmatchIndex(f.data[from:to])
	if found == nil {
		return -1
	}
	start, end := from+found[2*r.group], from+found[2*r.group+1]
	if found[2*r.group] < 0 {
		start, end = from+found[0], from+found[1]
	}
	if value := f.data[start:end]; end > start && r.confirm(value) && !sampleToken(value) {
		f.matches = append(f.matches, Match{Rule: r, Start: start, End: end, Confidence: f.trust(r)})
	}
	if anchored {
		return from + found[1]
	}
	return from + max(found[1], found[0]+1)
}

// trust is a rule's confidence in this file: what only stands in a secret's place
// is half as likely to be one in a program's tests.
func (f *finder) trust(r *Rule) float64 {
	if r.Confidence < shapeConfidence && isTest(f.path) {
		return r.Confidence / 2
	}
	return r.Confidence
}

// shapeConfidence is from when on a rule goes by a value's own form.
const shapeConfidence = 0.9

// settle orders the matches and drops those that overlap a more confident one.
// It takes them in groups that hang together, which are small, so that a file
// full of matches costs no more than it is long.
func (f *finder) settle() []Match {
	sort.SliceStable(f.matches, func(i, j int) bool { return f.matches[i].Start < f.matches[j].Start })
	var kept []Match
	for start := 0; start < len(f.matches); {
		end, reach := start+1, f.matches[start].End
		for end < len(f.matches) && f.matches[end].Start < reach {
			reach = max(reach, f.matches[end].End)
			end++
		}
		kept = append(kept, strongest(f.matches[start:end])...)
		start = end
	}
	return kept
}

// strongest picks from matches that hang together: the most confident, then the
// longest, of any that overlap.
func strongest(group []Match) []Match {
	if len(group) == 1 {
		return group
	}
	sort.SliceStable(group, func(i, j int) bool {
		a, b := group[i], group[j]
		if a.Confidence != b.Confidence {
			return a.Confidence > b.Confidence
		}
		return a.End-a.Start > b.End-b.Start
	})
	var kept []Match
	for _, m := range group {
		if !slices.ContainsFunc(kept, func(k Match) bool { return m.Start < k.End && k.Start < m.End }) {
			kept = append(kept, m)
		}
	}
	sort.Slice(kept, func(i, j int) bool { return kept[i].Start < kept[j].Start })
	return kept
}

// continues tells whether the byte before an offset belongs to the same word,
// so that a token does not start there. What an escape (\n, %3D) ends does not.
func continues(data []byte, at int) bool {
	c := data[at-1]
	if !(classOf(c) == letters || classOf(c) == digits) {
		return false
	}
	if at >= 2 && data[at-2] == '\\' && (c == 'n' || c == 'r' || c == 't') {
		return false
	}
	return !(at >= 3 && data[at-3] == '%' && isHex(data[at-2]) && isHex(c))
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// binaryProbe is how many bytes are looked at for a NUL.
const binaryProbe = 8000

func isBinary(data []byte) bool {
	return bytes.IndexByte(data[:min(len(data), binaryProbe)], 0) >= 0
}
