package daemon_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"adytum.example/internal/testkit"
)

// certificate makes a certificate for loopback that signs itself.
func certificate(t *testing.T) (certFile, keyFile string, pool *x509.CertPool) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	folder := t.TempDir()
	certFile, keyFile = filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	certPEM := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	require.NoError(t, os.WriteFile(certFile, certPEM, 0o644))
	require.NoError(t, os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER}), 0o600))
	pool = x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(certPEM))
	return certFile, keyFile, pool
}

func TestServingOverTLS(t *testing.T) {
	s := testkit.Start(t)
	s.Stop()
	var pool *x509.CertPool
	s.Config.Certificate, s.Config.PrivateKey, pool = certificate(t)
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
