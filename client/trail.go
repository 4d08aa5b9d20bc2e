package client

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"adytum.example/client/wire"
	"adytum.example/internal/core/trail"
)

// checkpointHeader carries the newest checkpoint of the trail with every answer.
const checkpointHeader = "Adytum-Checkpoint"

// SeenCheckpoint is the newest checkpoint of the trail that came with an answer,
// as a signed note; "" where none did. It is not checked.
func (c *Client) SeenCheckpoint() string {
	if header := c.checkpoint.Load(); header != nil {
		if signed, err := base64.StdEncoding.DecodeString(*header); err == nil {
			return string(signed)
		}
	}
	return ""
}

func (c *Client) see(answer *http.Response) {
	if header := answer.Header.Get(checkpointHeader); header != "" {
		c.checkpoint.Store(&header)
	}
}

// Checkpoint obtains the newest checkpoint of the trail and the key that it is
// checked with.
func (c *Client) Checkpoint(ctx context.Context) (wire.Checkpoint, error) {
	return get[wire.Checkpoint](ctx, c, "/api/v1/trail/checkpoint")
}

// VerifyTrail lets the service check its trail: all of it, or with from what
// follows the checkpoint of so many events.
func (c *Client) VerifyTrail(ctx context.Context, from int64) (wire.Verification, error) {
	return get[wire.Verification](ctx, c, fmt.Sprintf("/api/v1/trail/verification?from=%d", from))
}

// CheckGrowth checks that the trail has only grown since a checkpoint that was
// kept, by what the service proves and the key that was kept with it. It returns
// the newest checkpoint. The error is a [GrowthError] where the trail was cut off
// or rewritten.
func (c *Client) CheckGrowth(ctx context.Context, kept, key string) (newest string, err error) {
	old, err := trail.OpenCheckpoint([]byte(kept), key)
	if err != nil {
		return "", fmt.Errorf("the checkpoint that was kept: %w", err)
	}
	out, err := get[wire.Growth](ctx, c, fmt.Sprintf("/api/v1/trail/growth?from=%d", max(old.Size, 1)))
	if err != nil {
		return "", err
	}
	now, err := trail.OpenCheckpoint([]byte(out.Checkpoint), key)
	if err != nil {
		return "", GrowthError{fmt.Errorf("the service's newest checkpoint: %w", err)}
	}
	proof, err := trail.ParseHashes(out.Proof)
	if err != nil {
		return "", GrowthError{err}
	}
	if err := trail.CheckGrowth(old, now, proof); err != nil {
		return "", GrowthError{err}
	}
	return out.Checkpoint, nil
}

// GrowthError says that the trail is not what it was.
type GrowthError struct{ Err error }

func (e GrowthError) Error() string { return e.Err.Error() }

// Unwrap returns what it was.
func (e GrowthError) Unwrap() error { return e.Err }

// ProveEvent obtains one event with the proof that it stands in the trail.
func (c *Client) ProveEvent(ctx context.Context, lane string, seq int64) (wire.EventProof, error) {
	return get[wire.EventProof](ctx, c, fmt.Sprintf("/api/v1/trail/lanes/%s/events/%d/proof", url.PathEscape(lane), seq))
}

// Records writes the whole trail in the form that proves itself.
func (c *Client) Records(ctx context.Context, w io.Writer) error {
	return c.stream(ctx, "/api/v1/trail/records", func(r io.Reader) error {
		_, err := io.Copy(w, r)
		return err
	})
}
