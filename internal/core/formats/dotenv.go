// Package formats reads configuration files and rewrites values in them in
// place: every other byte, comments, order, quoting and line ends, stays as it
// was. So far it knows dotenv.
package formats

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Position is a place in a text file, counted from 1; columns are in characters.
type Position struct{ Line, Column int }

// Problem is one thing that is wrong with a file. What quotes no value.
type Problem struct {
	File string
	Position
	What string
}

func (p Problem) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.What)
}

// Variable is one assignment of a dotenv file.
type Variable struct {
	Name     string
	Value    string // with quotes and escapes undone
	Position        // of the name

	start, end int  // of the value with its quotes, in bytes
	quote      byte // ', ", ` or 0
}

// Dotenv is a dotenv file that was read.
//
// The form is the part on which a POSIX shell and Node.js agree: NAME=VALUE
// lines, optionally behind "export"; # starts a comment at the start of a line
// or behind white space; single quotes (and backquotes) hold text as it stands,
// double quotes know \n, \r, \t, \", \\ and \$; quoted values may span lines.
// Nothing is substituted: $NAME stays $NAME.
type Dotenv struct {
	Variables []Variable
	source    []byte
}

// MaxFile is how many bytes a configuration file may have.
const MaxFile = 8 << 20

// ReadDotenv reads a dotenv file. All that is wrong with it comes back at once,
// named with file; the variables are then not to be used. A name that stands
// twice is a problem, since which one counts differs between readers.
func ReadDotenv(file string, source []byte) (*Dotenv, []Problem) {
	r := &dotenvReader{file: file, source: source, seen: map[string]int{}}
	if len(source) > MaxFile {
		return nil, []Problem{{file, Position{1, 1}, fmt.Sprintf("the file has more than %d MiB; a dotenv file is far smaller", MaxFile>>20)}}
	}
	if !utf8.Valid(source) {
		bad := 0
		for rest := source; ; {
			c, n := utf8.DecodeRune(rest)
			if c == utf8.RuneError && n == 1 {
				break
			}
			rest, bad = rest[n:], bad+n
		}
		return nil, []Problem{{file, r.position(bad), "the file is not UTF-8 text; save it as UTF-8"}}
	}
	if bytes.HasPrefix(source, []byte("\xEF\xBB\xBF")) {
		r.at = 3
	}
	for r.at < len(source) {
		r.line()
	}
	return &Dotenv{Variables: r.variables, source: source}, r.problems
}

// Replace writes the file anew with the values of the named variables replaced,
// each in the quotes that stood there, or in quotes where the value needs them.
func (d *Dotenv) Replace(values map[string]string) []byte {
	var out bytes.Buffer
	at := 0
	for _, v := range d.Variables {
		value, replaced := values[v.Name]
		if !replaced {
			continue
		}
		out.Write(d.source[at:v.start])
		out.WriteString(quoteDotenv(value, v.quote))
		at = v.end
	}
	out.Write(d.source[at:])
	return out.Bytes()
}

func quoteDotenv(value string, quote byte) string {
	plain := strings.IndexFunc(value, func(c rune) bool {
		return !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("_-./:@%+,=", c))
	}) < 0
	switch {
	case quote == 0 && plain:
		return value
	case quote != '"' && !strings.Contains(value, "'"):
		return "'" + value + "'"
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `$`, `\$`, "\n", `\n`, "\r", `\r`, "\t", `\t`).Replace(value) + `"`
}

type dotenvReader struct {
	file      string
	source    []byte
	at        int
	seen      map[string]int
	variables []Variable
	problems  []Problem
}

func (r *dotenvReader) position(at int) Position {
	start := bytes.LastIndexByte(r.source[:at], '\n') + 1
	return Position{bytes.Count(r.source[:at], []byte("\n")) + 1, utf8.RuneCount(r.source[start:at]) + 1}
}

func (r *dotenvReader) problem(at int, what string) {
	r.problems = append(r.problems, Problem{r.file, r.position(at), what})
}

// line reads one assignment, comment or empty line. After a problem it goes on
// with the next line.
func (r *dotenvReader) line() {
	r.blanks()
	switch c := r.peek(); {
	case c == '\n' || c == '\r' || c == 0:
		r.skipLine()
		return
	case c == '#':
		r.skipLine()
		return
	}
	if rest := r.source[r.at:]; bytes.HasPrefix(rest, []byte("export ")) || bytes.HasPrefix(rest, []byte("export\t")) {
		r.at += len("export")
		r.blanks()
	}
	start := r.at
	for r.at < len(r.source) && isNameByte(r.source[r.at], r.at > start) {
		r.at++
	}
	name := string(r.source[start:r.at])
	end := r.at
	r.blanks()
	switch {
	case name == "":
		r.problem(start, "a name was expected here (a letter or \"_\", then letters, digits and \"_\")")
		r.skipLine()
		return
	case r.peek() != '=':
		r.problem(end, fmt.Sprintf("\"=\" was expected behind %s", name))
		r.skipLine()
		return
	}
	r.at++
	v := Variable{Name: name, Position: r.position(start)}
	if !r.value(&v) {
		return
	}
	if first, twice := r.seen[name]; twice {
		r.problem(start, fmt.Sprintf("%s was already set in line %d; keep one of the two", name, first))
	}
	r.seen[name] = v.Line
	r.variables = append(r.variables, v)
}

func (r *dotenvReader) value(v *Variable) bool {
	r.blanks()
	v.start = r.at
	if c := r.peek(); c == '\'' || c == '"' || c == '`' {
		return r.quoted(v, c)
	}
	end := r.at
	for r.at < len(r.source) && r.source[r.at] != '\n' {
		if r.source[r.at] == '#' && (r.at == v.start || isBlank(r.source[r.at-1])) {
			break
		}
		r.at++
		if !isBlank(r.source[r.at-1]) && r.source[r.at-1] != '\r' {
			end = r.at
		}
	}
	v.end = end
	v.Value = string(r.source[v.start:end])
	r.skipLine()
	return true
}

func (r *dotenvReader) quoted(v *Variable, quote byte) bool {
	var b strings.Builder
	v.quote = quote
	r.at++
	for {
		if r.at >= len(r.source) {
			r.problem(v.start, fmt.Sprintf("the value of %s opens with %c and never closes", v.Name, quote))
			// Go on behind the line, so that what follows is looked at too.
			r.at = v.start
			r.skipLine()
			return false
		}
		c := r.source[r.at]
		r.at++
		if c == quote {
			break
		}
		if c == '\\' && quote == '"' && r.at < len(r.source) {
			b.WriteString(unescape(r.source[r.at]))
			r.at++
			continue
		}
		b.WriteByte(c)
	}
	v.end = r.at
	v.Value = b.String()
	r.blanks()
	if c := r.peek(); c != '\n' && c != '\r' && c != '#' && c != 0 {
		r.problem(r.at, fmt.Sprintf("the value of %s has closed its quotes; a comment or the end of the line was expected here", v.Name))
		r.skipLine()
		return false
	}
	r.skipLine()
	return true
}

func unescape(c byte) string {
	switch c {
	case 'n':
		return "\n"
	case 'r':
		return "\r"
	case 't':
		return "\t"
	case '"', '\\', '$':
		return string(rune(c))
	case '\n':
		return ""
	}
	return `\` + string(rune(c))
}

func (r *dotenvReader) peek() byte {
	if r.at < len(r.source) {
		return r.source[r.at]
	}
	return 0
}

func (r *dotenvReader) blanks() {
	for r.at < len(r.source) && isBlank(r.source[r.at]) {
		r.at++
	}
}

func (r *dotenvReader) skipLine() {
	if i := bytes.IndexByte(r.source[r.at:], '\n'); i >= 0 {
		r.at += i + 1
		return
	}
	r.at = len(r.source)
}

func isBlank(c byte) bool { return c == ' ' || c == '\t' }

func isNameByte(c byte, later bool) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || later && c >= '0' && c <= '9'
}
