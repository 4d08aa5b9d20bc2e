// Package outside obtains small documents over HTTP from addresses that people
// have entered: it looks at the address that a name resolves to before it dials,
// follows no redirect, and bounds size and time.
package outside

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"syscall"
	"time"
)

// Limits of one question.
const (
	MaxAnswer = 256 << 10
	Timeout   = 5 * time.Second
)

// Fetcher asks outside. It is safe for concurrent use.
type Fetcher struct{ http *http.Client }

// ErrAddress says that a name leads where nothing is asked.
var ErrAddress = errors.New("the address leads to the machine itself or to its own network link")

// New makes a Fetcher; with loopback it may ask the machine itself as well, where
// the whole installation is on it.
func New(loopback bool) *Fetcher {
	dialer := &net.Dialer{Timeout: Timeout, ControlContext: func(_ context.Context, _, address string, _ syscall.RawConn) error {
		to, err := netip.ParseAddrPort(address)
		if err != nil || !allowed(to.Addr().Unmap(), loopback) {
			return ErrAddress
		}
		return nil
	}}
	transport := &http.Transport{DialContext: dialer.DialContext, Proxy: nil, DisableKeepAlives: true, ResponseHeaderTimeout: Timeout, TLSHandshakeTimeout: Timeout, MaxResponseHeaderBytes: 16 << 10}
	return &Fetcher{&http.Client{Transport: transport, Timeout: Timeout, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// allowed tells whether an address may be asked. Those of link-local services
// are where clouds keep the credentials of a machine.
func allowed(a netip.Addr, loopback bool) bool {
	if a.IsLoopback() {
		return loopback
	}
	return a.IsValid() && !a.IsUnspecified() && !a.IsMulticast() && !a.IsLinkLocalUnicast() && !a.IsInterfaceLocalMulticast()
}

// CheckURL says what is wrong with an address to ask: it is https, or, where the
// whole installation is on one machine, http to that machine.
func (f *Fetcher) CheckURL(text string) error {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.User != nil || u.Fragment != "" || u.RawQuery != "" {
		return errors.New("it is not an address such as https://issuer.example")
	}
	host, _ := netip.ParseAddr(u.Hostname())
	if u.Scheme == "https" || u.Scheme == "http" && (host.IsLoopback() || u.Hostname() == "localhost") {
		return nil
	}
	return errors.New("it is not an https address")
}

// Get obtains a document.
func (f *Fetcher) Get(ctx context.Context, address string) ([]byte, error) {
	if err := f.CheckURL(address); err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, errors.New("it is not an address")
	}
	r.Header.Set("Accept", "application/json")
	r.Header.Set("User-Agent", "adytumd")
	answer, err := f.http.Do(r)
	if err != nil {
		if errors.Is(err, ErrAddress) {
			return nil, ErrAddress
		}
		return nil, errors.New("it does not answer")
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answers %d", answer.StatusCode)
	}
	content, err := io.ReadAll(io.LimitReader(answer.Body, MaxAnswer+1))
	switch {
	case err != nil:
		return nil, errors.New("its answer was cut off")
	case len(content) > MaxAnswer:
		return nil, fmt.Errorf("its answer has more than %d bytes", MaxAnswer)
	}
	return content, nil
}
