package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"adytum.example/client/wire"
	"adytum.example/demo"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/service"
	"adytum.example/internal/storage"
)

// eventless answers flushes from what the first ones answered, once it is told to:
// what is left is a resolve without its durable event.
type eventless struct {
	inner service.Flusher
	on    *atomic.Bool
	mu    sync.Mutex
	heads storage.Heads
}

// Flush implements [service.Flusher].
func (e *eventless) Flush(ctx context.Context, b trail.Batch, ids, tokens []int64) (storage.Heads, error) {
	if !e.on.Load() {
		return e.inner.Flush(ctx, b, ids, tokens)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	known := e.heads.Layers != nil
	for _, id := range ids {
		_, there := e.heads.Layers[id]
		known = known && there
	}
	if !known {
		h, err := e.inner.Flush(ctx, b, ids, tokens)
		if err != nil {
			return h, err
		}
		if e.heads.Layers == nil {
			e.heads.Layers = map[int64]layers.Revision{}
		}
		for id, revision := range h.Layers {
			e.heads.Layers[id] = revision
		}
		e.heads.Organization, e.heads.Revoked = h.Organization, h.Revoked
	}
	h := e.heads
	h.Now = time.Now()
	return h, nil
}

// serveEventless runs a demo whose events are not made durable any more after
// SIGUSR1.
func serveEventless(home string) error {
	on := &atomic.Bool{}
	told := make(chan os.Signal, 1)
	signal.Notify(told, syscall.SIGUSR1)
	go func() {
		for range told {
			on.Store(true)
		}
	}()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	return demo.Run(ctx, demo.Options{Home: home, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler),
		Through: func(f service.Flusher) service.Flusher { return &eventless{inner: f, on: on} }}, func(d demo.Demo) error {
		return json.NewEncoder(os.Stdout).Encode(d)
	})
}

// withoutEvent measures a resolve of fifty values with its durable event beside the
// same without it, in turns.
func (b *bench) withoutEvent() (r row, err error) {
	executable, err := os.Executable()
	if err != nil {
		return row{}, err
	}
	other := &bench{bin: b.bin, home: b.home, place: b.place}
	if err := other.startAs(exec.Command(executable, "-eventless", filepath.Join(b.home, "eventless"))); err != nil {
		return row{}, err
	}
	defer func() { err = errors.Join(err, other.stop()) }()
	var rates [2]float64
	var asked [2]func() error
	for i, one := range []*bench{b, other} {
		references, err := one.fifty()
		if err != nil && i == 0 {
			references, err = b.again()
		}
		if err != nil {
			return row{}, err
		}
		request, err := json.Marshal(wire.ResolveRequest{References: references})
		if err != nil {
			return row{}, err
		}
		asked[i] = one.requester(http.MethodPost, request)(one.demo.URL + benchPath + "/resolve")
	}
	if err := other.process.Process.Signal(syscall.SIGUSR1); err != nil {
		return row{}, err
	}
	const turns = 3
	for range turns {
		for i := range asked {
			rate, _, err := load(callers, duration/2, asked[i])
			if err != nil {
				return row{}, err
			}
			rates[i] += rate / turns
		}
	}
	return row{fmt.Sprintf("%.0f/s", rates[0]), fmt.Sprintf("%.0f/s", rates[1]), fmt.Sprintf("%.2f", rates[0]/rates[1]), fmt.Sprintf("beside the same without its event, %d callers; 50 values; the aim is 0.70", callers)}, nil
}

// again are the references of an environment that has the entries already.
func (b *bench) again() ([]string, error) {
	entries, err := b.owner.Entries(context.Background(), b.place)
	if err != nil {
		return nil, err
	}
	var references []string
	for _, e := range entries.Entries {
		if len(e.Name) > 6 && e.Name[:6] == "BENCH_" {
			references = append(references, "adytum:"+e.Name)
		}
	}
	if len(references) != 50 {
		return nil, fmt.Errorf("there are %d entries to resolve, not 50", len(references))
	}
	return references, nil
}

// flushes measures how many events are made durable a second at 32 and at 512
// callers, beside small inserts of one row each by as many connections as the
// service has for it: one.
func (b *bench) flushes(callers int) func() (row, error) {
	return func() (row, error) {
		ctx := context.Background()
		admin, err := url.Parse(b.demo.Database)
		if err != nil {
			return row{}, err
		}
		admin.Path = "/adytum"
		alone, err := b.inserts(ctx, admin.String())
		if err != nil {
			return row{}, err
		}
		rate, err := service.FlushRate(ctx, admin.String(), callers, 4*time.Second)
		return row{fmt.Sprintf("%.0f/s", rate), fmt.Sprintf("%.0f/s", alone), fmt.Sprintf("%.1f", rate/alone), fmt.Sprintf("events of 50 names, %d callers; beside inserts of one of them each, one after the other", callers)}, err
	}
}

func (b *bench) inserts(ctx context.Context, address string) (float64, error) {
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	body := make([]byte, 1500)
	if _, err := conn.Exec(ctx, "CREATE TABLE IF NOT EXISTS public.plain (id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY, body bytea)"); err != nil {
		return 0, err
	}
	n, start := 0, time.Now()
	for time.Since(start) < 2*time.Second {
		if _, err := conn.Exec(ctx, "INSERT INTO public.plain (body) VALUES ($1)", body); err != nil {
			return 0, err
		}
		n++
	}
	return float64(n) / time.Since(start).Seconds(), nil
}
