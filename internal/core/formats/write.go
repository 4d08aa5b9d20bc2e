package formats

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/magiconair/properties"
	yaml "go.yaml.in/yaml/v3"
)

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
