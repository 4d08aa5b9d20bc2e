package sweep

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"sort"
	"unicode/utf8"
)

// Hit is one place of one value in one file, with its position.
type Hit struct {
	Rule       *Rule
	Confidence float64
	Line       int // from 1
	Column     int // of the first character, from 1, in characters
	EndLine    int
	EndColumn  int    // behind the last character
	Excerpt    string // the line around it with every value withheld
	digest     digest
}

// Sizes of what is looked at at once. A value that is longer than the overlap
// can be missed where two windows meet; no rule reaches farther.
const (
	window  = 4 << 20
	overlap = 64 << 10
	before  = 1 << 10 // what stands before a window, for names and words before a value
)

// Searcher searches streams with bounded memory. It is used by one goroutine.
type Searcher struct {
	engine *Engine
	buffer []byte
}

// NewSearcher returns a Searcher with a buffer of its own.
func NewSearcher(e *Engine) *Searcher { return &Searcher{engine: e} }

// Search searches everything that r gives and returns the hits in their order
// with the number of bytes. It stops with r's error.
func (s *Searcher) Search(r io.Reader, hint Hint) (hits []Hit, size int64, err error) {
	if s.buffer == nil {
		s.buffer = make([]byte, window+overlap+before)
	}
	start := position{line: 1, column: 1} // of the buffer's first byte
	kept, done := 0, 0                    // bytes kept of the last window, of which done are searched
	binary := false
	for {
		n, readErr := io.ReadFull(r, s.buffer[kept:window+overlap])
		size += int64(n)
		ended := errors.Is(readErr, io.EOF) || errors.Is(readErr, io.ErrUnexpectedEOF)
		if readErr != nil && !ended {
			return hits, size, fmt.Errorf("read: %w", readErr)
		}
		data := s.buffer[:kept+n]
		until := len(data)
		if !ended {
			until -= overlap
		}
		binary = binary || isBinary(data)
		var found []Match
		if hint.binary = binary; until > done {
			found = s.engine.Find(data, hint)
		}
		p := start
		for _, m := range found {
			if m.Start >= done && (m.Start < until || ended) {
				hits = append(hits, p.locate(data, m, found))
			}
		}
		if ended {
			return hits, size, nil
		}
		drop := max(until-before, 0)
		start.to(data, drop)
		start.offset = 0
		kept = copy(s.buffer, data[drop:])
		done = until - drop
	}
}

// position counts lines and characters up to an offset, going forward.
type position struct {
	line, column int // at the offset
	offset       int
}

// to moves on to an offset in the same data.
func (p *position) to(data []byte, offset int) {
	skipped := data[p.offset:offset]
	if n := bytes.Count(skipped, []byte("\n")); n > 0 {
		p.line += n
		p.column = 1
		skipped = skipped[bytes.LastIndexByte(skipped, '\n')+1:]
	}
	p.column += utf8.RuneCount(skipped)
	p.offset = offset
}

func (p *position) locate(data []byte, m Match, all []Match) Hit {
	if m.Start > p.offset {
		p.to(data, m.Start)
	}
	end := *p
	end.to(data, m.End)
	return Hit{Rule: m.Rule, Confidence: m.Confidence, Line: p.line, Column: p.column, EndLine: end.line, EndColumn: end.column,
		Excerpt: excerpt(data, m, all), digest: digestOf(data[m.Start:m.End])}
}

// How much of a line an excerpt shows.
const (
	excerptBefore = 60
	excerptBehind = 30
)

// excerpt is what is needed to recognise a place: some of the line, with every
// value in it withheld and everything else that looks like one masked.
func excerpt(data []byte, m Match, all []Match) string {
	from := max(0, m.Start-excerptBefore)
	from += bytes.LastIndexByte(data[from:m.Start], '\n') + 1
	to := min(len(data), m.End+excerptBehind)
	if i := bytes.IndexByte(data[m.End:to], '\n'); i >= 0 {
		to = m.End + i
	}
	var out bytes.Buffer
	at := from
	first := sort.Search(len(all), func(i int) bool { return all[i].End > from })
	for _, other := range all[first:] {
		if other.Start >= to {
			break
		}
		if other.Start > at {
			out.Write(mask(data[at:other.Start]))
		}
		fmt.Fprintf(&out, "[withheld, %d characters]", other.End-other.Start)
		at = max(at, other.End)
	}
	if at < to {
		out.Write(mask(data[at:to]))
	}
	return Printable(string(bytes.TrimSpace(out.Bytes())))
}

// maskLength is from when on a random-looking run within an excerpt is masked:
// it may be a value, or part of one, that no rule knows.
const maskLength = 12

func mask(text []byte) []byte {
	out := bytes.Clone(text)
	for start := 0; start < len(out); {
		end := start
		for end < len(out) && (classOf(out[end]) == letters || classOf(out[end]) == digits || bytes.IndexByte([]byte("+/=_-"), out[end]) >= 0) {
			end++
		}
		if run := out[start:end]; len(run) >= maskLength && Strength(run) >= 3*float64(len(run)) {
			for i := range run {
				run[i] = '*'
			}
		}
		start = end + 1
	}
	return out
}

// Printable makes text from outside safe to show: control characters, which
// could steer a terminal, and what is no UTF-8 are written as escapes.
func Printable(s string) string {
	var out bytes.Buffer
	for i, c := range s {
		switch {
		case c == utf8.RuneError && !bytes.HasPrefix([]byte(s[i:]), []byte("\uFFFD")):
			fmt.Fprintf(&out, `\x%02x`, s[i])
		case c == '\t':
			out.WriteByte(' ')
		case c < 0x20 || c >= 0x7f && c < 0xa0 || c >= 0x200b && c <= 0x200f || c >= 0x202a && c <= 0x202e || c >= 0x2066 && c <= 0x2069 || c == 0xfeff:
			fmt.Fprintf(&out, `\u%04x`, c)
		default:
			out.WriteRune(c)
		}
	}
	return out.String()
}
