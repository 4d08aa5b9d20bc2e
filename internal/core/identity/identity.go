// Package identity is what an identity provider is asked and says (OpenID Connect
// Core 1.0), apart from how it is asked.
package identity

import (
	"errors"

	"adytum.example/internal/core/secret"
)

// Provider is how a provider is asked.
type Provider struct {
	URL, ClientID string
	Secret        secret.Value
}

// Identity is who a provider says somebody is.
type Identity struct {
	Subject string       // never another's
	Email   string       // verified, or empty
	Refresh secret.Value // to ask again with
}

// ErrUnknown says that a provider refused: the code is not its own, or the account
// is not there any more.
var ErrUnknown = errors.New("the provider does not know the account")
