package storage

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/trail"
)

// Heads are what a flush saw in the same snapshot in which its events became
// durable: the true state to compare an answer with before it is released.
type Heads struct {
	Organization int64
	Layers       map[int64]layers.Revision
	Revoked      map[int64]bool // of the tokens that were asked for
	Now          time.Time      // the database's clock
}

// ErrSeqUsed says that other content stands under a batch's place in its lane:
// two instances claim one lane. Nothing may be answered any more.
var ErrSeqUsed = errors.New("another event stands in this place of the trail")

// Flusher writes batches of the reader lane as a role that can do nothing else.
// It is used by one goroutine.
type Flusher struct {
	mu     sync.Mutex
	config *pgx.ConnConfig
	conn   *pgx.Conn
}

// NewFlusher prepares a Flusher for a URL of the flush role.
func NewFlusher(url string) (*Flusher, error) {
	config, err := connection(url)
	if err != nil {
		return nil, err
	}
	return &Flusher{config: config}, nil
}

const flushStatement = `WITH written AS (
		INSERT INTO trail_batches (lane, first, n, body, mac) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (lane, first) DO NOTHING RETURNING 1)
	SELECT (SELECT count(*) FROM written), (SELECT revision FROM organization), clock_timestamp(),
		(SELECT array_agg(id ORDER BY id) FROM layers WHERE id = ANY($6)),
		(SELECT array_agg(revision ORDER BY id) FROM layers WHERE id = ANY($6)),
		(SELECT array_agg(token_id) FROM revoked_tokens WHERE token_id = ANY($7))`

// Flush makes a batch durable and returns what was true at that moment. After an
// error the outcome is unknown: the same batch must be flushed again before any
// other of its lane, which is harmless if it was written.
func (f *Flusher) Flush(ctx context.Context, b trail.Batch, layerIDs, tokens []int64) (Heads, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	conn, err := f.connected(ctx)
	if err != nil {
		return Heads{}, err
	}
	h := Heads{Layers: map[int64]layers.Revision{}, Revoked: map[int64]bool{}}
	var (
		written        int
		ids, revisions []int64
		revoked        []int64
	)
	// QueryRow closes the rows and reports their error, which is the commit's.
	err = conn.QueryRow(ctx, flushStatement, b.Lane, b.First, b.N, b.Body, b.MAC, layerIDs, tokens).
		Scan(&written, &h.Organization, &h.Now, &ids, &revisions, &revoked)
	if err == nil && written == 0 {
		err = f.compare(ctx, conn, b)
	}
	if err != nil {
		f.drop(ctx)
		if errors.Is(err, ErrSeqUsed) {
			return Heads{}, err
		}
		return Heads{}, fmt.Errorf("write the trail: %w", classify(err))
	}
	for i, id := range ids {
		h.Layers[id] = layers.Revision(revisions[i])
	}
	for _, id := range revoked {
		h.Revoked[id] = true
	}
	return h, nil
}

// compare reads back what stands under the batch's key.
func (f *Flusher) compare(ctx context.Context, conn *pgx.Conn, b trail.Batch) error {
	var mac []byte
	if err := conn.QueryRow(ctx, `SELECT mac FROM trail_batches WHERE lane = $1 AND first = $2`, b.Lane, b.First).Scan(&mac); err != nil {
		return err
	}
	if !bytes.Equal(mac, b.MAC) {
		return ErrSeqUsed
	}
	return nil
}

func (f *Flusher) connected(ctx context.Context) (*pgx.Conn, error) {
	if f.conn != nil && !f.conn.IsClosed() {
		return f.conn, nil
	}
	conn, err := pgx.ConnectConfig(ctx, f.config)
	if err != nil {
		return nil, classify(err)
	}
	f.conn = conn
	return conn, nil
}

func (f *Flusher) drop(ctx context.Context) {
	if f.conn != nil {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		_ = f.conn.Close(ctx)
		f.conn = nil
	}
}

// Close ends the connection.
func (f *Flusher) Close(ctx context.Context) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.drop(ctx)
}
