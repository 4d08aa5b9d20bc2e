// Package client talks to an Adytum service: it signs in, resolves references
// and manages what the service keeps. It is what the adytum command is built on.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"adytum.example/client/wire"
)

// Client speaks to one service as one caller. It is safe for concurrent use
// once it is signed in.
type Client struct {
	base  *url.URL
	http  *http.Client
	token string

	checkpoint atomic.Pointer[string] // that came last with an answer
}

// Limits of one call.
const (
	callTimeout = 90 * time.Second
	dialTimeout = 5 * time.Second
	maxAnswer   = 64 << 20
)

// Errors that callers decide on.
var (
	// ErrUnreachable says that the service gave no answer or asked to try again.
	ErrUnreachable = errors.New("the service cannot be reached")
	// ErrNotSignedIn says that there is no token, or that it is not accepted.
	ErrNotSignedIn = errors.New("not signed in")
	// ErrInsecure says that a URL would send credentials in the clear.
	ErrInsecure = errors.New("plain HTTP is accepted on loopback alone; use https")
)

// Error is a problem that the service answered with.
type Error struct {
	Status  int
	Message string
	Details []string // each thing that is wrong, where there are several
	OAuth   string   // the code of RFC 6749, section 5.2, from the token endpoint
}

func (e *Error) Error() string { return e.Message }

// Is makes a 401, and a signed token that is not accepted, an ErrNotSignedIn, and
// a 503 an ErrUnreachable.
func (e *Error) Is(target error) bool {
	return target == ErrNotSignedIn && (e.Status == http.StatusUnauthorized || e.OAuth == "invalid_grant") ||
		target == ErrUnreachable && (e.Status == http.StatusServiceUnavailable || e.Status == http.StatusBadGateway || e.Status == http.StatusGatewayTimeout)
}

// New returns a Client for the service at an address such as
// https://adytum.fernhollow.example. Plain HTTP is accepted on loopback alone.
func New(address string) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil || u.Path != "" && u.Path != "/" || u.RawQuery != "" {
		return nil, fmt.Errorf("%q is not a service's address; it has the form https://HOST or http://127.0.0.1:PORT", address)
	}
	if u.Scheme == "http" && !isLoopback(u.Hostname()) {
		return nil, fmt.Errorf("%s: %w", address, ErrInsecure)
	}
	u.Path = ""
	transport := &http.Transport{
		DialContext:           (&net.Dialer{Timeout: dialTimeout}).DialContext,
		TLSHandshakeTimeout:   dialTimeout,
		ResponseHeaderTimeout: callTimeout,
		Proxy:                 http.ProxyFromEnvironment,
		ForceAttemptHTTP2:     true,
		MaxIdleConnsPerHost:   4,
	}
	return &Client{base: u, http: &http.Client{
		Transport: transport,
		Timeout:   callTimeout,
		// A token goes to the origin that issued it and nowhere else.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}, nil
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Address is the service's address in its one form.
func (c *Client) Address() string { return c.base.String() }

// UseToken makes the client present a token that was obtained before.
func (c *Client) UseToken(token string) { c.token = token }

// SignIn signs a person in with a password, and goes on with the token.
func (c *Client) SignIn(ctx context.Context, login, password string) (wire.Session, error) {
	return c.SignInWith(ctx, wire.SignIn{Login: login, Password: password})
}

// SignInWith signs a person in with a password and a code, and goes on with the
// token.
func (c *Client) SignInWith(ctx context.Context, s wire.SignIn) (wire.Session, error) {
	var out wire.Session
	err := c.call(ctx, http.MethodPost, "/api/v1/sessions", nil, s, &out)
	if err == nil {
		c.token = out.Token
	}
	return out, err
}

// SignInWorkload signs a workload in with its client secret (RFC 6749, section
// 4.4), and goes on with the token.
func (c *Client) SignInWorkload(ctx context.Context, clientID, clientSecret string) (wire.TokenAnswer, error) {
	return c.tokenFor(ctx, url.Values{"grant_type": {"client_credentials"}}, clientID, clientSecret)
}

// SignInSigned signs a workload in with a token that an issuer has signed (RFC
// 7523, section 2.1), and goes on with the token that it gets. The client id is
// needed only where several workloads trust the signed token.
func (c *Client) SignInSigned(ctx context.Context, signedToken, clientID string) (wire.TokenAnswer, error) {
	form := url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:jwt-bearer"}, "assertion": {signedToken}}
	if clientID != "" {
		form.Set("client_id", clientID)
	}
	return c.tokenFor(ctx, form, "", "")
}

func (c *Client) tokenFor(ctx context.Context, form url.Values, clientID, clientSecret string) (wire.TokenAnswer, error) {
	var out wire.TokenAnswer
	if err := c.form(ctx, "/oauth/token", form, clientID, clientSecret, &out); err != nil {
		return out, err
	}
	c.token = out.AccessToken
	return out, nil
}

func (c *Client) form(ctx context.Context, path string, form url.Values, clientID, clientSecret string, out any) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, c.base.String()+path, strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if clientID != "" {
		r.SetBasicAuth(url.QueryEscape(clientID), url.QueryEscape(clientSecret))
	}
	return c.do(r, out)
}

// Refresh goes on with a sign-in by its refresh token, which is good once, and
// goes on with the token that it gets.
func (c *Client) Refresh(ctx context.Context, refresh string) (wire.TokenAnswer, error) {
	return c.tokenFor(ctx, url.Values{"grant_type": {"refresh_token"}, "refresh_token": {refresh}}, "", "")
}

// AskDevice asks for this device to be let in by a person at the console (RFC
// 8628), who sees what it calls itself.
func (c *Client) AskDevice(ctx context.Context, host string) (wire.DeviceAuthorization, error) {
	var out wire.DeviceAuthorization
	return out, c.form(ctx, "/oauth/device", url.Values{"client_id": {"adytum"}, "host": {host}}, "", "", &out)
}

// TakeDevice asks once whether the device was let in. The error's OAuth code says
// why it was not yet.
func (c *Client) TakeDevice(ctx context.Context, deviceCode string) (wire.TokenAnswer, error) {
	return c.tokenFor(ctx, url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"}, "device_code": {deviceCode}}, "", "")
}

// SignOut revokes the client's token.
func (c *Client) SignOut(ctx context.Context) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/sessions/current", nil, nil, nil)
}

// call makes one call of the interface.
func (c *Client) call(ctx context.Context, method, path string, header http.Header, body, out any) error {
	var content io.Reader
	if body != nil {
		encoded, err := json.Marshal(body)
		if err != nil {
			return fmt.Errorf("encode the request: %w", err)
		}
		content = bytes.NewReader(encoded)
	}
	r, err := http.NewRequestWithContext(ctx, method, c.base.String()+path, content)
	if err != nil {
		return err
	}
	for name, values := range header {
		r.Header[name] = values
	}
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		r.Header.Set("Authorization", "Bearer "+c.token)
	}
	return c.do(r, out)
}

func (c *Client) do(r *http.Request, out any) error {
	r.Header.Set("Accept", "application/json")
	r.Header.Set("User-Agent", "adytum")
	answer, err := c.http.Do(r)
	if err != nil {
		return c.unreachable(err)
	}
	defer answer.Body.Close()
	c.see(answer)
	limited := io.LimitReader(answer.Body, maxAnswer)
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return readProblem(answer, limited)
	}
	if out == nil {
		_, _ = io.Copy(io.Discard, limited)
		return nil
	}
	if err := json.NewDecoder(limited).Decode(out); err != nil {
		return fmt.Errorf("the answer of %s is not what was expected; is it an Adytum service of this version?", c.base)
	}
	return nil
}

// stream reads an answer that may be large.
func (c *Client) stream(ctx context.Context, path string, read func(io.Reader) error) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base.String()+path, nil)
	if err != nil {
		return err
	}
	r.Header.Set("User-Agent", "adytum")
	r.Header.Set("Authorization", "Bearer "+c.token)
	answer, err := c.http.Do(r)
	if err != nil {
		return c.unreachable(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return readProblem(answer, io.LimitReader(answer.Body, maxAnswer))
	}
	return read(answer.Body)
}

// unreachable says which service gave no answer, and why.
func (c *Client) unreachable(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	if errors.Is(err, context.Canceled) {
		return err
	}
	return fmt.Errorf("%w at %s: %w", ErrUnreachable, c.base, err)
}

func readProblem(answer *http.Response, body io.Reader) error {
	var p struct {
		wire.Problem
		OAuth       string `json:"error"`
		Description string `json:"error_description"`
	}
	if err := json.NewDecoder(body).Decode(&p); err != nil || p.Detail == "" && p.Description == "" {
		return &Error{Status: answer.StatusCode, Message: "the service answered " + strconv.Itoa(answer.StatusCode) + " " + http.StatusText(answer.StatusCode)}
	}
	e := &Error{Status: answer.StatusCode, Message: p.Detail, OAuth: p.OAuth}
	if p.Detail == "" {
		e.Message = p.Description
	}
	for _, d := range p.Errors {
		text := d.Message
		if d.Location != "" {
			text = d.Location + ": " + text
		}
		e.Details = append(e.Details, text)
	}
	return e
}

// Token is the token that the client presents. It is a credential.
func (c *Client) Token() string { return c.token }
