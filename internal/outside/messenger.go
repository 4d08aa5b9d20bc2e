package outside

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"

	"adytum.example/internal/outside/httpsign"
)

// Server is how mail is sent.
type Server struct {
	Address  string // HOST:PORT; empty: no mail is sent
	From     string
	User     string // empty: without signing in
	Password string
	Plain    bool // without TLS, on loopback alone
}

// Messenger sends webhooks, within the bounds of a [Fetcher], and mail.
type Messenger struct {
	fetcher *Fetcher
	server  Server
	noMail  error // what is answered where no server is configured
}

// NewMessenger makes a Messenger.
func NewMessenger(f *Fetcher, server Server, noMail error) Messenger {
	return Messenger{f, server, noMail}
}

// Post sends a body to a webhook, signed with Ed25519 (RFC 9421) over its method,
// address, content type and digest (RFC 9530).
func (m Messenger) Post(ctx context.Context, address string, body []byte, key ed25519.PrivateKey, keyID string, now time.Time) error {
	if err := m.fetcher.CheckURL(address); err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return errors.New("it is not an address")
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("User-Agent", "adytumd")
	r.Header.Set("Content-Digest", httpsign.ContentDigest(body))
	if err := httpsign.Sign(r, key, keyID, now, "content-type", "content-digest"); err != nil {
		return err
	}
	answer, err := m.fetcher.http.Do(r)
	if err != nil {
		if errors.Is(err, ErrAddress) {
			return ErrAddress
		}
		return errors.New("it does not answer")
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, MaxAnswer))
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return fmt.Errorf("it answers %d", answer.StatusCode)
	}
	return nil
}

// Mail sends a mail through the server.
func (m Messenger) Mail(ctx context.Context, to, subject, text string) error {
	if m.server.Address == "" {
		return m.noMail
	}
	message := mail.NewMsg()
	if err := errors.Join(message.From(m.server.From), message.To(to)); err != nil {
		return errors.New("one of the mail addresses is none")
	}
	message.Subject(subject)
	message.SetDate()
	message.SetMessageID()
	message.SetBodyString(mail.TypeTextPlain, text)
	host, portText, err := net.SplitHostPort(m.server.Address)
	if err != nil {
		return errors.New("the mail server's address is not HOST:PORT")
	}
	port, err := strconv.Atoi(portText)
	if err != nil {
		return errors.New("the mail server's address is not HOST:PORT")
	}
	options := []mail.Option{mail.WithPort(port), mail.WithTimeout(3 * Timeout), mail.WithTLSConfig(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12})}
	switch {
	case m.server.Plain:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	case port == 465:
		options = append(options, mail.WithSSL())
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if m.server.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(m.server.User), mail.WithPassword(m.server.Password))
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return errors.New("the mail server's settings cannot be used")
	}
	if err := client.DialAndSendWithContext(ctx, message); err != nil {
		// What a server answers may repeat what it was sent.
		return errors.New("the mail server did not take it")
	}
	return nil
}
