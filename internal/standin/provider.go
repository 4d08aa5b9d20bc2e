// Package standin plays the parts that a demo and the tests need of others: an
// identity provider that people sign in at (OpenID Connect), and an issuer that
// signs tokens for workloads, as a pipeline's runner and a cluster do. It is made
// for one machine and asks nobody for a password.
package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Provider is an identity provider and an issuer of signed tokens. It is safe for
// concurrent use.
type Provider struct {
	URL          string // that it is served at, without a slash at its end
	ClientID     string
	ClientSecret string

	mu      sync.Mutex
	key     jose.JSONWebKey
	people  map[string]Person // by e-mail address
	gone    map[string]bool
	away    bool
	codes   map[string]grant
	refresh map[string]string // to the e-mail address
}

// Person is somebody with an account.
type Person struct{ Email, Name string }

// grant is a code on its way.
type grant struct{ email, nonce, challenge, callback string }

// New makes a provider that is to be served at an address.
func New(address string, people ...Person) (*Provider, error) {
	p := &Provider{URL: address, ClientID: "adytum", ClientSecret: rand.Text(), people: map[string]Person{}, gone: map[string]bool{}, codes: map[string]grant{}, refresh: map[string]string{}}
	for _, person := range people {
		p.people[person.Email] = person
	}
	return p, p.Renew("first")
}

// Renew gives the provider another key.
func (p *Provider) Renew(id string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return fmt.Errorf("make the stand-in's key: %w", err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.key = jose.JSONWebKey{Key: key, KeyID: id, Algorithm: string(jose.ES256), Use: "sig"}
	return nil
}

// Close ends an account; it does not come back.
func (p *Provider) Close(email string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.gone[email] = true
}

// Away lets the provider answer nothing but 503, or answer again.
func (p *Provider) Away(away bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.away = away
}

// Handler answers as a provider does.
func (p *Provider) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize", "token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys", "userinfo_endpoint": p.URL + "/userinfo",
			"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{string(jose.ES256)},
			"code_challenge_methods_supported": []string{"S256"}})
	})
	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		answer(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{p.key.Public()}})
	})
	mux.HandleFunc("GET /authorize", p.choose)
	mux.HandleFunc("POST /authorize", p.chosen)
	mux.HandleFunc("POST /token", p.token)
	mux.HandleFunc("POST /sign", p.signForm)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		away := p.away
		p.mu.Unlock()
		if away {
			http.Error(w, "away", http.StatusServiceUnavailable)
			return
		}
		mux.ServeHTTP(w, r)
	})
}

func answer(w http.ResponseWriter, of any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(of)
}

var page = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Fernhollow accounts</title>
<body style="font:18px sans-serif;max-width:28rem;margin:12vh auto"><h1>Fernhollow accounts</h1>
<p>A stand-in: it lets in whoever you choose.</p>
<form method="post">{{range $name, $values := .Query}}{{range $values}}<input type="hidden" name="{{$name}}" value="{{.}}">{{end}}{{end}}
{{range .People}}<p><button name="person" value="{{.Email}}" style="font:inherit;padding:.4em 1em">{{.Name}}</button></p>{{end}}</form>`))

func (p *Provider) choose(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	var people []Person
	for email, person := range p.people {
		if !p.gone[email] {
			people = append(people, person)
		}
	}
	p.mu.Unlock()
	slices.SortFunc(people, func(a, b Person) int { return slices.Compare([]byte(a.Name), []byte(b.Name)) })
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = page.Execute(w, map[string]any{"Query": r.URL.Query(), "People": people})
}

func (p *Provider) chosen(w http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	back, err := url.Parse(r.PostForm.Get("redirect_uri"))
	email := r.PostForm.Get("person")
	p.mu.Lock()
	defer p.mu.Unlock()
	if _, known := p.people[email]; err != nil || !known || p.gone[email] || r.PostForm.Get("client_id") != p.ClientID || r.PostForm.Get("code_challenge_method") != "S256" {
		http.Error(w, "this is no request of a client that is known here", http.StatusBadRequest)
		return
	}
	code := rand.Text()
	p.codes[code] = grant{email, r.PostForm.Get("nonce"), r.PostForm.Get("code_challenge"), r.PostForm.Get("redirect_uri")}
	query := back.Query()
	query.Set("code", code)
	query.Set("state", r.PostForm.Get("state"))
	back.RawQuery = query.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	id, clientSecret, basic := r.BasicAuth()
	if !basic {
		id, clientSecret = r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	refuse := func(code string) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusBadRequest)
		_ = json.NewEncoder(w).Encode(map[string]string{"error": code})
	}
	if id != p.ClientID || clientSecret != p.ClientSecret {
		refuse("invalid_client")
		return
	}
	email, nonce := "", ""
	switch r.PostForm.Get("grant_type") {
	case "authorization_code":
		g, known := p.codes[r.PostForm.Get("code")]
		delete(p.codes, r.PostForm.Get("code"))
		sum := sha256.Sum256([]byte(r.PostForm.Get("code_verifier")))
		if known && g.callback == r.PostForm.Get("redirect_uri") && g.challenge == base64.RawURLEncoding.EncodeToString(sum[:]) {
			email, nonce = g.email, g.nonce
		}
	case "refresh_token":
		email = p.refresh[r.PostForm.Get("refresh_token")]
		delete(p.refresh, r.PostForm.Get("refresh_token"))
	}
	if email == "" || p.gone[email] {
		refuse("invalid_grant")
		return
	}
	refresh := rand.Text()
	p.refresh[refresh] = email
	now := time.Now()
	claims := map[string]any{"iss": p.URL, "aud": p.ClientID, "sub": subject(email), "email": email, "email_verified": true, "iat": now.Unix(), "exp": now.Add(time.Hour).Unix()}
	if nonce != "" {
		claims["nonce"] = nonce
	}
	signed, err := p.sign(claims)
	if err != nil {
		http.Error(w, "cannot sign", http.StatusInternalServerError)
		return
	}
	answer(w, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 3600, "refresh_token": refresh, "id_token": signed})
}

func subject(email string) string {
	sum := sha256.Sum256([]byte(email))
	return base64.RawURLEncoding.EncodeToString(sum[:12])
}

// SignFor signs a token for a workload: its subject and more claims, for an
// audience, good for ten minutes.
func (p *Provider) SignFor(subject, audience string, more map[string]any) (string, error) {
	now := time.Now()
	claims := map[string]any{"iss": p.URL, "sub": subject, "aud": audience, "jti": rand.Text(), "iat": now.Unix(), "nbf": now.Unix(), "exp": now.Add(10 * time.Minute).Unix()}
	maps.Copy(claims, more)
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.sign(claims)
}

// signForm signs a token for a workload by a form: subject, audience, and a claim
// for each other field. It is how what runs at a runner or in a cluster gets its
// token.
func (p *Provider) signForm(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		http.Error(w, "this is no form", http.StatusBadRequest)
		return
	}
	more := map[string]any{}
	for name := range r.PostForm {
		if name != "subject" && name != "audience" {
			more[name] = r.PostForm.Get(name)
		}
	}
	signed, err := p.SignFor(r.PostForm.Get("subject"), r.PostForm.Get("audience"), more)
	if err != nil {
		http.Error(w, "cannot sign", http.StatusInternalServerError)
		return
	}
	_, _ = fmt.Fprintln(w, signed)
}

func (p *Provider) sign(claims map[string]any) (string, error) {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: p.key}, (&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		return "", err
	}
	return jwt.Signed(signer).Claims(claims).Serialize()
}
