package formats

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	yaml "go.yaml.in/yaml/v3"
)

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
