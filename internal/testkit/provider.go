package testkit

import (
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"

	"adytum.example/internal/standin"
)

// NewProvider starts a stand-in for an identity provider, which ends with the test.
func NewProvider(t testing.TB, people ...standin.Person) *standin.Provider {
	t.Helper()
	server := httptest.NewUnstartedServer(nil)
	p, err := standin.New("http://"+server.Listener.Addr().String(), people...)
	require.NoError(t, err)
	server.Config.Handler = p.Handler()
	server.Start()
	t.Cleanup(server.Close)
	return p
}
