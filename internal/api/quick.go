package api

import (
	"bytes"
	"encoding/json"
	"maps"

	"github.com/danielgtaylor/huma/v2"

	"adytum.example/client/wire"
)

// formats are huma's, but that the request every program begins with is read by
// its own means where it has the plainest form.
func formats(all map[string]huma.Format) map[string]huma.Format {
	all = maps.Clone(all)
	for _, name := range []string{"application/json", "json"} {
		f := all[name]
		f.Unmarshal = func(data []byte, v any) error {
			if r, is := v.(*wire.ResolveRequest); is && readReferences(data, r) {
				return nil
			}
			return json.Unmarshal(data, v)
		}
		all[name] = f
	}
	return all
}

// readReferences reads {"references":["…", …]} without escapes, and tells whether
// it was that. Everything else is for encoding/json.
func readReferences(data []byte, r *wire.ResolveRequest) bool {
	rest, found := bytes.CutPrefix(data, []byte(`{"references":[`))
	if !found {
		return false
	}
	all := make([]string, 0, bytes.Count(rest, []byte(`",`))+1)
	for {
		if len(rest) < 2 || rest[0] != '"' {
			return false
		}
		end := bytes.IndexByte(rest[1:], '"')
		if end < 0 || !plainText(rest[1:1+end]) {
			return false
		}
		all = append(all, string(rest[1:1+end]))
		switch rest = rest[2+end:]; {
		case len(rest) > 1 && rest[0] == ',':
			rest = rest[1:]
		case bytes.Equal(bytes.TrimSpace(rest), []byte("]}")):
			r.References = all
			return true
		default:
			return false
		}
	}
}

// plainText tells whether the inside of a JSON string is the string itself.
func plainText(b []byte) bool {
	for _, c := range b {
		if c < ' ' || c >= 0x7f || c == '\\' {
			return false
		}
	}
	return true
}
