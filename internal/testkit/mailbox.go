package testkit

import (
	"bufio"
	"io"
	"net"
	"net/mail"
	"net/textproto"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Mailbox is a small SMTP server (RFC 5321) that keeps what it is sent.
type Mailbox struct {
	Address string
	mu      sync.Mutex
	mails   []Mail
	refuse  int // so many mails first
}

// Mail is one that arrived.
type Mail struct {
	To, Subject, Text string
}

// NewMailbox starts a Mailbox, which ends with the test. It takes no mail at first,
// as often as asked for.
func NewMailbox(t testing.TB, refuse int) *Mailbox {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	m := &Mailbox{Address: listener.Addr().String(), refuse: refuse}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go m.serve(conn)
		}
	}()
	return m
}

// Mails are those that arrived so far.
func (m *Mailbox) Mails() []Mail {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]Mail{}, m.mails...)
}

func (m *Mailbox) serve(conn net.Conn) {
	defer conn.Close()
	r, to := textproto.NewReader(bufio.NewReader(conn)), ""
	say := func(line string) { _, _ = io.WriteString(conn, line+"\r\n") }
	say("220 mail.fernhollow.example")
	for {
		line, err := r.ReadLine()
		if err != nil {
			return
		}
		verb, rest, _ := strings.Cut(line, " ")
		switch strings.ToUpper(verb) {
		case "EHLO":
			say("250-mail.fernhollow.example\r\n250 8BITMIME")
		case "RCPT":
			to = strings.Trim(strings.TrimPrefix(rest, "TO:"), "<>")
			say("250 ok")
		case "DATA":
			say("354 go on")
			content, err := io.ReadAll(r.DotReader())
			if err != nil {
				return
			}
			say(m.take(to, string(content)))
		case "QUIT":
			say("221 bye")
			return
		default:
			say("250 ok")
		}
	}
}

func (m *Mailbox) take(to, content string) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.refuse > 0 {
		m.refuse--
		return "451 not now"
	}
	message, err := mail.ReadMessage(strings.NewReader(content))
	if err != nil {
		return "554 that is no mail"
	}
	text, _ := io.ReadAll(message.Body)
	m.mails = append(m.mails, Mail{to, message.Header.Get("Subject"), strings.ReplaceAll(string(text), "=\n", "")})
	return "250 taken"
}
