package service

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"math/rand/v2"
	"net/mail"
	"net/url"
	"strconv"
	"strings"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/alert"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/storage"
)

// Messenger sends alerts out.
type Messenger interface {
	// Post sends a body to a webhook, signed (RFC 9421).
	Post(ctx context.Context, address string, body []byte, key ed25519.PrivateKey, keyID string, now time.Time) error
	// Mail sends a mail; ErrNoMail where no server for it is configured.
	Mail(ctx context.Context, to, subject, text string) error
}

// ErrNoMail says that this instance has no server to send mail through.
var ErrNoMail = errors.New("no mail server is configured (smtp-server)")

// How alerts are sent again.
const (
	sendEvery   = time.Second
	sendTries   = 12
	sendAgain   = 5 * time.Second // after the first try; doubled after each
	sendTimeout = 20 * time.Second
	maxChannels = 20
)

// The kinds of channels.
const (
	webhookChannel = "webhook"
	mailChannel    = "mail"
)

// Channels lists where alerts are sent, and whether they arrive. It needs audit.
func (s *Service) Channels(ctx context.Context, caller Caller) (out []wire.Channel, err error) {
	op := s.begin(ctx, caller, "channel.list", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.Audit, organization); err != nil {
		return nil, err
	}
	out = []wire.Channel{}
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		deliveries, err := tx.Deliveries(200)
		if err != nil {
			return err
		}
		for _, c := range op.dir.channels {
			w := s.wireChannel(c)
			for i := len(deliveries) - 1; i >= 0; i-- { // oldest first: the newest has the last word
				if d := deliveries[i]; d.ChannelID == c.ID {
					w.Problem = d.Problem
					if d.DoneAt != nil {
						w.Last = *d.DoneAt
					}
				}
			}
			out = append(out, w)
		}
		return nil
	})
	return out, err
}

func (s *Service) wireChannel(c storage.Channel) wire.Channel {
	w := wire.Channel{ID: c.ID, Kind: c.Kind, Target: c.Target, Since: c.CreatedAt}
	if c.Kind == webhookChannel {
		key, id := s.alertKey()
		w.Key, w.KeyID = base64.StdEncoding.EncodeToString(key.Public().(ed25519.PublicKey)), id
	}
	return w
}

// alertKey is the key that requests to webhooks are signed with.
func (s *Service) alertKey() (ed25519.PrivateKey, string) {
	return ed25519.NewKeyFromSeed(s.keys.alerts.Bytes()), s.keys.origin()
}

// AddChannel lets alerts be sent to a webhook or a mail address. It needs audit and
// manage in the organization.
func (s *Service) AddChannel(ctx context.Context, caller Caller, request wire.NewChannel) (out wire.Channel, err error) {
	op := s.begin(ctx, caller, "channel.add", organizationPlace)
	op.event.Names = []string{s.redact(request.Kind)}
	defer op.end(&err)
	if err := op.mayChannel(); err != nil {
		return out, err
	}
	shown, sealed := request.Target, []byte{}
	switch request.Kind {
	case webhookChannel:
		if s.outside == nil {
			return out, problem(Unavailable, "this instance asks nothing outside")
		}
		if err := s.outside.CheckURL(request.Target); err != nil {
			return out, problem(Invalid, "the webhook's address: %s", err)
		}
		// The rest of it may be a credential.
		u, err := url.Parse(request.Target)
		if err != nil {
			return out, problem(Invalid, "the webhook's address is none")
		}
		shown = u.Scheme + "://" + u.Host
		if sealed, err = envelope.SealRecord(s.keys.records, "channel", shown, secret.FromString(request.Target)); err != nil {
			return out, err
		}
	case mailChannel:
		if a, err := mail.ParseAddress(request.Target); err != nil || a.Address != request.Target {
			return out, problem(Invalid, "the mail address is not one such as desk@fernhollow.example")
		}
	default:
		return out, problem(Invalid, "a channel is a webhook or mail")
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		if err := op.mayChannel(); err != nil {
			return err
		}
		if len(d.channels) >= maxChannels {
			return problem(Conflict, "there are %d channels already; remove one first", len(d.channels))
		}
		op.event.Names = append(op.event.Names, shown)
		c, err := tx.CreateChannel(storage.Channel{Kind: request.Kind, Target: shown, Sealed: sealed, CreatedAt: s.now().UTC().Truncate(time.Microsecond)})
		out = s.wireChannel(c)
		return taken(err, "a channel", shown)
	})
	return out, err
}

func (op *operation) mayChannel() error {
	if err := op.allow(access.Audit, organization); err != nil {
		return err
	}
	return op.allow(access.Manage, organization)
}

// RemoveChannel sends alerts there no more. It needs what adding needs.
func (s *Service) RemoveChannel(ctx context.Context, caller Caller, id int64) (err error) {
	op := s.begin(ctx, caller, "channel.remove", organizationPlace)
	op.event.Names = []string{strconv.FormatInt(id, 10)}
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, _ *directory) error {
		if err := op.mayChannel(); err != nil {
			return err
		}
		done, err := tx.DeleteChannel(id)
		if err == nil && !done {
			err = problem(NotFound, "there is no channel %d", id)
		}
		return err
	})
}

// TestChannel sends an alert to a channel that says that it is a test. It needs what
// adding needs.
func (s *Service) TestChannel(ctx context.Context, caller Caller, id int64) (err error) {
	op := s.begin(ctx, caller, "channel.test", organizationPlace)
	op.event.Names = []string{strconv.FormatInt(id, 10)}
	defer op.end(&err)
	if err := op.mayChannel(); err != nil {
		return err
	}
	for _, c := range op.dir.channels {
		if c.ID == id {
			ctx, cancel := context.WithTimeout(ctx, sendTimeout)
			defer cancel()
			err := s.send(ctx, op.dir, c, storage.Alert{At: s.now(), Kind: string(alert.Test), Actor: caller.Subject.String(), Network: caller.From.String(), What: "somebody wanted to see whether alerts arrive"})
			if err != nil {
				return problem(Conflict, "it did not arrive: %s", err)
			}
			return nil
		}
	}
	return problem(NotFound, "there is no channel %d", id)
}

// startSending sends alerts until the service is closed.
func (s *Service) startSending() {
	s.beating.Go(func() {
		ticker := time.NewTicker(sendEvery)
		defer ticker.Stop()
		for {
			select {
			case <-s.ending:
				return
			case <-ticker.C:
				for more := true; more; {
					var err error
					if more, err = s.sendDue(context.Background()); err != nil {
						s.log.Debug("alerts could not be sent", "error", err)
						more = false
					}
					select {
					case <-s.ending:
						more = false
					default:
					}
				}
			}
		}
	})
}

// sendDue sends one alert that is due to one channel, and tells whether there was
// one. It is taken before it is sent: an instance that dies meanwhile leaves it for
// a later try.
func (s *Service) sendDue(ctx context.Context) (bool, error) {
	var (
		due storage.Delivery
		of  storage.Alert
		d   *directory
		now = s.now()
	)
	err := s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) (err error) {
		if due, err = tx.DueDelivery(now, now.Add(2*sendTimeout)); err != nil || due.AlertID == 0 {
			return err
		}
		if of, err = tx.AlertByID(due.AlertID); err != nil {
			return err
		}
		d, err = s.currentDirectory(tx)
		return err
	})
	if err != nil || due.AlertID == 0 {
		return false, err
	}
	problem := "the channel was removed"
	for _, c := range d.channels {
		if c.ID == due.ChannelID {
			sending, cancel := context.WithTimeout(ctx, sendTimeout)
			problem = ""
			if err := s.send(sending, d, c, of); err != nil {
				problem = err.Error()
			}
			cancel()
		}
	}
	done := s.now()
	switch {
	case problem == "":
		due.DoneAt, due.NextAt, due.Problem = &done, nil, ""
	case due.Tries >= sendTries:
		due.NextAt, due.Problem = nil, problem+"; it was tried "+strconv.Itoa(due.Tries)+" times"
		s.log.Error("an alert did not arrive", "alert", due.AlertID, "channel", due.ChannelID, "problem", problem)
	default:
		wait := sendAgain << (due.Tries - 1)
		next := done.Add(wait + rand.N(wait/4+1))
		due.NextAt, due.Problem = &next, problem
	}
	return true, s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error { return tx.SaveDelivery(due) })
}

// send sends an alert to a channel, with the newest checkpoint of the trail.
func (s *Service) send(ctx context.Context, d *directory, c storage.Channel, a storage.Alert) error {
	if s.messenger == nil {
		return errors.New("this instance sends nothing")
	}
	sent := wire.SentAlert{Alert: d.wireAlert(a), Organization: d.organization.Name}
	if newest := s.newest.Load(); newest != nil {
		sent.Checkpoint = string(newest.note)
	}
	if c.Kind == webhookChannel {
		body, err := json.Marshal(sent)
		if err != nil {
			return err
		}
		address, err := envelope.OpenRecord(s.keys.records, "channel", c.Target, c.Sealed)
		if err != nil {
			return errors.New("the webhook's address was altered in the database")
		}
		key, id := s.alertKey()
		defer clear(key)
		return s.messenger.Post(ctx, string(address.Expose()), body, key, id, s.now())
	}
	return s.messenger.Mail(ctx, c.Target, "Adytum: "+oneLine(subjectOf(sent)), mailOf(sent))
}

// subjectOf is an alert in a line.
func subjectOf(a wire.SentAlert) string {
	who := a.Who
	if who == "" {
		who = "somebody"
	}
	return who + ": " + a.What
}

// oneLine keeps line ends out of a header.
func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
}

func mailOf(a wire.SentAlert) string {
	var b strings.Builder
	line := func(what, text string) {
		if text != "" {
			b.WriteString(what + ": " + oneLine(text) + "\r\n")
		}
	}
	b.WriteString(oneLine(subjectOf(a)) + "\r\n\r\n")
	line("When", a.At.UTC().Format("2006-01-02 15:04:05 UTC"))
	line("Where", a.Place)
	line("From", a.From)
	line("Event", a.Event)
	line("Organization", a.Organization)
	if a.ID != 0 {
		b.WriteString("\r\nWho has looked at it says so with: adytum alert see " + strconv.FormatInt(a.ID, 10) + "\r\n")
	}
	if a.Checkpoint != "" {
		b.WriteString("\r\nThe newest checkpoint of the trail, to be kept (adytum trail verify --checkpoint FILE):\r\n\r\n" + strings.ReplaceAll(a.Checkpoint, "\n", "\r\n"))
	}
	return b.String()
}
