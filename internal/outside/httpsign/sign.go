// Package httpsign signs HTTP requests (RFC 9421) with Ed25519, so that whoever
// receives one can tell whom it is from and that nothing of it was altered. It
// signs what it is given, and sends nothing.
package httpsign

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// Label names the signature in its headers.
const Label = "adytum"

// ContentDigest is the digest of a body as RFC 9530 has it.
func ContentDigest(body []byte) string {
	sum := sha256.Sum256(body)
	return "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
}

// Sign signs a request: its method, its address, and the header fields that are
// named, which must be there. The body is covered by a Content-Digest among them.
func Sign(r *http.Request, key ed25519.PrivateKey, keyID string, created time.Time, fields ...string) error {
	components := append([]string{"@method", "@target-uri"}, fields...)
	parameters, base, err := Base(r, components, created, keyID)
	if err != nil {
		return err
	}
	r.Header.Set("Signature-Input", Label+"="+parameters)
	r.Header.Set("Signature", Label+"=:"+base64.StdEncoding.EncodeToString(ed25519.Sign(key, []byte(base)))+":")
	return nil
}

// Base is what a signature is made over (RFC 9421, section 2.5), and the
// parameters that tell how. A component that the request does not have is an error.
func Base(r *http.Request, components []string, created time.Time, keyID string) (parameters, base string, err error) {
	var lines, quoted []string
	for _, c := range components {
		value := ""
		switch c {
		case "@method":
			value = r.Method
		case "@target-uri":
			value = r.URL.String()
		case "@authority":
			value = strings.ToLower(r.URL.Host)
		case "@path":
			value = r.URL.EscapedPath()
		default:
			values := r.Header.Values(c)
			if len(values) == 0 {
				return "", "", fmt.Errorf("the request has no %s to sign", c)
			}
			for i := range values {
				values[i] = strings.TrimSpace(values[i])
			}
			value = strings.Join(values, ", ")
		}
		if strings.ContainsAny(value, "\r\n") {
			return "", "", errors.New("a line end cannot be signed")
		}
		quoted = append(quoted, `"`+c+`"`)
		lines = append(lines, `"`+c+`": `+value)
	}
	parameters = "(" + strings.Join(quoted, " ") + ");created=" + strconv.FormatInt(created.Unix(), 10) + `;keyid="` + keyID + `"`
	return parameters, strings.Join(append(lines, `"@signature-params": `+parameters), "\n"), nil
}
