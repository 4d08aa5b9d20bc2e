package trail

import (
	"fmt"

	"golang.org/x/mod/sumdb/tlog"
)

// Hash is a hash of the tree: SHA-256 as RFC 6962, section 2.1, has it.
type Hash = tlog.Hash

// Leaf is the leaf of an event, which is its canonical form.
func Leaf(canonical []byte) Hash { return tlog.RecordHash(canonical) }

// TileHeight is the height of tiles: one holds 256 hashes at most.
const (
	TileHeight = 8
	tileWidth  = 1 << TileHeight
)

// Tile is a piece of the tree as it is stored: at level 0 the hashes of up to 256
// leaves, at each level above those of up to 256 whole tiles.
type Tile struct {
	Level  int
	Index  int64
	Hashes []byte
}

// Edge is the right edge of a tree, which is all that is needed to let it grow.
// The zero value is that of the empty tree. It is not safe for concurrent use.
type Edge struct {
	Size   int64
	levels [][]Hash // per level the hashes of the tile that is not whole
	whole  []Tile   // that became whole since [Edge.Tiles] was called
}

// ReadTiles returns the hashes of a tile, at least as many as the tree had when
// it was asked about.
type ReadTiles func(level int, index int64) ([]byte, error)

// OpenEdge reads the edge of a tree of a size.
func OpenEdge(size int64, read ReadTiles) (*Edge, error) {
	e := &Edge{Size: size}
	for level := 0; size>>(TileHeight*level) > 0; level++ {
		width := int(size >> (TileHeight * level) % tileWidth)
		var hashes []Hash
		if width > 0 {
			data, err := read(level, size>>(TileHeight*(level+1)))
			if err != nil {
				return nil, err
			}
			if len(data) < width*tlog.HashSize {
				return nil, fmt.Errorf("the tile %d of level %d is too short", size>>(TileHeight*(level+1)), level)
			}
			for i := range width {
				hashes = append(hashes, Hash(data[i*tlog.HashSize:(i+1)*tlog.HashSize]))
			}
		}
		e.levels = append(e.levels, hashes)
	}
	return e, nil
}

// Append adds a leaf.
func (e *Edge) Append(leaf Hash) {
	e.Size++
	h := leaf
	for level := 0; ; level++ {
		if level == len(e.levels) {
			e.levels = append(e.levels, nil)
		}
		e.levels[level] = append(e.levels[level], h)
		if len(e.levels[level]) < tileWidth {
			return
		}
		e.whole = append(e.whole, Tile{level, (e.Size - 1) >> (TileHeight * (level + 1)), packed(e.levels[level])})
		h = perfect(e.levels[level])
		e.levels[level] = nil
	}
}

// Root is the hash of the whole tree.
func (e *Edge) Root() Hash {
	// The perfect subtrees that the tree is made of, the largest first.
	var trees []Hash
	for level := len(e.levels) - 1; level >= 0; level-- {
		rest := e.levels[level]
		for size := tileWidth; size > 0; size /= 2 {
			if len(rest) >= size {
				trees = append(trees, perfect(rest[:size]))
				rest = rest[size:]
			}
		}
	}
	if len(trees) == 0 {
		root, _ := tlog.TreeHash(0, nil) // reads nothing
		return root
	}
	root := trees[len(trees)-1]
	for i := len(trees) - 2; i >= 0; i-- {
		root = tlog.NodeHash(trees[i], root)
	}
	return root
}

// Tiles are the tiles that were altered since it was called last.
func (e *Edge) Tiles() []Tile {
	tiles := e.whole
	e.whole = nil
	for level, hashes := range e.levels {
		if len(hashes) > 0 {
			tiles = append(tiles, Tile{level, e.Size >> (TileHeight * (level + 1)), packed(hashes)})
		}
	}
	return tiles
}

func packed(hashes []Hash) []byte {
	data := make([]byte, 0, len(hashes)*tlog.HashSize)
	for _, h := range hashes {
		data = append(data, h[:]...)
	}
	return data
}

// perfect is the hash of a tree over a power of two of hashes.
func perfect(hashes []Hash) Hash {
	if len(hashes) == 1 {
		return hashes[0]
	}
	half := len(hashes) / 2
	return tlog.NodeHash(perfect(hashes[:half]), perfect(hashes[half:]))
}

// reader gives tlog the hashes that stand in tiles.
func (read ReadTiles) reader() tlog.HashReader {
	type place struct {
		level int
		index int64
	}
	known := map[place][]byte{}
	return tlog.HashReaderFunc(func(indexes []int64) ([]Hash, error) {
		hashes := make([]Hash, len(indexes))
		for i, index := range indexes {
			t := tlog.TileForIndex(TileHeight, index)
			at := place{t.L, t.N}
			if known[at] == nil {
				data, err := read(t.L, t.N)
				if err != nil {
					return nil, err
				}
				known[at] = data
			}
			h, err := tlog.HashFromTile(t, known[at], index)
			if err != nil {
				return nil, fmt.Errorf("read the tree: %w", err)
			}
			hashes[i] = h
		}
		return hashes, nil
	})
}

// ProveGrowth proves that the tree of the new size begins with the one of the
// old size (RFC 6962, section 2.1.2).
func ProveGrowth(old, size int64, read ReadTiles) ([]Hash, error) {
	if old < 1 || old > size {
		return nil, fmt.Errorf("no tree of %d events can have grown from one of %d", size, old)
	}
	return tlog.ProveTree(size, old, read.reader())
}

// CheckGrowth checks a proof of [ProveGrowth] against two checkpoints.
func CheckGrowth(old, now Checkpoint, proof []Hash) error {
	switch {
	case old.Size > now.Size:
		return fmt.Errorf("the trail is shorter than it was: it had %d events on %s, and now has %d", old.Size, old.At.Format("2006-01-02 15:04"), now.Size)
	case old.Size == 0:
		return nil
	case tlog.CheckTree(proof, now.Size, now.Root, old.Size, old.Root) != nil:
		return fmt.Errorf("the trail was rewritten: its first %d events are not those of %s any more", old.Size, old.At.Format("2006-01-02 15:04"))
	}
	return nil
}

// ProveEvent proves that an event stands at a place in the tree (RFC 6962,
// section 2.1.1).
func ProveEvent(index, size int64, read ReadTiles) ([]Hash, error) {
	if index < 0 || index >= size {
		return nil, fmt.Errorf("the tree of %d events has none at %d", size, index)
	}
	return tlog.ProveRecord(size, index, read.reader())
}

// CheckEvent checks a proof of [ProveEvent] against a checkpoint.
func CheckEvent(canonical []byte, index int64, c Checkpoint, proof []Hash) error {
	if index < 0 || index >= c.Size || tlog.CheckRecord(proof, c.Size, c.Root, index, Leaf(canonical)) != nil {
		return fmt.Errorf("the event is not the one that stands at %d of the trail's %d", index, c.Size)
	}
	return nil
}
