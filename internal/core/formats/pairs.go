package formats

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/magiconair/properties"
	toml "github.com/pelletier/go-toml/v2"
)

// Format is the form of a file that holds names with values.
type Format string

// The formats that there are.
const (
	DotenvFormat     Format = "dotenv"
	JSONFormat       Format = "json"
	YAMLFormat       Format = "yaml"
	TOMLFormat       Format = "toml"
	PropertiesFormat Format = "properties"
	Kubernetes       Format = "kubernetes" // manifests of Secret and ConfigMap
)

// Formats are the names of all formats.
var Formats = []Format{DotenvFormat, JSONFormat, YAMLFormat, TOMLFormat, PropertiesFormat, Kubernetes}

// Pair is a name with its value, as a file has it.
type Pair struct {
	Key    string // as it stands in the file, nested ones joined with dots
	Name   string // the key as the name of an entry
	Value  []byte
	Kind   string // "secret" or "setting" where the format says so
	Binary bool   // from base64
}

// Limits of what is read.
const (
	maxPairs = 10_000
	maxNodes = 200_000 // nodes of a YAML file with its aliases followed
	maxDepth = 32
)

// Detect tells the format of a file by its content, and by its name where the
// content fits several.
func Detect(file string, content []byte) Format {
	text := bytes.TrimSpace(bytes.TrimPrefix(content, []byte("\xEF\xBB\xBF")))
	switch {
	case manifest.Match(text):
		return Kubernetes
	case bytes.HasPrefix(text, []byte("{")):
		return JSONFormat
	}
	assigned, quoted, dotted, section, colon := 0, 0, 0, false, 0
	for _, line := range strings.Split(string(text), "\n") {
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#' || line[0] == '!':
		case tomlSection.MatchString(line):
			section = true
		case tomlLine.MatchString(line):
			assigned, quoted = assigned+1, quoted+1
		case dotenvLine.MatchString(line):
			assigned++
		case dottedLine.MatchString(line):
			dotted++
		case colonLine.MatchString(line):
			colon++
		}
	}
	extension := strings.TrimPrefix(strings.ToLower(filepath.Ext(file)), ".")
	switch {
	case section && assigned > 0:
		return TOMLFormat
	case colon > assigned+dotted:
		return YAMLFormat
	case dotted > 0 || extension == "properties":
		return PropertiesFormat
	case quoted > 0 && (quoted == assigned && toml.Unmarshal(text, &map[string]any{}) == nil || extension == "toml"):
		return TOMLFormat
	case extension == "yaml" || extension == "yml":
		return YAMLFormat
	}
	return DotenvFormat
}

var (
	manifest    = regexp.MustCompile(`(?m)^\s*"?kind"?\s*:\s*"?(Secret|ConfigMap|SecretList|ConfigMapList)"?\s*,?\s*$|"kind"\s*:\s*"(Secret|ConfigMap)"`)
	tomlSection = regexp.MustCompile(`^\[\[?[A-Za-z0-9_."' -]+\]\]?\s*(#.*)?$`)
	tomlLine    = regexp.MustCompile(`^[A-Za-z0-9_-]+ = ("|'|\d|true\b|false\b|\[|\{)`)
	dotenvLine  = regexp.MustCompile(`^(export\s+)?[A-Za-z_][A-Za-z0-9_]*\s*=`)
	dottedLine  = regexp.MustCompile(`^[A-Za-z0-9_-]+(\.[A-Za-z0-9_-]+)+\s*[=:]`)
	colonLine   = regexp.MustCompile(`^(-\s+)?["']?[A-Za-z0-9_./-]+["']?\s*:(\s|$)`)
)

// ReadPairs reads the names and values of a file. All that is wrong with it
// comes back at once; the pairs are then not to be used.
func ReadPairs(file string, content []byte, format Format) ([]Pair, []Problem) {
	if len(content) > MaxFile {
		return nil, []Problem{{file, Position{1, 1}, fmt.Sprintf("the file has more than %d MiB; a file of settings is far smaller", MaxFile>>20)}}
	}
	if p := notText(file, content); p != nil {
		return nil, []Problem{*p}
	}
	r := &pairReader{file: file, seen: map[string]string{}}
	content = bytes.TrimPrefix(content, []byte("\xEF\xBB\xBF"))
	switch format {
	case DotenvFormat:
		d, problems := ReadDotenv(file, content)
		if len(problems) > 0 {
			return nil, problems
		}
		for _, v := range d.Variables {
			r.add(Pair{Key: v.Name, Value: []byte(v.Value)}, v.Position)
		}
	case JSONFormat:
		if !json.Valid(content) {
			return nil, []Problem{jsonProblem(file, content)}
		}
		r.json(content)
	case YAMLFormat:
		r.yaml(content, r.flatten)
	case Kubernetes:
		r.yaml(content, r.manifest)
	case TOMLFormat:
		r.toml(content)
	case PropertiesFormat:
		r.properties(content)
	default:
		r.problem(Position{1, 1}, fmt.Sprintf("there is no format %q", format))
	}
	return r.pairs, r.problems
}

// notText is the problem with a file that is not UTF-8.
func notText(file string, content []byte) *Problem {
	what := ""
	switch {
	case bytes.HasPrefix(content, []byte("\xFF\xFE")) || bytes.HasPrefix(content, []byte("\xFE\xFF")):
		what = "the file is UTF-16; save it as UTF-8"
	case !utf8.Valid(content):
		what = "the file is not UTF-8 text; save it as UTF-8"
	default:
		return nil
	}
	valid := 0
	for rest := content; len(rest) > 0; {
		c, n := utf8.DecodeRune(rest)
		if c == utf8.RuneError && n == 1 {
			break
		}
		rest, valid = rest[n:], valid+n
	}
	return &Problem{file, positionOf(content, valid), what}
}

func positionOf(content []byte, offset int) Position {
	before := content[:min(offset, len(content))]
	line := bytes.Count(before, []byte("\n")) + 1
	return Position{line, utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:]) + 1}
}

func jsonProblem(file string, content []byte) Problem {
	var v any
	err := json.Unmarshal(content, &v)
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		return Problem{file, positionOf(content, max(0, int(syntax.Offset)-1)), "this is not JSON from here on"}
	}
	return Problem{file, Position{1, 1}, "this is not JSON"}
}

type pairReader struct {
	file     string
	pairs    []Pair
	problems []Problem
	seen     map[string]string // name to key
	nodes    int
}

func (r *pairReader) problem(at Position, what string) {
	if len(r.problems) < 100 {
		r.problems = append(r.problems, Problem{r.file, at, what})
	}
}

var notInName = regexp.MustCompile(`[^A-Za-z0-9_]+`)

// NameOf is a key as the name of an entry: as it stands where it is one,
// otherwise in capitals with "_" for what a name cannot hold.
func NameOf(key string) string {
	if entryName.MatchString(key) {
		return key
	}
	name := strings.ToUpper(strings.Trim(notInName.ReplaceAllString(key, "_"), "_"))
	if name != "" && name[0] >= '0' && name[0] <= '9' {
		name = "_" + name
	}
	return name
}

var entryName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

func (r *pairReader) add(p Pair, at Position) {
	p.Name = NameOf(p.Key)
	switch other, twice := r.seen[strings.ToUpper(p.Name)]; {
	case p.Name == "":
		r.problem(at, fmt.Sprintf("the key %.40q cannot be the name of an entry", p.Key))
	case twice && other == p.Key:
		r.problem(at, fmt.Sprintf("%s stands twice; keep one of the two", p.Key))
	case twice:
		r.problem(at, fmt.Sprintf("%s and %s would both be the entry %s; rename one", other, p.Key, p.Name))
	case len(r.pairs) >= maxPairs:
		r.problem(at, fmt.Sprintf("the file has more than %d names", maxPairs))
	default:
		r.seen[strings.ToUpper(p.Name)] = p.Key
		r.pairs = append(r.pairs, p)
	}
}

// json reads an object, members in their order.
func (r *pairReader) json(content []byte) {
	d := json.NewDecoder(bytes.NewReader(content))
	d.UseNumber()
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		r.problem(Position{1, 1}, "the file does not hold names with values at its top")
		return
	}
	r.object(d, content, "", 0)
}

// object reads the rest of an object whose brace was read.
func (r *pairReader) object(d *json.Decoder, content []byte, prefix string, depth int) {
	if depth > maxDepth {
		r.problem(positionOf(content, int(d.InputOffset())), fmt.Sprintf("objects are nested more than %d deep", maxDepth))
		return
	}
	for d.More() {
		key, err := d.Token()
		where := positionOf(content, int(d.InputOffset()))
		if err != nil {
			return // the whole was valid
		}
		full := prefix + fmt.Sprint(key)
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return
		}
		switch raw[0] {
		case '{':
			inner := json.NewDecoder(bytes.NewReader(raw))
			inner.UseNumber()
			_, _ = inner.Token() // the brace
			r.object(inner, raw, full+".", depth+1)
		case '"':
			var text string
			if err := json.Unmarshal(raw, &text); err == nil {
				r.add(Pair{Key: full, Value: []byte(text)}, where)
			}
		case 'n':
			r.problem(where, fmt.Sprintf("%.60s has no value; give it one or leave it out", full))
		default:
			var compact bytes.Buffer
			_ = json.Compact(&compact, raw) // the whole was valid
			r.add(Pair{Key: full, Value: compact.Bytes()}, where)
		}
	}
}

// properties reads a file in the format of java.util.Properties, as UTF-8.
func (r *pairReader) properties(content []byte) {
	loader := properties.Loader{Encoding: properties.UTF8, DisableExpansion: true}
	all, err := loader.LoadBytes(content)
	if err != nil {
		r.problem(Position{1, 1}, "this is not a properties file; a \\u escape in it is incomplete")
		return
	}
	for _, key := range all.Keys() {
		value, _ := all.Get(key)
		r.add(Pair{Key: key, Value: []byte(value)}, Position{1, 1})
	}
}
