package api

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"

	"adytum.example/client/wire"
)

func FuzzReadReferences(f *testing.F) {
	for _, s := range []string{`{"references":["adytum:A","adytum:loans/live/B@3"]}`, `{"references":["a"]} `, `{"references":[]}`, `{"references":["a",]}`, `{"references":["a"],"optional":["b"]}`,
		`{"references":["a\n"]}`, "{\"references\":[\"a\x00\"]}", `{"references":["é"]}`, `{"references":["a"]}x`, `{"references":["a" ,"b"]}`, `{"references":["a`, `{"references":["a","b"`, `{}`, ``} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var quick, slow wire.ResolveRequest
		if !readReferences(data, &quick) {
			return
		}
		assert.NoError(t, json.Unmarshal(data, &slow), "%q", data)
		assert.Equal(t, slow, quick, "%q", data)
	})
}
