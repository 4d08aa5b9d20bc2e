package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/service"
)

// oauthError answers as RFC 6749, section 5.2, has it.
func oauthError(w http.ResponseWriter, status int, code, description string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]string{"error": code, "error_description": description})
}

// The grant types of the token endpoint.
const (
	clientCredentialsGrant = "client_credentials"
	signedTokenGrant       = "urn:ietf:params:oauth:grant-type:jwt-bearer"
	refreshGrant           = "refresh_token"
	deviceGrant            = "urn:ietf:params:oauth:grant-type:device_code"
)

// token is the token endpoint: client credentials, RFC 6749 section 4.4, with
// the client's secret in an Authorization header or in the form, and signed
// tokens of trusted issuers, RFC 7523 section 2.1.
func (s *server) token(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	if err := r.ParseForm(); err != nil {
		oauthError(w, http.StatusBadRequest, "invalid_request", "the body is not a form (application/x-www-form-urlencoded)")
		return
	}
	var session wire.Session
	var err error
	id, clientSecret := clientCredentials(r)
	grant := r.PostForm.Get("grant_type")
	switch grant {
	case clientCredentialsGrant:
		session, err = s.service.SignInWorkload(r.Context(), id, secret.FromString(clientSecret), s.address(r))
	case signedTokenGrant:
		session, err = s.service.SignInSigned(r.Context(), r.PostForm.Get("assertion"), id, s.address(r))
	case refreshGrant:
		session, err = s.service.Refresh(r.Context(), secret.FromString(r.PostForm.Get("refresh_token")), s.address(r))
	case deviceGrant:
		session, err = s.service.TakeDevice(r.Context(), secret.FromString(r.PostForm.Get("device_code")), s.address(r))
	default:
		oauthError(w, http.StatusBadRequest, "unsupported_grant_type", "the grant type is "+strings.Join(grantTypes, ", "))
		return
	}
	var p *service.Problem
	switch {
	case errors.As(err, &p) && grant == deviceGrant && waitingSays[p.Message] != "":
		oauthError(w, http.StatusBadRequest, p.Message, waitingSays[p.Message])
	case errors.As(err, &p) && p.Kind == service.Unauthenticated && grant != clientCredentialsGrant:
		oauthError(w, http.StatusBadRequest, "invalid_grant", p.Message)
	case errors.As(err, &p) && p.Kind == service.Unauthenticated:
		w.Header().Set("WWW-Authenticate", `Basic realm="adytum"`)
		oauthError(w, http.StatusUnauthorized, "invalid_client", "the client id or the client secret is wrong")
	case err != nil:
		s.writeError(w, r, err)
	default:
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(wire.TokenAnswer{AccessToken: session.Token, TokenType: "Bearer", ExpiresIn: int64(time.Until(session.ExpiresAt).Seconds()), Refresh: session.Refresh})
	}
}

var grantTypes = []string{clientCredentialsGrant, signedTokenGrant, refreshGrant, deviceGrant}

// waitingSays is what a device that waits is told, by the error codes of RFC 8628,
// section 3.5.
var waitingSays = map[string]string{
	service.ErrDevicePending.Message: "nobody has let this device in yet", service.ErrDeviceHurried.Message: "ask less often",
	service.ErrDeviceDenied.Message: "this device was not let in", service.ErrDeviceEnded.Message: "the code has ended; ask for a new one",
}

// device is the device authorization endpoint, RFC 8628 section 3.1. The code is
// to be typed: there is no address that holds it.
func (s *server) device(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	if err := r.ParseForm(); err != nil {
		oauthError(w, http.StatusBadRequest, "invalid_request", "the body is not a form (application/x-www-form-urlencoded)")
		return
	}
	deviceCode, userCode, err := s.service.BeginDevice(r.Context(), r.PostForm.Get("host"), s.address(r))
	if err != nil {
		s.writeError(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	_ = json.NewEncoder(w).Encode(wire.DeviceAuthorization{DeviceCode: string(deviceCode.Expose()), UserCode: userCode, VerificationURI: s.origin(r) + "/device",
		ExpiresIn: int64(service.DeviceLife.Seconds()), Interval: int64(service.DeviceInterval.Seconds())})
}

// origin is the address that the caller knows the service by.
func (s *server) origin(r *http.Request) string {
	scheme := "http"
	if s.secure {
		scheme = "https"
	}
	return scheme + "://" + strings.TrimSuffix(r.Host, "/")
}

// clientCredentials takes them from the header, percent-decoded as RFC 6749
// section 2.3.1 asks, or from the form.
func clientCredentials(r *http.Request) (id, clientSecret string) {
	if user, password, ok := r.BasicAuth(); ok {
		u, uerr := url.QueryUnescape(user)
		p, perr := url.QueryUnescape(password)
		if uerr == nil && perr == nil {
			return u, p
		}
		return user, password
	}
	return r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
}

// revoke is RFC 7009: the token itself is what authorizes its revocation; an
// unknown one is answered alike.
func (s *server) revoke(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	if err := r.ParseForm(); err != nil || r.PostForm.Get("token") == "" {
		oauthError(w, http.StatusBadRequest, "invalid_request", "the form field token is missing")
		return
	}
	caller, err := s.service.Authenticate(r.Context(), secret.FromString(r.PostForm.Get("token")), s.address(r))
	if err == nil {
		err = s.service.SignOut(r.Context(), caller)
	}
	var p *service.Problem
	if err != nil && !(errors.As(err, &p) && p.Kind == service.Unauthenticated) {
		s.writeError(w, r, err)
		return
	}
	w.WriteHeader(http.StatusOK)
}

// metadata is RFC 8414.
func (s *server) metadata(w http.ResponseWriter, r *http.Request) {
	issuer := s.origin(r)
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{
		"issuer": issuer, "token_endpoint": issuer + "/oauth/token", "revocation_endpoint": issuer + "/oauth/revoke",
		"device_authorization_endpoint":         issuer + "/oauth/device",
		"grant_types_supported":                 grantTypes,
		"token_endpoint_auth_methods_supported": []string{"client_secret_basic", "client_secret_post"},
		"response_types_supported":              []string{},
	})
}
