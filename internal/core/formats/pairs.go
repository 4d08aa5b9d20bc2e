package formats

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"github.com/magiconair/properties"
	toml "github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
	yaml "go.yaml.in/yaml/v3"
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

// yaml reads every document of a YAML file.
func (r *pairReader) yaml(content []byte, document func(*yaml.Node)) {
	d := yaml.NewDecoder(bytes.NewReader(content))
	for {
		var node yaml.Node
		err := d.Decode(&node)
		if err != nil {
			if err.Error() != "EOF" {
				r.yamlProblem(err)
			}
			return
		}
		if len(node.Content) == 1 {
			document(node.Content[0])
		}
	}
}

var yamlLine = regexp.MustCompile(`line (\d+)`)

// yamlProblem tells where YAML ends; the parser's own words may quote the source.
func (r *pairReader) yamlProblem(err error) {
	at := Position{1, 1}
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		_, _ = fmt.Sscan(m[1], &at.Line)
	}
	r.problem(at, "this is not YAML from about here on")
}

func at(n *yaml.Node) Position { return Position{n.Line, n.Column} }

// count refuses files that grow without bound when their aliases are followed.
func (r *pairReader) count(n *yaml.Node, depth int) bool {
	r.nodes++
	if r.nodes == maxNodes {
		r.problem(at(n), "the file's aliases grow beyond all bounds; write them out")
	}
	if depth > maxDepth {
		r.problem(at(n), fmt.Sprintf("mappings are nested more than %d deep", maxDepth))
	}
	return r.nodes < maxNodes && depth <= maxDepth
}

func (r *pairReader) flatten(n *yaml.Node) {
	if n.Kind != yaml.MappingNode {
		r.problem(at(n), "the file does not hold names with values at its top")
		return
	}
	r.mapping(n, "", 0)
}

func (r *pairReader) mapping(n *yaml.Node, prefix string, depth int) {
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		for value.Kind == yaml.AliasNode {
			value = value.Alias
		}
		if !r.count(value, depth) {
			return
		}
		if key.Tag == "!!merge" && value.Kind == yaml.MappingNode {
			r.mapping(value, prefix, depth+1)
			continue
		}
		full := prefix + key.Value
		switch value.Kind {
		case yaml.MappingNode:
			r.mapping(value, full+".", depth+1)
		case yaml.SequenceNode:
			r.list(full, value, at(key))
		default:
			r.scalar(full, value, at(key))
		}
	}
}

func (r *pairReader) scalar(key string, n *yaml.Node, where Position) {
	switch n.Tag {
	case "!!null":
		r.problem(where, fmt.Sprintf("%.60s has no value; give it one or leave it out", key))
	case "!!binary":
		r.binary(Pair{Key: key}, n.Value, where)
	default:
		r.add(Pair{Key: key, Value: []byte(n.Value)}, where)
	}
}

func (r *pairReader) binary(p Pair, text string, where Position) {
	raw, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), ""))
	if err != nil {
		r.problem(where, fmt.Sprintf("the value of %.60s is not base64", p.Key))
		return
	}
	p.Value, p.Binary = raw, true
	r.add(p, where)
}

// list keeps a list as the text of a JSON array.
func (r *pairReader) list(key string, n *yaml.Node, where Position) {
	value, ok := r.plain(n, 0)
	if !ok {
		return
	}
	text, err := json.Marshal(value)
	if err != nil {
		r.problem(where, fmt.Sprintf("%.60s is a list that JSON cannot hold", key))
		return
	}
	r.add(Pair{Key: key, Value: text}, where)
}

// plain is a node as encoding/json writes it.
func (r *pairReader) plain(n *yaml.Node, depth int) (any, bool) {
	for n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	if !r.count(n, depth) {
		return nil, false
	}
	switch n.Kind {
	case yaml.SequenceNode:
		all := make([]any, 0, len(n.Content))
		for _, c := range n.Content {
			v, ok := r.plain(c, depth+1)
			if !ok {
				return nil, false
			}
			all = append(all, v)
		}
		return all, true
	case yaml.MappingNode:
		all := map[string]any{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			v, ok := r.plain(n.Content[i+1], depth+1)
			if !ok {
				return nil, false
			}
			all[n.Content[i].Value] = v
		}
		return all, true
	}
	var v any
	if err := n.Decode(&v); err != nil {
		return n.Value, true
	}
	return v, true
}

// manifest reads a Kubernetes Secret or ConfigMap, or a List of them; documents
// of other kinds are passed over.
func (r *pairReader) manifest(n *yaml.Node) {
	switch kind := member(n, "kind"); {
	case kind == nil:
	case kind.Value == "Secret":
		r.members(member(n, "data"), Pair{Kind: "secret"}, true)
		r.members(member(n, "stringData"), Pair{Kind: "secret"}, false)
	case kind.Value == "ConfigMap":
		r.members(member(n, "data"), Pair{Kind: "setting"}, false)
		r.members(member(n, "binaryData"), Pair{Kind: "secret"}, true)
	case strings.HasSuffix(kind.Value, "List"):
		if items := member(n, "items"); items != nil {
			for _, item := range items.Content {
				if r.count(item, 0) {
					r.manifest(item)
				}
			}
		}
	}
}

func member(n *yaml.Node, key string) *yaml.Node {
	if n.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			value := n.Content[i+1]
			for value.Kind == yaml.AliasNode {
				value = value.Alias
			}
			return value
		}
	}
	return nil
}

func (r *pairReader) members(n *yaml.Node, p Pair, encoded bool) {
	if n == nil {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		for value.Kind == yaml.AliasNode {
			value = value.Alias
		}
		p.Key = key.Value
		switch {
		case value.Kind != yaml.ScalarNode:
			r.problem(at(key), fmt.Sprintf("the value of %.60s is not text", p.Key))
		case encoded:
			r.binary(p, value.Value, at(key))
		default:
			p.Value = []byte(value.Value)
			r.add(p, at(key))
		}
	}
}

// toml reads keys and values with their positions (TOML 1.0).
func (r *pairReader) toml(content []byte) {
	var decoded map[string]any
	if err := toml.Unmarshal(content, &decoded); err != nil {
		where := Position{1, 1}
		var positioned *toml.DecodeError
		if errors.As(err, &positioned) {
			where.Line, where.Column = positioned.Position()
		}
		r.problem(where, "this is not TOML from here on")
		return
	}
	var p unstable.Parser
	p.Reset(content)
	var table []string
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			table = keyOf(e.Key())
			if e.Kind == unstable.ArrayTable {
				r.problem(positionOf(content, int(firstKey(e).Offset)), "an array of tables cannot be kept as entries; import its parts one by one")
				table = nil
			}
		case unstable.KeyValue:
			path := append(slices.Clone(table), keyOf(e.Key())...)
			r.tomlValue(strings.Join(path, "."), lookUp(decoded, path), positionOf(content, int(firstKey(e).Offset)))
		}
	}
}

func firstKey(e *unstable.Node) unstable.Range {
	keys := e.Key()
	keys.Next()
	return keys.Node().Raw
}

func keyOf(keys unstable.Iterator) (path []string) {
	for keys.Next() {
		path = append(path, string(keys.Node().Data))
	}
	return path
}

func lookUp(in map[string]any, path []string) any {
	var v any = in
	for _, key := range path {
		m, _ := v.(map[string]any)
		v = m[key]
	}
	return v
}

func (r *pairReader) tomlValue(key string, value any, where Position) {
	switch v := value.(type) {
	case nil: // within an array of tables, which was told
	case string:
		r.add(Pair{Key: key, Value: []byte(v)}, where)
	case map[string]any:
		names := make([]string, 0, len(v))
		for name := range v {
			names = append(names, name)
		}
		sort.Strings(names)
		for _, name := range names {
			r.tomlValue(key+"."+name, v[name], where)
		}
	case []any:
		text, err := json.Marshal(v)
		if err != nil {
			r.problem(where, fmt.Sprintf("%.60s is a list that JSON cannot hold", key))
			return
		}
		r.add(Pair{Key: key, Value: text}, where)
	default:
		r.add(Pair{Key: key, Value: fmt.Append(nil, v)}, where)
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

// CannotHold says why a format cannot hold a value, "" where it can.
func (f Format) CannotHold(value []byte) string {
	if f == Kubernetes {
		return ""
	}
	switch {
	case !utf8.Valid(value):
		return "its value is not text"
	case f != JSONFormat && bytes.ContainsRune(value, 0):
		return "its value has a NUL character"
	case f == YAMLFormat && bytes.ContainsFunc(value, func(c rune) bool { return c < ' ' && c != '\n' && c != '\t' || c == 0x7f }):
		return "its value has a control character"
	}
	return ""
}

// WritePairs writes names with values as a file. For Kubernetes, name is that of
// the manifests. What the format cannot hold was asked for with
// [Format.CannotHold] before.
func WritePairs(format Format, name string, pairs []Pair) ([]byte, error) {
	switch format {
	case DotenvFormat:
		var b bytes.Buffer
		for _, p := range pairs {
			fmt.Fprintf(&b, "%s=%s\n", p.Name, quoteDotenv(string(p.Value), 0))
		}
		return b.Bytes(), nil
	case JSONFormat:
		return writeJSON(pairs)
	case YAMLFormat:
		return writeYAML(mappingNode(pairs))
	case TOMLFormat:
		var b bytes.Buffer
		for _, p := range pairs {
			fmt.Fprintf(&b, "%s = %s\n", p.Name, tomlString(p.Value))
		}
		return b.Bytes(), nil
	case PropertiesFormat:
		all := properties.NewProperties()
		all.DisableExpansion = true
		for _, p := range pairs {
			if _, _, err := all.Set(p.Name, string(p.Value)); err != nil {
				return nil, fmt.Errorf("write %s: %w", p.Name, err)
			}
		}
		var b bytes.Buffer
		_, err := all.Write(&b, properties.UTF8)
		return b.Bytes(), err
	case Kubernetes:
		return writeManifests(name, pairs)
	}
	return nil, fmt.Errorf("there is no format %q", format)
}

func writeJSON(pairs []Pair) ([]byte, error) {
	var b bytes.Buffer
	b.WriteString("{")
	for i, p := range pairs {
		if i > 0 {
			b.WriteString(",")
		}
		var text bytes.Buffer
		e := json.NewEncoder(&text)
		e.SetEscapeHTML(false)
		if err := e.Encode(string(p.Value)); err != nil {
			return nil, err
		}
		fmt.Fprintf(&b, "\n  %q: %s", p.Name, bytes.TrimSpace(text.Bytes()))
	}
	b.WriteString("\n}\n")
	return b.Bytes(), nil
}

// tomlString is a basic string, TOML 1.0.
func tomlString(value []byte) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, c := range string(value) {
		switch {
		case c == '"' || c == '\\':
			b.WriteRune('\\')
			b.WriteRune(c)
		case c == '\n':
			b.WriteString(`\n`)
		case c == '\t':
			b.WriteString(`\t`)
		case c == '\r':
			b.WriteString(`\r`)
		case c < ' ' || c == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, c)
		default:
			b.WriteRune(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}

func textNode(value string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: value}
}

func mappingNode(pairs []Pair) *yaml.Node {
	n := &yaml.Node{Kind: yaml.MappingNode}
	for _, p := range pairs {
		value := textNode(string(p.Value))
		// Texts that hold anything out of the ordinary are quoted, so that every
		// reader gets the same bytes.
		if !plainYAML.Match(p.Value) {
			value.Style = yaml.DoubleQuotedStyle
		}
		n.Content = append(n.Content, textNode(p.Name), value)
	}
	return n
}

var plainYAML = regexp.MustCompile(`^[A-Za-z0-9_./-]+$`)

func writeYAML(documents ...*yaml.Node) ([]byte, error) {
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	for _, d := range documents {
		if err := e.Encode(d); err != nil {
			return nil, fmt.Errorf("write YAML: %w", err)
		}
	}
	return b.Bytes(), e.Close()
}

// writeManifests puts secrets into a Secret and settings into a ConfigMap.
func writeManifests(name string, pairs []Pair) ([]byte, error) {
	var documents []*yaml.Node
	for _, m := range []struct{ kind, of string }{{"ConfigMap", "setting"}, {"Secret", "secret"}} {
		var members []Pair
		for _, p := range pairs {
			if (p.Kind == "setting") != (m.of == "setting") {
				continue
			}
			if m.of == "secret" {
				p.Value = []byte(base64.StdEncoding.EncodeToString(p.Value))
			}
			members = append(members, p)
		}
		if len(members) == 0 {
			continue
		}
		d := &yaml.Node{Kind: yaml.MappingNode}
		set := func(key string, value *yaml.Node) { d.Content = append(d.Content, textNode(key), value) }
		set("apiVersion", textNode("v1"))
		set("kind", textNode(m.kind))
		set("metadata", mappingNode([]Pair{{Name: "name", Value: []byte(name)}}))
		if m.of == "secret" {
			set("type", textNode("Opaque"))
		}
		set("data", mappingNode(members))
		documents = append(documents, d)
	}
	return writeYAML(documents...)
}
