package trail

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"golang.org/x/mod/sumdb/tlog"
)

// Records are the trail as it is taken elsewhere: a line for each event, in the
// order of the tree, in the canonical form that its leaf is the hash of; before
// them a line that says where they begin, after them one with a checkpoint. They
// prove themselves to anyone with the trail's public key.
type (
	recordsBegin struct {
		Records int64            `json:"records"` // the index of the first
		Edge    []Tile           `json:"edge,omitempty"`
		Heads   map[string]int64 `json:"heads,omitempty"`
	}
	recordsEnd struct {
		Checkpoint []byte `json:"checkpoint"`
	}
)

// maxRecord bounds a line of records, in bytes.
const maxRecord = 8 << 20

// WriteRecords begins records with the event after those of an edge, which is
// that of the empty tree for all of them.
func WriteRecords(w io.Writer, edge *Edge, heads map[string]int64) error {
	begin := recordsBegin{Records: edge.Size, Heads: heads}
	for level, hashes := range edge.levels {
		begin.Edge = append(begin.Edge, Tile{Level: level, Hashes: packed(hashes)})
	}
	return writeLine(w, begin)
}

// WriteRecord writes an event's canonical form.
func WriteRecord(w io.Writer, canonical []byte) error {
	_, err := w.Write(append(bytes.Clone(canonical), '\n'))
	return err
}

// EndRecords ends records with the checkpoint that covers them.
func EndRecords(w io.Writer, checkpoint []byte) error {
	return writeLine(w, recordsEnd{checkpoint})
}

func writeLine(w io.Writer, of any) error {
	line, err := json.Marshal(of)
	if err != nil {
		return fmt.Errorf("write records: %w", err)
	}
	_, err = w.Write(append(line, '\n'))
	return err
}

// ErrRecords says that a file does not hold records of a trail.
var ErrRecords = errors.New("these are no records of a trail")

// ReadRecords checks records with the text of the trail's public key, without
// anything else: that they are what their checkpoint says, that no event of a
// lane is missing, and that they agree with checkpoints that were kept.
// The verifier tells what is wrong with them; an error says that they cannot be read.
func ReadRecords(r io.Reader, key string, kept ...Checkpoint) (*Verifier, Checkpoint, error) {
	in := bufio.NewReaderSize(r, 64<<10)
	line, err := readLine(in)
	var begin recordsBegin
	if err != nil || decode(line, &begin) != nil || begin.Records < 0 {
		return nil, Checkpoint{}, fmt.Errorf("%w: the first line does not say where they begin", ErrRecords)
	}
	v := NewVerifier(nil)
	edge := &Edge{Size: begin.Records}
	if edge, err = OpenEdge(begin.Records, begin.tile); err != nil {
		return nil, Checkpoint{}, fmt.Errorf("%w: %w", ErrRecords, err)
	}
	v.Begin(edge, begin.Heads, time.Time{})
	for n := 2; ; n++ {
		line, err := readLine(in)
		if err != nil {
			return nil, Checkpoint{}, fmt.Errorf("%w: line %d: %w", ErrRecords, n, err)
		}
		var end recordsEnd
		if bytes.HasPrefix(line, []byte(`{"checkpoint":`)) && decode(line, &end) == nil {
			c, err := OpenCheckpoint(end.Checkpoint, key)
			if err != nil {
				return nil, c, err
			}
			v.compare(kept)
			v.Checkpoint(c)
			v.shorter(kept)
			if _, err := in.ReadByte(); err == nil {
				v.problem("", c.Size, "something follows the checkpoint that it does not cover")
			}
			return v, c, nil
		}
		v.record(line)
		v.compare(kept)
	}
}

func (b recordsBegin) tile(level int, _ int64) ([]byte, error) {
	if level < len(b.Edge) && b.Edge[level].Level == level {
		return b.Edge[level].Hashes, nil
	}
	return nil, errors.New("the edge of the tree is not whole")
}

// record takes an event of records.
func (v *Verifier) record(line []byte) {
	e, err := Parse(line)
	c := Checked{Batch: Batch{Lane: e.Lane, First: e.Seq, N: 1}, genuine: true, read: err == nil, closes: e.Action == LaneClosed,
		places: []placed{{e.At, e.Lane, e.Seq}}, leaves: []Hash{Leaf(line)}}
	if err == nil {
		v.Take(c)
	} else {
		v.problem("", v.Tree.Size, "the line holds no event")
	}
	v.Grow(v.Tree.Size, c)
}

// compare compares the tree with checkpoints that were kept of its present size.
func (v *Verifier) compare(kept []Checkpoint) {
	for _, k := range kept {
		if k.Size == v.Tree.Size && v.Tree.Root() != k.Root {
			v.problem("", 0, fmt.Sprintf("the first %d events are not those of the checkpoint of %s that was kept", k.Size, k.At.Format(timeForm)))
		}
	}
}

func (v *Verifier) shorter(kept []Checkpoint) {
	for _, k := range kept {
		if k.Size > v.Tree.Size {
			v.problem("", v.Tree.Size, fmt.Sprintf("the last %d events are missing that the checkpoint of %s covers", k.Size-v.Tree.Size, k.At.Format(timeForm)))
		}
	}
}

func readLine(in *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := in.ReadSlice('\n')
		line = append(line, part...)
		switch {
		case len(line) > maxRecord:
			return nil, fmt.Errorf("it is longer than %d bytes", maxRecord)
		case err == nil:
			return line[:len(line)-1], nil
		case errors.Is(err, io.EOF) && len(line) > 0:
			return line, nil
		case errors.Is(err, io.EOF):
			return nil, errors.New("they end without a checkpoint")
		case !errors.Is(err, bufio.ErrBufferFull):
			return nil, err
		}
	}
}

func decode(line []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(line))
	d.DisallowUnknownFields()
	return d.Decode(into)
}

// CheckProof checks one event's proof with the text of the trail's public key. It
// needs nothing else.
func CheckProof(canonical []byte, index int64, hashes []Hash, checkpoint []byte, key string) (Event, Checkpoint, error) {
	c, err := OpenCheckpoint(checkpoint, key)
	if err != nil {
		return Event{}, c, err
	}
	if err := CheckEvent(canonical, index, c, hashes); err != nil {
		return Event{}, c, err
	}
	e, err := Parse(canonical)
	return e, c, err
}

// ParseHashes reads hashes as they are written in proofs.
func ParseHashes(texts []string) ([]Hash, error) {
	all := make([]Hash, len(texts))
	for i, text := range texts {
		h, err := tlog.ParseHash(text)
		if err != nil {
			return nil, errors.New("a hash of the proof cannot be read")
		}
		all[i] = h
	}
	return all, nil
}

// ParsePlace reads LANE:SEQ, where an event stands.
func ParsePlace(text string) (lane string, seq int64, ok bool) {
	for i := len(text) - 1; i >= 0; i-- {
		if text[i] == ':' {
			seq, err := strconv.ParseInt(text[i+1:], 10, 64)
			return text[:i], seq, err == nil && seq > 0 && i > 0
		}
	}
	return "", 0, false
}
