package command

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/trail"
)

// choosing are the flags that choose among events.
func choosing() []cli.Flag {
	return append(placeFlags(), &cli.StringFlag{Name: "person", Usage: "what the person with `LOGIN` did"}, &cli.StringFlag{Name: "workload", Usage: "what the workload `NAME` did"},
		&cli.StringFlag{Name: "action", Usage: "only `ACTION`, entry.value for example, or all of entry"},
		&cli.StringFlag{Name: "outcome", Usage: "only allowed, refused or failed", Validator: oneOf("outcome", "allowed", "refused", "failed")},
		&cli.StringFlag{Name: "name", Usage: "only what names `NAME`"}, &cli.StringFlag{Name: "from", Usage: "only from the network `ADDRESS`"},
		&cli.StringFlag{Name: "since", Usage: "only since `WHEN`: a day, a minute, or a while such as 36h or 7d"},
		&cli.StringFlag{Name: "until", Usage: "only until `WHEN`"})
}

func chosen(cmd *cli.Command) (client.TrailQuery, error) {
	q := client.TrailQuery{Kind: "person", Who: cmd.String("person"), Action: cmd.String("action"), Outcome: cmd.String("outcome"), Project: cmd.String("project"),
		Environment: cmd.String("environment"), Name: cmd.String("name"), From: cmd.String("from")}
	if w := cmd.String("workload"); w != "" {
		if q.Who != "" {
			return q, usage("name one: --person LOGIN or --workload NAME")
		}
		q.Kind, q.Who = "workload", w
	}
	for flag, to := range map[string]*time.Time{"since": &q.Since, "until": &q.Until} {
		if text := cmd.String(flag); text != "" {
			at, err := pastTime(text, time.Now())
			if err != nil {
				return q, usage("--%s: %s", flag, err)
			}
			*to = at
		}
	}
	return q, nil
}

// pastTime reads a day, a minute, or a while before now.
func pastTime(text string, now time.Time) (time.Time, error) {
	at, err := parseTime(text, now)
	if err == nil && strings.HasSuffix(text, "d") || err == nil && at.After(now) && !strings.ContainsAny(text, "-:") {
		return now.Add(-at.Sub(now)), nil
	}
	return at, err
}

func (a *app) trail() *cli.Command {
	c := a.noun("trail", "the record of what was done, read and refused", a.verifyCommand(), a.exportTrail(), a.checkpointCommand(), a.proveCommand())
	c.Flags = append(choosing(), listFlag(), &cli.IntFlag{Name: "limit", Value: 30, Usage: "how many events, newest first"}, &cli.BoolFlag{Name: "follow", Usage: "go on with events as they come, until it is ended"})
	c.Action = a.signedIn(0, 0, "[OPTIONS]", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
		limit := cmd.Int("limit")
		if limit < 1 || limit > 10000 {
			return usage("--limit is between 1 and 10000")
		}
		q, err := chosen(cmd)
		if err != nil {
			return err
		}
		if cmd.Bool("follow") {
			return a.followTrail(ctx, cmd, c, q, limit)
		}
		all, err := newest(ctx, c, q, limit)
		if err != nil {
			return err
		}
		if len(all) == 0 && cmd.String("output") == "table" {
			a.say("There are no such events.")
			return nil
		}
		return list(a, cmd, all, []string{"WHEN", "WHO", "DID", "OUTCOME", "WHERE", "WHAT", "FROM"}, eventRow)
	})
	return c
}

// newest are the newest events of a query, the newest first.
func newest(ctx context.Context, c *client.Client, q client.TrailQuery, limit int) ([]wire.Event, error) {
	var all []wire.Event
	for cursor := ""; len(all) < limit; {
		page, err := c.FindEvents(ctx, q, cursor, min(limit-len(all), 500))
		if err != nil {
			return nil, err
		}
		all = append(all, page.Events...)
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	return all[:min(limit, len(all))], nil
}

func eventRow(e wire.Event) []string {
	who := e.Who
	if who == "" {
		who = "(nobody)"
	}
	what := strings.Join(e.Names, " ")
	if what == "" {
		what = e.Reason
	}
	outcome := e.Outcome
	if e.NotReleased {
		outcome = "withheld" // something had changed meanwhile; how it went on is an event of its own
	}
	return []string{e.At.Local().Format("2006-01-02 15:04:05"), who, e.Action, outcome, e.Place, shorten(what, 48), e.From}
}

// How often a trail that is followed is looked at, and how far back: events of
// several instances do not come in the order of their times.
const (
	followEvery = time.Second
	followBack  = 15 * time.Second
)

// followTrail writes events as they come, a line each.
func (a *app) followTrail(ctx context.Context, cmd *cli.Command, c *client.Client, q client.TrailQuery, limit int) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	seen := map[string]time.Time{}
	write := func(all []wire.Event) error {
		slices.Reverse(all)
		for _, e := range all {
			id := e.Lane + " " + strconv.FormatInt(e.Seq, 10)
			if _, known := seen[id]; known {
				continue
			}
			seen[id] = e.At
			if cmd.String("output") != "table" {
				if err := json.NewEncoder(a.out).Encode(e); err != nil {
					return err
				}
				continue
			}
			row := eventRow(e)
			for i := range row {
				row[i] = printable(row[i])
			}
			if _, err := fmt.Fprintln(a.out, strings.Join(row, "  ")); err != nil {
				return err
			}
		}
		return nil
	}
	all, err := newest(ctx, c, q, limit)
	for ; err == nil; all, err = newest(ctx, c, q, 10000) {
		if err := write(all); err != nil {
			return err
		}
		q.Since = time.Now().Add(-followBack)
		for id, at := range seen {
			if at.Before(q.Since.Add(-time.Minute)) {
				delete(seen, id)
			}
		}
		select {
		case <-time.After(followEvery):
		case <-ctx.Done():
			return nil
		}
	}
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func (a *app) exportTrail() *cli.Command {
	return &cli.Command{Name: "export", Usage: "write events, oldest first, for another system",
		Flags: append(choosing(), &cli.StringFlag{Name: "format", Value: "jsonl", Usage: "jsonl (a JSON text a line), syslog (RFC 5424), or records (all events in the form that proves itself)", Validator: oneOf("format", "jsonl", "syslog", "records")},
			&cli.StringFlag{Name: "to", Usage: "write to `FILE`, by rename"},
			&cli.StringFlag{Name: "send", Usage: "send to `ADDRESS`: tls://HOST:PORT (RFC 5425), or tcp://HOST:PORT (RFC 6587), which others can read on its way"}),
		Action: a.signedIn(0, 0, "[OPTIONS]", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			q, err := chosen(cmd)
			if err != nil {
				return err
			}
			if cmd.String("to") != "" && cmd.String("send") != "" {
				return usage("either --to FILE or --send ADDRESS")
			}
			if cmd.String("format") == "records" {
				return a.exportRecords(ctx, cmd, c, q)
			}
			host, _ := os.Hostname()
			counted := cmd.String("send") != ""
			n := 0
			each := func(w io.Writer) func(wire.Event) error {
				return func(e wire.Event) error {
					n++
					return writeEvent(w, e, cmd.String("format"), host, counted)
				}
			}
			switch {
			case counted:
				err = send(ctx, cmd.String("send"), func(w io.Writer) error { return c.ExportTrail(ctx, q, each(w)) })
			case cmd.String("to") != "":
				err = writeInto(cmd.String("to"), func(w io.Writer) error { return c.ExportTrail(ctx, q, each(w)) })
			default:
				err = c.ExportTrail(ctx, q, each(a.out))
			}
			if err == nil {
				a.say("%d events were written.", n)
			}
			return err
		})}
}

// exportRecords writes the whole trail with what proves it.
func (a *app) exportRecords(ctx context.Context, cmd *cli.Command, c *client.Client, q client.TrailQuery) error {
	if q != (client.TrailQuery{Kind: "person"}) || cmd.String("send") != "" {
		return usage("records are all events, since one that is left out cannot be told from one that was removed; they go to --to FILE or standard output")
	}
	var err error
	if to := cmd.String("to"); to != "" {
		err = writeInto(to, func(w io.Writer) error { return c.Records(ctx, w) })
	} else {
		err = c.Records(ctx, a.out)
	}
	if err == nil {
		a.say("To check them without the service: adytum trail verify --records FILE")
	}
	return err
}

// writeEvent writes one event; counted puts the length before it, as RFC 6587,
// section 3.4.1, and RFC 5425 have it.
func writeEvent(w io.Writer, e wire.Event, format, host string, counted bool) error {
	text := ""
	if format == "syslog" {
		event := trail.Event{Lane: e.Lane, Seq: e.Seq, At: e.At, Action: e.Action, Outcome: trail.Outcome(e.Outcome), Actor: e.Actor, From: e.From, Names: e.Names, Grant: e.Grant, Revision: e.Revision, Count: e.Count, Reason: e.Reason}
		text = event.Syslog(host, e.Who, e.Place)
	} else {
		content, err := json.Marshal(e)
		if err != nil {
			return err
		}
		text = string(content)
	}
	if counted && format == "syslog" {
		text = strconv.Itoa(len(text)) + " " + text
	} else {
		text += "\n"
	}
	_, err := io.WriteString(w, text)
	return err
}

// send hands a connection to f. It is closed when all has gone out.
func send(ctx context.Context, address string, f func(io.Writer) error) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Port() == "" || u.Scheme != "tls" && u.Scheme != "tcp" {
		return usage("--send is tls://HOST:PORT or tcp://HOST:PORT")
	}
	dialer := &net.Dialer{Timeout: 10 * time.Second}
	var conn net.Conn
	if u.Scheme == "tls" {
		conn, err = (&tls.Dialer{NetDialer: dialer, Config: &tls.Config{MinVersion: tls.VersionTLS12}}).DialContext(ctx, "tcp", u.Host)
	} else {
		conn, err = dialer.DialContext(ctx, "tcp", u.Host)
	}
	if err != nil {
		return &exitError{exitUnreachable, fmt.Errorf("%s cannot be reached: %w", address, err)}
	}
	return errors.Join(f(conn), conn.Close())
}
