package daemon_test

import (
	"crypto/tls"
	"crypto/x509"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/testkit"
)

func TestServingOverTLS(t *testing.T) {
	s := testkit.Start(t)
	s.Stop()
	var pool *x509.CertPool
	s.Config.Certificate, s.Config.PrivateKey, pool = testkit.Certificate(t)
	s.Serve(t)
	require.True(t, strings.HasPrefix(s.URL, "https://"))
	c := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	answer, err := c.Post(s.URL+"/api/v1/console/session", "application/json", strings.NewReader(`{"login":"`+testkit.OwnerLogin+`","password":"`+testkit.OwnerPassword+`"}`))
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	require.Equal(t, http.StatusOK, answer.StatusCode)
	assert.EqualValues(t, tls.VersionTLS13, answer.TLS.Version)
	cookie := answer.Cookies()[0]
	assert.Equal(t, "__Host-adytum", cookie.Name)
	assert.True(t, cookie.Secure && cookie.HttpOnly)
	assert.Equal(t, "/", cookie.Path)
	assert.Empty(t, cookie.Domain)

	_, err = (&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MaxVersion: tls.VersionTLS12}}}).Get(s.URL + "/livez")
	assert.Error(t, err, "nothing older than TLS 1.3")
	_, err = http.Get(s.URL + "/livez")
	assert.Error(t, err, "an unknown certificate is refused by clients")
}
