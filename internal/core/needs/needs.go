// Package needs reads the needs file, adytum-needs.yaml: which names a program
// needs, their types and rules. It checks values against them; it does not
// obtain any.
package needs

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
)

// FileName is what a needs file is called.
const FileName = "adytum-needs.yaml"

// Limits of what is read.
const (
	MaxFile  = 1 << 20
	MaxNeeds = 1000
)

// File is a needs file that was read without a problem.
type File struct {
	Project string
	Needs   []Need // in the order of the file
}

// Need is one name that the program needs.
type Need struct {
	Name        string
	Line        int
	About       string
	Secret      bool
	Browser     bool
	AllowLoader bool
	Required    bool
	Default     *string
	Value       *reference.Text // what it is built from; nil: the entry of its own name
	RenamedFrom string
	Into        string // "" or "file"
	Rules       Rules
}

// Text is what the need is obtained from: its own template or the entry of its name.
func (n Need) Text() reference.Text {
	if n.Value != nil {
		return *n.Value
	}
	own, err := reference.ParseText(reference.Scheme + n.Name)
	if err != nil {
		panic("a need's name was not checked: " + err.Error())
	}
	return own
}

// Problem is one thing that is wrong with a needs file.
type Problem struct {
	File         string
	Line, Column int
	What         string
}

func (p Problem) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.What)
}

// keys are what a need may say.
var keys = []string{"about", "value", "secret", "browser", "allow-loader", "required", "default", "type", "pattern",
	"range", "length", "choices", "allowed-in", "renamed-from", "into"}

// Read reads a needs file, named with file in problems. All problems come back
// at once; with any, the File is not to be used.
func Read(file string, source []byte) (*File, []Problem) {
	r := &reader{file: file}
	if len(source) > MaxFile {
		r.problems = append(r.problems, Problem{file, 1, 1, "the file has more than 1 MiB; a needs file is far smaller"})
		return nil, r.problems
	}
	// A tab is the commonest slip, and YAML's own words for it are unclear.
	for i, line := range strings.Split(string(source), "\n") {
		if trimmed := strings.TrimLeft(line, " "); strings.HasPrefix(trimmed, "\t") {
			r.problems = append(r.problems, Problem{file, i + 1, len(line) - len(trimmed) + 1, "a tab stands in the indentation; YAML takes spaces alone"})
		}
	}
	if len(r.problems) > 0 {
		return nil, r.problems
	}
	parsed, err := parser.ParseBytes(source, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		r.syntax(err)
		return nil, r.problems
	}
	if len(parsed.Docs) == 0 || parsed.Docs[0].Body == nil {
		r.problems = append(r.problems, Problem{file, 1, 1, "the file is empty; it starts with \"project: NAME\""})
		return nil, r.problems
	}
	f := r.document(parsed.Docs[0].Body)
	sort.SliceStable(r.problems, func(i, j int) bool {
		a, b := r.problems[i], r.problems[j]
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	return f, r.problems
}

type reader struct {
	file     string
	problems []Problem
}

func (r *reader) at(t *token.Token, format string, args ...any) {
	p := Problem{File: r.file, Line: 1, Column: 1, What: fmt.Sprintf(format, args...)}
	if t != nil && t.Position != nil {
		p.Line, p.Column = t.Position.Line, t.Position.Column
	}
	r.problems = append(r.problems, p)
}

// syntax takes a YAML error's position and first line; the rest quotes the source.
func (r *reader) syntax(err error) {
	var positioned interface {
		GetToken() *token.Token
		GetMessage() string
	}
	if errors.As(err, &positioned) {
		r.at(positioned.GetToken(), "this is not YAML: %s", positioned.GetMessage())
		return
	}
	r.at(nil, "this is not YAML")
}

func (r *reader) document(body ast.Node) *File {
	f := &File{}
	top := r.mapping(body, "the file")
	for _, m := range top {
		switch m.key {
		case "project":
			f.Project = r.text(m.value, "project")
			if f.Project != "" && !reference.ValidPlace(f.Project) {
				r.at(m.value.GetToken(), "%q is not a project's name: lower-case letters, digits and \"-\"", f.Project)
			}
		case "needs":
			f.Needs = r.needs(m.value)
		default:
			r.unknown(m, []string{"project", "needs"}, "the file")
		}
	}
	if f.Project == "" && len(r.problems) == 0 {
		r.at(body.GetToken(), "the file does not say \"project: NAME\"")
	}
	return f
}

func (r *reader) needs(node ast.Node) []Need {
	if node.Type() == ast.NullType {
		return nil
	}
	members := r.mapping(node, "needs")
	if len(members) > MaxNeeds {
		r.at(node.GetToken(), "the file names %d needs; at most %d are allowed", len(members), MaxNeeds)
		return nil
	}
	all := make([]Need, 0, len(members))
	names := map[string]bool{}
	for _, m := range members {
		if err := layers.CheckName(m.key); err != nil {
			r.at(m.token, "%s", err)
			continue
		}
		names[m.key] = true
		all = append(all, r.need(m))
	}
	for _, n := range all {
		if n.RenamedFrom != "" && names[n.RenamedFrom] {
			r.problems = append(r.problems, Problem{r.file, n.Line, 1, fmt.Sprintf("%s says that it was %s before, and %s is a need of its own; remove one", n.Name, n.RenamedFrom, n.RenamedFrom)})
		}
	}
	return all
}

func (r *reader) need(m member) Need {
	n := Need{Name: m.key, Line: m.token.Position.Line, Required: true, Rules: Rules{Type: Text}}
	if m.value.Type() == ast.NullType {
		return n
	}
	var defaultAt *token.Token
	for _, f := range r.mapping(m.value, m.key) {
		at := f.value.GetToken()
		switch f.key {
		case "about":
			n.About = r.text(f.value, f.key)
		case "value":
			text, err := reference.ParseText(r.text(f.value, f.key))
			if err != nil {
				r.at(at, "%s: %s", m.key, err)
				continue
			}
			n.Value = &text
		case "secret":
			n.Secret = r.truth(f)
		case "browser":
			n.Browser = r.truth(f)
		case "allow-loader":
			n.AllowLoader = r.truth(f)
		case "required":
			n.Required = r.truth(f)
		case "default":
			d := r.text(f.value, f.key)
			n.Default, defaultAt = &d, at
			n.Required = false
		case "renamed-from":
			n.RenamedFrom = r.text(f.value, f.key)
			if err := layers.CheckName(n.RenamedFrom); err != nil {
				r.at(at, "%s", err)
			}
		case "into":
			if n.Into = r.text(f.value, f.key); n.Into != "file" && n.Into != "env" {
				r.at(at, "%s says \"into: %s\"; there are env and file", m.key, n.Into)
			}
		default:
			r.rule(&n, f)
		}
	}
	r.contradictions(n, m, defaultAt)
	return n
}

// rule reads the keys that say what a value must be.
func (r *reader) rule(n *Need, f member) {
	at := f.value.GetToken()
	var err error
	switch f.key {
	case "type":
		n.Rules.Type = Type(r.text(f.value, f.key))
		if !slices.Contains(types, n.Rules.Type) {
			names := typeNames()
			r.at(at, "%s has the type %q; %sthere are %s", n.Name, n.Rules.Type, didYouMean(string(n.Rules.Type), names), strings.Join(names, ", "))
		}
	case "pattern":
		if n.Rules.Pattern, err = regexp.Compile(r.text(f.value, f.key)); err != nil {
			r.at(at, "%s has a pattern that is not a regular expression (RE2 syntax): %s", n.Name, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		}
	case "range":
		if n.Rules.Range, err = parseSpan(r.text(f.value, f.key)); err != nil {
			r.at(at, "%s: range %s", n.Name, err)
		}
	case "length":
		if n.Rules.Length, err = parseSpan(r.text(f.value, f.key)); err != nil {
			r.at(at, "%s: length %s", n.Name, err)
		}
	case "choices":
		n.Rules.Choices = r.list(f.value, f.key)
	case "allowed-in":
		n.Rules.AllowedIn = map[string][]string{}
		for _, e := range r.mapping(f.value, f.key) {
			n.Rules.AllowedIn[e.key] = r.list(e.value, e.key)
		}
	default:
		r.unknown(f, keys, n.Name)
	}
}

func (r *reader) contradictions(n Need, m member, defaultAt *token.Token) {
	if n.Secret && n.Browser {
		r.at(m.token, "%s is a secret and may not go to the browser; remove \"secret: true\" or \"browser: true\"", n.Name)
	}
	if n.Secret && n.Default != nil {
		r.at(defaultAt, "%s is a secret and has a default here; keep it in the store and remove the default", n.Name)
	}
	if n.Rules.Range != nil && !n.Rules.Type.ranged() {
		r.at(m.token, "%s has a range, which is for integer, number and duration; give it one of these types", n.Name)
	}
	if n.Rules.Type == Choice && len(n.Rules.Choices) == 0 {
		r.at(m.token, "%s is a choice and says no choices; add \"choices: [one, two]\"", n.Name)
	}
	if n.Default != nil && !n.Secret {
		if _, err := n.Rules.Check("", []byte(*n.Default)); err != nil {
			r.at(defaultAt, "the default of %s %s", n.Name, err)
		}
	}
	if !n.AllowLoader && Steers(n.Name) {
		r.at(m.token, "%s steers how programs are loaded or run; if that is meant, add \"allow-loader: true\"", n.Name)
	}
}

// steering are the names and the beginnings of names by which an environment
// changes what a program loads or runs.
var (
	steering         = []string{"PATH", "IFS", "ENV", "BASH_ENV", "SHELLOPTS", "BASHOPTS", "PS4", "PROMPT_COMMAND", "NODE_OPTIONS", "NODE_PATH", "PYTHONPATH", "PYTHONSTARTUP", "PYTHONHOME", "PERL5LIB", "PERL5OPT", "RUBYLIB", "RUBYOPT", "JAVA_TOOL_OPTIONS", "_JAVA_OPTIONS", "JDK_JAVA_OPTIONS", "CLASSPATH", "HOME", "SHELL", "EDITOR", "VISUAL", "PAGER"}
	steeringPrefixes = []string{"LD_", "DYLD_", "GIT_", "BASH_FUNC_", "SSH_ASKPASS", "NPM_CONFIG_"}
)

// Steers tells whether a variable of this name steers a loader or a shell.
func Steers(name string) bool {
	return slices.Contains(steering, name) || slices.ContainsFunc(steeringPrefixes, func(p string) bool { return strings.HasPrefix(strings.ToUpper(name), p) })
}

type member struct {
	key   string
	token *token.Token
	value ast.Node
}

// mapping reads the members of a mapping and names duplicates.
func (r *reader) mapping(node ast.Node, what string) []member {
	var values []*ast.MappingValueNode
	switch n := node.(type) {
	case *ast.MappingNode:
		values = n.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{n}
	case *ast.NullNode:
		return nil
	default:
		r.at(node.GetToken(), "%s holds %s; names with values were expected", what, kindOf(node))
		return nil
	}
	seen := map[string]int{}
	members := make([]member, 0, len(values))
	for _, v := range values {
		t := v.Key.GetToken()
		key := t.Value
		if line, twice := seen[key]; twice {
			r.at(t, "%s stands twice in %s, first in line %d; keep one of the two", key, what, line)
			continue
		}
		seen[key] = t.Position.Line
		members = append(members, member{key, t, v.Value})
	}
	return members
}

func (r *reader) list(node ast.Node, what string) []string {
	sequence, ok := node.(*ast.SequenceNode)
	if !ok {
		r.at(node.GetToken(), "%s holds %s; a list was expected, such as [one, two]", what, kindOf(node))
		return nil
	}
	items := make([]string, 0, len(sequence.Values))
	for _, v := range sequence.Values {
		items = append(items, r.text(v, what))
	}
	return items
}

func (r *reader) text(node ast.Node, what string) string {
	switch n := node.(type) {
	case *ast.StringNode:
		return n.Value
	case *ast.LiteralNode:
		return n.Value.Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.GetToken().Value
	}
	r.at(node.GetToken(), "%s holds %s; a single value was expected", what, kindOf(node))
	return ""
}

func (r *reader) truth(f member) bool {
	text := r.text(f.value, f.key)
	value, err := parseBoolean(text)
	if err != nil && text != "" {
		r.at(f.value.GetToken(), "%s says %q; true or false was expected", f.key, text)
	}
	return value
}

func (r *reader) unknown(m member, known []string, where string) {
	sorted := slices.Clone(known)
	sort.Strings(sorted)
	r.at(m.token, "%s has the key %q, which a needs file does not know; %sthere are %s", where, m.key, didYouMean(m.key, known), strings.Join(sorted, ", "))
}

func didYouMean(misspelt string, known []string) string {
	if near := layers.Nearest(misspelt, known); near != "" {
		return fmt.Sprintf("did you mean %s? ", near)
	}
	return ""
}

func kindOf(node ast.Node) string {
	switch node.Type() {
	case ast.MappingType, ast.MappingValueType:
		return "names with values"
	case ast.SequenceType:
		return "a list"
	case ast.NullType:
		return "nothing"
	case ast.AnchorType, ast.AliasType:
		return "an anchor or alias"
	}
	return "a single value"
}
