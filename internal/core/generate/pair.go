package generate

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net/netip"
	"strings"
	"time"

	"adytum.example/internal/core/secret"
)

func pair(r Request) (Made, error) {
	key, about, strength, err := newKey(r)
	if err != nil {
		return Made{}, err
	}
	value, err := privatePEM(key)
	if err != nil {
		return Made{}, err
	}
	public, err := x509.MarshalPKIXPublicKey(key.Public())
	if err != nil {
		return Made{}, fmt.Errorf("cannot be generated: %w", err)
	}
	return Made{Value: value, Public: string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})), Bits: strength, About: about}, nil
}

// newKey makes a private key and tells its strength by NIST SP 800-57, table 2.
func newKey(r Request) (key crypto.Signer, about string, strength int, err error) {
	switch r.What {
	case RSA:
		bits := r.Bits
		if bits == 0 {
			bits = 3072
		}
		strengths := map[int]int{2048: 112, 3072: 128, 4096: 152}
		if strengths[bits] == 0 {
			return nil, "", 0, fmt.Errorf("cannot be generated as an RSA key of %d bits; there are 2048, 3072 and 4096", bits)
		}
		key, err = rsa.GenerateKey(rand.Reader, bits)
		return key, fmt.Sprintf("an RSA key of %d bits", bits), strengths[bits], err
	case EC:
		bits := r.Bits
		if bits == 0 {
			bits = 256
		}
		curve := map[int]elliptic.Curve{256: elliptic.P256(), 384: elliptic.P384(), 521: elliptic.P521()}[bits]
		if curve == nil {
			return nil, "", 0, fmt.Errorf("cannot be generated as an EC key of %d bits; there are 256, 384 and 521", bits)
		}
		key, err = ecdsa.GenerateKey(curve, rand.Reader)
		return key, "an EC key on " + curve.Params().Name, bits / 2, err
	}
	_, key, err = ed25519.GenerateKey(rand.Reader)
	return key, "an Ed25519 key", 128, err
}

func privatePEM(key crypto.Signer) (secret.Value, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return secret.Value{}, fmt.Errorf("cannot be generated: %w", err)
	}
	defer clear(der)
	return secret.New(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})), nil
}

// certificate makes a self-signed certificate for servers (RFC 5280) and its key.
func certificate(r Request) (Made, error) {
	days := r.Days
	if days == 0 {
		days = 365
	}
	if days < 1 || days > 3650 {
		return Made{}, fmt.Errorf("cannot be generated as a certificate for %d days; there are 1 to 3650", days)
	}
	if len(r.Hosts) == 0 || len(r.Hosts) > 100 {
		return Made{}, errors.New("cannot be generated as a certificate without a host; name one to 100 that it is for")
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return Made{}, fmt.Errorf("cannot be generated: %w", err)
	}
	serial := make([]byte, 16)
	_, _ = rand.Read(serial) // never fails since Go 1.24
	now := time.Now().UTC().Truncate(time.Second)
	template := &x509.Certificate{
		SerialNumber: new(big.Int).SetBytes(serial), Subject: pkix.Name{CommonName: r.Hosts[0]},
		NotBefore: now.Add(-5 * time.Minute), NotAfter: now.AddDate(0, 0, days), BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	for _, host := range r.Hosts {
		if address, err := netip.ParseAddr(host); err == nil {
			template.IPAddresses = append(template.IPAddresses, address.AsSlice())
		} else if host == "" || len(host) > 253 || strings.ContainsAny(host, " /:\\\"'\n\t") {
			return Made{}, fmt.Errorf("cannot be generated as a certificate for %q, which is no host", host)
		} else {
			template.DNSNames = append(template.DNSNames, host)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return Made{}, errors.New("cannot be generated as a certificate for these hosts: a host is a name in ASCII or an address")
	}
	value, err := privatePEM(key)
	return Made{Value: value, Public: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), Bits: 128,
		About: "the key of a self-signed certificate for " + strings.Join(r.Hosts, ", ")}, err
}

// CertificateEnd is the first moment at which a certificate in a value, or the
// earliest of several, holds no more; zero where there is none.
func CertificateEnd(value []byte) time.Time {
	var end time.Time
	for block, rest := pem.Decode(value); block != nil; block, rest = pem.Decode(rest) {
		if block.Type != "CERTIFICATE" {
			continue
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			continue
		}
		// RFC 5280, section 4.1.2.5: the last second still counts.
		if last := c.NotAfter.Add(time.Second); end.IsZero() || last.Before(end) {
			end = last
		}
	}
	return end
}
