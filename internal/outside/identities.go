package outside

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"adytum.example/internal/core/identity"
	"adytum.example/internal/core/secret"
)

// Identities asks identity providers, within the bounds of a [Fetcher]. It is safe
// for concurrent use.
type Identities struct {
	fetcher *Fetcher
	mu      sync.Mutex
	known   map[string]known // by the provider's address
}

// known is what a provider says it is. Whoever begins a sign-in, which takes no
// account, does not make it be asked each time.
type known struct {
	provider *oidc.Provider
	at       time.Time
}

const knownFor = 10 * time.Minute

// NewIdentities makes Identities of a fetcher.
func NewIdentities(f *Fetcher) *Identities {
	return &Identities{fetcher: f, known: map[string]known{}}
}

// discover obtains what a provider says it is.
func (i *Identities) discover(ctx context.Context, address string) (*oidc.Provider, error) {
	i.mu.Lock()
	k := i.known[address]
	i.mu.Unlock()
	if k.provider != nil && time.Since(k.at) < knownFor {
		return k.provider, nil
	}
	provider, err := oidc.NewProvider(ctx, address)
	if err != nil {
		return nil, fmt.Errorf("ask the provider what it is: %w", err)
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.known[address] = known{provider, time.Now()}
	return provider, nil
}

// bounded reads no more of any answer than [MaxAnswer] bytes.
type bounded struct{ inner http.RoundTripper }

// RoundTrip implements [http.RoundTripper].
func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := b.inner.RoundTrip(r)
	if err == nil {
		answer.Body = http.MaxBytesReader(nil, answer.Body, MaxAnswer)
	}
	return answer, err
}

func (i *Identities) open(ctx context.Context, p identity.Provider, callback string) (context.Context, *oidc.Provider, *oauth2.Config, error) {
	client := *i.fetcher.http
	client.Transport = bounded{client.Transport}
	ctx = oidc.ClientContext(ctx, &client)
	provider, err := i.discover(ctx, p.URL)
	if err != nil {
		return ctx, nil, nil, err
	}
	endpoint := provider.Endpoint()
	for _, address := range []string{endpoint.AuthURL, endpoint.TokenURL} {
		if err := i.fetcher.CheckURL(address); err != nil {
			return ctx, nil, nil, fmt.Errorf("an address of the provider: %w", err)
		}
	}
	return ctx, provider, &oauth2.Config{ClientID: p.ClientID, ClientSecret: string(p.Secret.Expose()), Endpoint: endpoint, RedirectURL: callback,
		Scopes: []string{oidc.ScopeOpenID, "email", oidc.ScopeOfflineAccess}}, nil
}

// Begin is the address to send a browser to.
func (i *Identities) Begin(ctx context.Context, p identity.Provider, callback, state, nonce, verifier string) (string, error) {
	_, _, config, err := i.open(ctx, p, callback)
	if err != nil {
		return "", err
	}
	return config.AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(verifier)), nil
}

// Answer exchanges a code for who it is.
func (i *Identities) Answer(ctx context.Context, p identity.Provider, callback, code, nonce, verifier string) (out identity.Identity, err error) {
	ctx, provider, config, err := i.open(ctx, p, callback)
	if err != nil {
		return out, err
	}
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(verifier))
	if err != nil {
		return out, refused(err)
	}
	return identify(ctx, provider, p.ClientID, token, nonce)
}

// Again asks whether somebody is still there.
func (i *Identities) Again(ctx context.Context, p identity.Provider, refresh secret.Value) (out identity.Identity, err error) {
	ctx, provider, config, err := i.open(ctx, p, "")
	if err != nil {
		return out, err
	}
	before := string(refresh.Expose())
	token, err := config.TokenSource(ctx, &oauth2.Token{RefreshToken: before}).Token()
	if err != nil {
		return out, refused(err)
	}
	if token.RefreshToken == "" {
		token.RefreshToken = before
	}
	return identify(ctx, provider, p.ClientID, token, "")
}

// identify checks the ID token that came with a token. Where a refresh came with
// none (OpenID Connect Core 1.0, section 12.2), the provider is asked who it is.
func identify(ctx context.Context, provider *oidc.Provider, clientID string, token *oauth2.Token, nonce string) (out identity.Identity, err error) {
	out.Refresh = secret.FromString(token.RefreshToken)
	var claims struct {
		Email    string `json:"email"`
		Verified bool   `json:"email_verified"`
	}
	raw, given := token.Extra("id_token").(string)
	switch {
	case given:
		// The keys are those that the provider's own metadata name; the algorithms
		// those that it says, of the asymmetric ones.
		id, err := provider.VerifierContext(ctx, &oidc.Config{ClientID: clientID}).Verify(ctx, raw)
		if err != nil {
			return out, fmt.Errorf("%w: %w", identity.ErrUnknown, err)
		}
		if nonce != "" && id.Nonce != nonce {
			return out, fmt.Errorf("%w: its answer is to another question", identity.ErrUnknown)
		}
		if err := id.Claims(&claims); err != nil {
			return out, errors.New("the ID token cannot be read")
		}
		out.Subject = id.Subject
	case nonce != "":
		return out, errors.New("the provider gave no ID token")
	default:
		info, err := provider.UserInfo(ctx, oauth2.StaticTokenSource(token))
		if err != nil {
			return out, refused(err)
		}
		out.Subject = info.Subject
	}
	if claims.Verified {
		out.Email = claims.Email
	}
	if out.Subject == "" {
		return out, errors.New("the provider named nobody")
	}
	return out, nil
}

// refused tells a provider that says no from one that does not answer.
func refused(err error) error {
	var retrieve *oauth2.RetrieveError
	if errors.As(err, &retrieve) && retrieve.Response != nil && retrieve.Response.StatusCode >= 400 && retrieve.Response.StatusCode < 500 {
		return fmt.Errorf("%w: it answered %s", identity.ErrUnknown, retrieve.ErrorCode)
	}
	return errors.New("the provider does not answer as it should")
}
