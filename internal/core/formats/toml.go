package formats

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"

	toml "github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

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
