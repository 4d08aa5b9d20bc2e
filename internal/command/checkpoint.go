package command

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"adytum.example/client"
	"adytum.example/client/wire"
	"adytum.example/internal/core/trail"
)

// keptTrail is what this device keeps of a service's trail: the public key that it
// saw first, and the newest checkpoint.
type keptTrail struct {
	Key        string `json:"key"`
	Checkpoint string `json:"checkpoint"`
}

func (a *app) keptPath() (string, error) {
	path, err := a.sessionPath()
	return filepath.Join(filepath.Dir(path), "trails.json"), err
}

// keptTrails are those of all services, by address.
func (a *app) keptTrails() (map[string]keptTrail, error) {
	all := map[string]keptTrail{}
	path, err := a.keptPath()
	if err != nil {
		return all, err
	}
	content, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	} else if err != nil {
		return all, fmt.Errorf("read the checkpoints that were kept: %w", err)
	}
	if err := json.Unmarshal(content, &all); err != nil {
		return all, fmt.Errorf("%s cannot be read; what it kept of trails is lost: move it away", path)
	}
	return all, nil
}

func (a *app) keepTrail(address string, kept keptTrail) error {
	all, err := a.keptTrails()
	if err != nil {
		return err
	}
	all[address] = kept
	return a.writeTrails(all)
}

func (a *app) writeTrails(all map[string]keptTrail) error {
	path, err := a.keptPath()
	if err != nil {
		return err
	}
	content, err := json.Marshal(all)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return writeFile(path, 0o600, content)
}

// How seldom a newer checkpoint is kept, and how old one must be before a shorter
// trail cannot be an instance's that lags behind.
const (
	keepEvery   = time.Minute
	laggingMost = time.Minute
)

// noteCheckpoint keeps the checkpoint that came with the answers of a command, and
// says so where it does not go on from the one that was kept.
func (a *app) noteCheckpoint(c *client.Client) {
	seen := c.SeenCheckpoint()
	all, err := a.keptTrails()
	kept, known := all[c.Address()]
	if seen == "" || err != nil || !known {
		return
	}
	now, err := trail.OpenCheckpoint([]byte(seen), kept.Key)
	if err != nil {
		a.say("Warning: what %s says of its trail is not signed with the key that this device knows. It may be another installation, or one that was replaced; ask its operators; where it is meant to be, run \"adytum login --forget-trail\".", c.Address())
		return
	}
	old, err := trail.OpenCheckpoint([]byte(kept.Checkpoint), kept.Key)
	switch {
	case err == nil && now.Size < old.Size && time.Since(old.At) > laggingMost:
		a.say("Warning: the trail of %s is shorter than it was on %s: an older state of its database is served. \"adytum trail verify\" tells more.", c.Address(), old.At.Local().Format("2006-01-02 15:04"))
	case err != nil, now.Size > old.Size && now.At.Sub(old.At) > keepEvery:
		_ = a.keepTrail(c.Address(), keptTrail{kept.Key, seen}) // the next command tries again
	}
}

// forgetTrail forgets what this device keeps of a service's trail.
func (a *app) forgetTrail(address string) error {
	all, err := a.keptTrails()
	if err != nil {
		return err
	}
	if _, known := all[address]; !known {
		return nil
	}
	delete(all, address)
	return a.writeTrails(all)
}

// beginKeeping keeps a service's key and its newest checkpoint when this device
// signs in, unless it knows them.
func (a *app) beginKeeping(ctx context.Context, c *client.Client) error {
	all, err := a.keptTrails()
	if err != nil {
		return err
	}
	if _, known := all[c.Address()]; known {
		a.noteCheckpoint(c)
		return nil
	}
	newest, err := c.Checkpoint(ctx)
	if err != nil {
		return err
	}
	return a.keepTrail(c.Address(), keptTrail{newest.Key, newest.Checkpoint})
}

func (a *app) checkpointCommand() *cli.Command {
	return &cli.Command{Name: "checkpoint", Usage: "show the newest checkpoint, to be kept elsewhere: what is kept cannot be taken back",
		Flags: []cli.Flag{&cli.StringFlag{Name: "to", Usage: "write to `FILE`, by rename"}},
		Action: a.signedIn(0, 0, "[OPTIONS]", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			newest, err := c.Checkpoint(ctx)
			if err != nil {
				return err
			}
			key, err := a.trailKey(cmd, c.Address(), newest.Key)
			if err != nil {
				return err
			}
			if _, err := trail.OpenCheckpoint([]byte(newest.Checkpoint), key); err != nil {
				return &exitError{exitNo, fmt.Errorf("the newest checkpoint of %s: %w", c.Address(), err)}
			}
			if to := cmd.String("to"); to != "" {
				err = writeInto(to, func(w io.Writer) error { _, err := io.WriteString(w, newest.Checkpoint); return err })
			} else {
				_, err = io.WriteString(a.out, newest.Checkpoint)
			}
			a.say("It covers %d events. To check later that none of them was altered or cut off: adytum trail verify --checkpoint FILE", newest.Size)
			a.say("Its public key: %s", key)
			return err
		})}
}

// trailKey is the key that a trail is checked with: the one that was named, the
// one that this device keeps, or at last the one that the service says.
func (a *app) trailKey(cmd *cli.Command, address, said string) (string, error) {
	if key := cmd.String("key"); key != "" {
		return key, nil
	}
	all, err := a.keptTrails()
	if err != nil {
		return "", err
	}
	if kept, known := all[address]; known {
		return kept.Key, nil
	}
	return said, nil
}

func (a *app) proveCommand() *cli.Command {
	return &cli.Command{Name: "prove", Usage: "show one event with the proof that it stands in the trail, which anyone can check", ArgsUsage: "LANE:NUMBER",
		Flags: []cli.Flag{&cli.StringFlag{Name: "to", Usage: "write to `FILE`, by rename"}},
		Action: a.signedIn(1, 1, "LANE:NUMBER [OPTIONS]", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			lane, seq, ok := trail.ParsePlace(cmd.Args().First())
			if !ok {
				return usage("an event is named by its lane and its number there, layer-3:12 for example; \"adytum trail --output jsonl\" shows them as lane and seq")
			}
			proof, err := c.ProveEvent(ctx, lane, seq)
			if err != nil {
				return err
			}
			if to := cmd.String("to"); to != "" {
				err = writeInto(to, func(w io.Writer) error { return json.NewEncoder(w).Encode(proof) })
			} else {
				err = a.json(proof)
			}
			a.say("To check it, with nothing but this file and the trail's public key: adytum trail verify --proof FILE")
			return err
		})}
}

func (a *app) verifyCommand() *cli.Command {
	return &cli.Command{Name: "verify", Usage: "check that the trail is whole and has only grown; exits 3 where it is not", Flags: []cli.Flag{outputFlag("text", "json"),
		&cli.StringFlag{Name: "checkpoint", Usage: "only what follows the checkpoint in `FILE`, and that the trail goes on from it"},
		&cli.StringFlag{Name: "records", Usage: "check the records in `FILE` (adytum trail export --format records) without the service"},
		&cli.StringFlag{Name: "proof", Usage: "check the proof in `FILE` (adytum trail prove) without the service"},
		&cli.StringFlag{Name: "key", Usage: "the trail's public `KEY`; otherwise the one that this device keeps"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := arguments(cmd, 0, 0, "[OPTIONS]"); err != nil {
				return err
			}
			records, proof := cmd.String("records"), cmd.String("proof")
			switch {
			case records != "" && proof != "", proof != "" && cmd.String("checkpoint") != "":
				return usage("either --records FILE or --proof FILE; --checkpoint goes with --records or with neither")
			case records != "":
				return a.verifyRecords(cmd, records)
			case proof != "":
				return a.verifyProof(cmd, proof)
			}
			c, err := a.client(ctx)
			if err != nil {
				return err
			}
			return a.verifyTrail(ctx, cmd, c)
		}}
}

// verifyTrail lets the service check its trail, and checks by itself that it goes
// on from the checkpoints that are kept.
func (a *app) verifyTrail(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	all, err := a.keptTrails()
	if err != nil {
		return err
	}
	kept, known := all[c.Address()]
	if key := cmd.String("key"); key != "" {
		kept.Key = key
	}
	from, since := int64(0), cmd.String("checkpoint")
	if since != "" {
		if kept.Key == "" {
			return usage("this device keeps no key of %s; name it: --key KEY", c.Address())
		}
		note, point, err := readCheckpoint(since, kept.Key)
		if err != nil {
			return err
		}
		if from = point.Size; !known {
			kept.Checkpoint = note
		}
		if _, err := c.CheckGrowth(ctx, note, kept.Key); err != nil {
			return notGrown(err)
		}
	}
	newest := ""
	if kept.Checkpoint != "" {
		if newest, err = c.CheckGrowth(ctx, kept.Checkpoint, kept.Key); err != nil {
			return notGrown(err)
		}
	}
	v, err := c.VerifyTrail(ctx, from)
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		if err := a.json(v); err != nil {
			return err
		}
	} else {
		for _, p := range v.Problems {
			fmt.Fprintln(a.out, printable(trail.Problem{Lane: p.Lane, Seq: p.Seq, What: p.What}.String()))
		}
	}
	if !v.Whole {
		return &exitError{exitNo, fmt.Errorf("the trail is not whole: %d problems in %d events; the first stands above", len(v.Problems), v.Events)}
	}
	since = ""
	if from > 0 {
		since = fmt.Sprintf(" since the first %d", from)
	}
	a.say("The trail is whole: %d events%s in %d lanes, every signature right and none missing.", v.Events, since, v.Lanes)
	if newest == "" {
		a.say("This device kept no checkpoint of it before: whether the newest events were cut off shows from the next time on.")
		return a.beginKeeping(ctx, c)
	}
	point, err := trail.OpenCheckpoint([]byte(kept.Checkpoint), kept.Key)
	if err != nil {
		return err
	}
	a.say("It goes on from the checkpoint of %s, %d events, that was kept here.", point.At.Local().Format("2006-01-02 15:04"), point.Size)
	if known {
		return a.keepTrail(c.Address(), keptTrail{kept.Key, newest})
	}
	return nil
}

// notGrown makes the answer no of a trail that was cut off or rewritten.
func notGrown(err error) error {
	var grown client.GrowthError
	if errors.As(err, &grown) {
		return &exitError{exitNo, fmt.Errorf("%w; nothing that is read from it can be trusted before its operators have explained it (then \"adytum login --forget-trail\" begins anew)", err)}
	}
	return err
}

func readCheckpoint(path, key string) (string, trail.Checkpoint, error) {
	content, err := readFile(path, "the checkpoint")
	if err != nil {
		return "", trail.Checkpoint{}, err
	}
	point, err := trail.OpenCheckpoint(content, key)
	if err != nil {
		return "", point, usage("%s: %w", path, err)
	}
	return string(content), point, nil
}

func readFile(path, what string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", what, err)
	}
	defer f.Close()
	return readAll(f, what)
}

// offlineKey is the key that a file is checked with, without the service.
func (a *app) offlineKey(cmd *cli.Command) (string, error) {
	if key := cmd.String("key"); key != "" {
		return key, nil
	}
	all, err := a.keptTrails()
	if err != nil {
		return "", err
	}
	if len(all) == 1 {
		for _, kept := range all {
			return kept.Key, nil
		}
	}
	if s, err := a.readSession(); err == nil && s != nil && all[s.URL].Key != "" {
		return all[s.URL].Key, nil
	}
	return "", usage("which trail? name its public key: --key KEY (\"adytum trail checkpoint\" shows it)")
}

func (a *app) verifyRecords(cmd *cli.Command, path string) error {
	key, err := a.offlineKey(cmd)
	if err != nil {
		return err
	}
	var kept []trail.Checkpoint
	if since := cmd.String("checkpoint"); since != "" {
		_, point, err := readCheckpoint(since, key)
		if err != nil {
			return err
		}
		kept = append(kept, point)
	}
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("read the records: %w", err)
	}
	defer f.Close()
	v, point, err := trail.ReadRecords(f, key, kept...)
	if errors.Is(err, trail.ErrCheckpoint) {
		return &exitError{exitNo, fmt.Errorf("%s: %w", path, err)}
	} else if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if cmd.String("output") == "json" {
		out := wire.Verification{Whole: len(v.Problems) == 0, Events: v.Events, Lanes: len(v.Lanes()), Problems: []wire.TrailProblem{}}
		for _, p := range v.Problems {
			out.Problems = append(out.Problems, wire.TrailProblem{Lane: p.Lane, Seq: p.Seq, What: p.What})
		}
		if err := a.json(out); err != nil {
			return err
		}
	} else {
		for _, p := range v.Problems {
			fmt.Fprintln(a.out, printable(p.String()))
		}
	}
	if len(v.Problems) > 0 {
		return &exitError{exitNo, fmt.Errorf("the records are not whole: %d problems in %d events; the first stands above", len(v.Problems), v.Events)}
	}
	a.say("The records are whole: %d events, as the checkpoint of %s has them.", v.Events, point.At.Local().Format("2006-01-02 15:04"))
	return nil
}

func (a *app) verifyProof(cmd *cli.Command, path string) error {
	key, err := a.offlineKey(cmd)
	if err != nil {
		return err
	}
	content, err := readFile(path, "the proof")
	if err != nil {
		return err
	}
	var proof wire.EventProof
	if err := json.Unmarshal(content, &proof); err != nil || proof.Event == "" {
		return fmt.Errorf("%s is no proof of an event; \"adytum trail prove\" writes one", path)
	}
	hashes, err := trail.ParseHashes(proof.Proof)
	if err != nil {
		return &exitError{exitNo, fmt.Errorf("%s: %w", path, err)}
	}
	e, point, err := trail.CheckProof([]byte(proof.Event), proof.Index, hashes, []byte(proof.Checkpoint), key)
	if err != nil {
		return &exitError{exitNo, fmt.Errorf("%s: %w", path, err)}
	}
	fmt.Fprintln(a.out, proof.Event)
	place := strings.Trim(e.Project+"/"+e.Environment, "/")
	a.say("This event stands in the trail: %s, number %d of the %d that the checkpoint of %s covers.",
		strings.TrimSpace(e.Action+" "+string(e.Outcome)+" "+place), proof.Index+1, point.Size, point.At.Local().Format("2006-01-02 15:04"))
	return nil
}
