package wire_test

import (
	"encoding/json"
	"testing"
	"testing/quick"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/client/wire"
)

func TestTheAnswerToAResolveIsJSON(t *testing.T) {
	same := func(r wire.Resolved) bool {
		if r.Values == nil {
			r.Values = []wire.Value{}
		}
		if r.Revisions == nil {
			r.Revisions = map[string]int64{}
		}
		want, err := json.Marshal(r)
		return err == nil && assert.JSONEq(t, string(want), string(r.AppendJSON(nil)))
	}
	require.NoError(t, quick.Check(same, nil))
	assert.True(t, same(wire.Resolved{}))
	assert.True(t, same(wire.Resolved{Values: []wire.Value{{Reference: "adytum:A", Value: "a\"b\\c\n\x00<é>\u2028", Private: true}}, Revisions: map[string]int64{"loans/live": 3, "": -1}}))
}
