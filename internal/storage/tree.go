package storage

import (
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"adytum.example/internal/core/trail"
)

// Ordered is where a batch stands in the trail's tree, and what it is found by.
type Ordered struct {
	Index    int64 `gorm:"primaryKey;autoIncrement:false"`
	Lane     string
	First    int64
	N        int
	Earliest time.Time
	Latest   time.Time
	Terms    Numbers `gorm:"type:bigint[]"`
}

// TableName is "trail_order".
func (Ordered) TableName() string { return "trail_order" }

// Numbers is an array of PostgreSQL, as it is written.
type Numbers []int64

// Value implements [driver.Valuer].
func (n Numbers) Value() (driver.Value, error) { return Scope(n).setting(), nil }

// StoredCheckpoint is a checkpoint, signed.
type StoredCheckpoint struct {
	Size int64 `gorm:"primaryKey;autoIncrement:false"`
	At   time.Time
	Note []byte
}

// TableName is "checkpoints".
func (StoredCheckpoint) TableName() string { return "checkpoints" }

// Forgotten says that the events before an index of the tree were given up.
type Forgotten struct {
	Before int64
	At     time.Time
	Heads  string
	Note   []byte
	MAC    []byte `gorm:"column:mac"`
}

// sequencing is the advisory lock of the one who puts the trail in order.
const sequencing = 0x61647974

// LockOrder keeps others from putting the trail in order until the transaction
// ends. It tells whether that could be had, at once or, with wait, in time.
func (tx *Tx) LockOrder(wait bool) (had bool, err error) {
	if wait {
		return true, classify(tx.db.Exec("SELECT pg_advisory_xact_lock(?)", sequencing).Error)
	}
	err = tx.db.Raw("SELECT pg_try_advisory_xact_lock(?)", sequencing).Scan(&had).Error
	return had, classify(err)
}

// NewestCheckpoint reads the newest checkpoint; one of size 0 where there is none.
func (tx *Tx) NewestCheckpoint() (StoredCheckpoint, error) {
	var all []StoredCheckpoint
	err := tx.db.Order("size DESC").Limit(1).Find(&all).Error
	if err != nil || len(all) == 0 {
		return StoredCheckpoint{}, classify(err)
	}
	return all[0], nil
}

// CheckpointOf reads the checkpoint of a size.
func (tx *Tx) CheckpointOf(size int64) (c StoredCheckpoint, err error) {
	return c, classify(tx.db.Where("size = ?", size).Take(&c).Error)
}

// CheckpointsByMinute reads the last checkpoint of each minute, of those after a
// size, smallest first.
func (tx *Tx) CheckpointsByMinute(after int64) ([]StoredCheckpoint, error) {
	var all []StoredCheckpoint
	err := tx.db.Raw(`SELECT * FROM (SELECT DISTINCT ON (date_trunc('minute', at)) size, at, note FROM checkpoints WHERE size > ?
		ORDER BY date_trunc('minute', at), size DESC) m ORDER BY size`, after).Scan(&all).Error
	return all, classify(err)
}

// Unordered reads which batches are not in the tree yet, of those written since a
// moment, in the order in which they were written, without their bodies.
func (tx *Tx) Unordered(since time.Time, limit int) ([]TrailBatch, error) {
	var all []TrailBatch
	err := tx.db.Raw(`SELECT lane, first, n, written_at FROM trail_batches b WHERE written_at >= ? AND NOT EXISTS
		(SELECT FROM trail_order o WHERE o.lane = b.lane AND o.first = b.first) ORDER BY written_at, lane, first LIMIT ?`, since, limit).Scan(&all).Error
	return all, classify(err)
}

// Batches reads batches by their lanes and first events, which must be as many.
func (tx *Tx) Batches(of []TrailBatch) (map[string]map[int64]TrailBatch, error) {
	out := map[string]map[int64]TrailBatch{}
	if len(of) == 0 {
		return out, nil
	}
	lanes, firsts := make([]string, len(of)), make(Numbers, len(of))
	for i, b := range of {
		lanes[i], firsts[i] = b.Lane, b.First
	}
	var all []TrailBatch
	err := tx.db.Raw(`SELECT b.* FROM unnest(?::text[], ?::bigint[]) AS k (lane, first) JOIN trail_batches b USING (lane, first)`, textArray(lanes), firsts).Scan(&all).Error
	for _, b := range all {
		if out[b.Lane] == nil {
			out[b.Lane] = map[int64]TrailBatch{}
		}
		out[b.Lane][b.First] = b
	}
	return out, classify(err)
}

// LaneHead is where a lane ends in the tree.
type LaneHead struct {
	Lane   string
	Seq    int64
	Closed bool
}

// LaneHeads reads where all lanes end in the tree.
func (tx *Tx) LaneHeads() ([]LaneHead, error) {
	var all []LaneHead
	return all, classify(tx.db.Table("trail_heads").Select("lane, seq, closed").Find(&all).Error)
}

// SilentLanes reads the lanes of instances that have not shown since a moment
// that they live, and did not end them.
func (tx *Tx) SilentLanes(since time.Time) ([]LaneHead, error) {
	var all []LaneHead
	err := tx.db.Raw(`SELECT lane, seq, closed FROM trail_heads h WHERE NOT closed AND lane LIKE 'reader-%' AND NOT EXISTS
		(SELECT FROM instances i WHERE i.boot = h.lane AND i.seen_at >= ?) LIMIT 100`, since).Scan(&all).Error
	return all, classify(err)
}

// AppendOnce writes a batch unless another stands in its place, and tells whether
// it did.
func (tx *Tx) AppendOnce(b TrailBatch) (bool, error) {
	done := tx.db.Exec("INSERT INTO trail_batches (lane, first, n, body, mac) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING", b.Lane, b.First, b.N, b.Body, b.MAC)
	return done.RowsAffected == 1, classify(done.Error)
}

// ReadTile reads a tile of the tree.
func (tx *Tx) ReadTile(level int, index int64) ([]byte, error) {
	var hashes []byte
	err := tx.db.Raw("SELECT hashes FROM trail_tiles WHERE level = ? AND index = ?", level, index).Row().Scan(&hashes)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("the tile %d of level %d of the trail's tree is missing: it was altered in the database", index, level)
	}
	return hashes, classify(err)
}

// Grow writes what was put into the tree: the order, tiles, the ends of lanes and
// the checkpoint.
func (tx *Tx) Grow(order []Ordered, tiles []trail.Tile, heads []LaneHead, c StoredCheckpoint) error {
	if err := tx.db.CreateInBatches(order, 500).Error; err != nil {
		return classify(err)
	}
	for _, t := range tiles {
		if err := tx.db.Exec("INSERT INTO trail_tiles (level, index, hashes) VALUES (?, ?, ?) ON CONFLICT (level, index) DO UPDATE SET hashes = excluded.hashes", t.Level, t.Index, t.Hashes).Error; err != nil {
			return classify(err)
		}
	}
	lanes, seqs, closed := make([]string, len(heads)), make(Numbers, len(heads)), make([]string, len(heads))
	for i, h := range heads {
		lanes[i], seqs[i], closed[i] = h.Lane, h.Seq, strconv.FormatBool(h.Closed)
	}
	err := tx.db.Exec(`INSERT INTO trail_heads (lane, seq, closed) SELECT * FROM unnest(?::text[], ?::bigint[], ?::boolean[])
		ON CONFLICT (lane) DO UPDATE SET seq = excluded.seq, closed = excluded.closed`, textArray(lanes), seqs, "{"+strings.Join(closed, ",")+"}").Error
	if err != nil {
		return classify(err)
	}
	return classify(tx.db.Create(&c).Error)
}

// NewestOrdered reads which batches of the tree may hold events with all of some
// terms in a span of time (zero: without an end), newest first, from below an
// index (0: from the newest).
func (tx *Tx) NewestOrdered(below int64, terms []int64, since, until time.Time, limit int) ([]Ordered, error) {
	query := tx.ordered(terms, since, until).Order("index DESC").Limit(limit)
	if below > 0 {
		query = query.Where("index < ?", below)
	}
	var all []Ordered
	return all, classify(query.Find(&all).Error)
}

// OldestOrdered reads as [Tx.NewestOrdered] does, oldest first, from an index.
func (tx *Tx) OldestOrdered(from int64, terms []int64, since, until time.Time, limit int) ([]Ordered, error) {
	var all []Ordered
	return all, classify(tx.ordered(terms, since, until).Where("index >= ?", from).Order("index").Limit(limit).Find(&all).Error)
}

func (tx *Tx) ordered(terms []int64, since, until time.Time) *gorm.DB {
	query := tx.db.Model(&Ordered{}).Select("index, lane, first, n, earliest, latest")
	if len(terms) > 0 {
		query = query.Where("terms @> ?::bigint[]", Numbers(terms))
	}
	if !since.IsZero() {
		query = query.Where("latest >= ?", since)
	}
	if !until.IsZero() {
		query = query.Where("earliest < ?", until)
	}
	return query
}

// OrderOf reads where the batch stands that holds an event.
func (tx *Tx) OrderOf(lane string, seq int64) (o Ordered, err error) {
	err = tx.db.Select("index, lane, first, n").Where("lane = ? AND first <= ? AND first + n > ?", lane, seq, seq).Order("first DESC").Take(&o).Error
	return o, classify(err)
}

// WalkOrder walks through the tree from an index, with each batch where it is
// still there.
func (tx *Tx) WalkOrder(from int64, each func(Ordered, *TrailBatch) error) error {
	rows, err := tx.db.Raw(`SELECT o.index, o.lane, o.first, o.n, b.n, b.body, b.mac FROM trail_order o LEFT JOIN trail_batches b USING (lane, first)
		WHERE o.index >= ? ORDER BY o.index`, from).Rows()
	if err != nil {
		return classify(err)
	}
	defer rows.Close()
	for rows.Next() {
		var (
			o Ordered
			b TrailBatch
			n *int
		)
		if err := rows.Scan(&o.Index, &o.Lane, &o.First, &o.N, &n, &b.Body, &b.MAC); err != nil {
			return classify(err)
		}
		if n == nil {
			err = each(o, nil)
		} else {
			b.Lane, b.First, b.N = o.Lane, o.First, *n
			err = each(o, &b)
		}
		if err != nil {
			return err
		}
	}
	return classify(rows.Err())
}

// WalkUnordered walks through the batches that are not in the tree, lane by lane.
func (tx *Tx) WalkUnordered(each func(TrailBatch) error) error {
	rows, err := tx.db.Raw(`SELECT b.* FROM trail_batches b LEFT JOIN trail_order o USING (lane, first) WHERE o.lane IS NULL ORDER BY b.lane, b.first`).Rows()
	if err != nil {
		return classify(err)
	}
	defer rows.Close()
	for rows.Next() {
		var b TrailBatch
		if err := tx.db.ScanRows(rows, &b); err != nil {
			return classify(err)
		}
		if err := each(b); err != nil {
			return err
		}
	}
	return classify(rows.Err())
}

// LastForgotten reads up to where events were given up; one of 0 where none were.
func (tx *Tx) LastForgotten() (Forgotten, error) {
	var all []Forgotten
	err := tx.db.Table("trail_forgotten").Order("before DESC").Limit(1).Find(&all).Error
	if err != nil || len(all) == 0 {
		return Forgotten{}, classify(err)
	}
	return all[0], nil
}

// ForgetTrail gives events up, through the function that checks their age.
func (tx *Tx) ForgetTrail(f Forgotten) (batches int64, err error) {
	err = tx.db.Raw("SELECT forget_trail(?, ?, ?, ?)", f.Before, f.Heads, f.Note, f.MAC).Scan(&batches).Error
	return batches, classify(err)
}

// OrderedBefore reads up to which index everything in the tree is older than a
// moment.
func (tx *Tx) OrderedBefore(moment time.Time) (index int64, err error) {
	err = tx.db.Raw(`SELECT coalesce((SELECT min(index) FROM trail_order WHERE latest >= ?), 0)`, moment).Scan(&index).Error
	if err == nil && index == 0 {
		err = tx.db.Raw(`SELECT coalesce(max(index + n), 0) FROM trail_order WHERE latest < ? AND NOT EXISTS (SELECT FROM trail_order WHERE latest >= ?)`, moment, moment).Scan(&index).Error
	}
	return index, classify(err)
}

// ThinCheckpoints gives up old checkpoints but for the last of each hour.
func (tx *Tx) ThinCheckpoints() (gone int64, err error) {
	return gone, classify(tx.db.Raw("SELECT thin_checkpoints()").Scan(&gone).Error)
}

// FirstSeqs reads for each lane the first event that stands in the tree from an
// index on.
func (tx *Tx) FirstSeqs(from int64) (map[string]int64, error) {
	var all []TrailBatch
	err := tx.db.Raw("SELECT lane, min(first) AS first FROM trail_order WHERE index >= ? GROUP BY lane", from).Scan(&all).Error
	firsts := make(map[string]int64, len(all))
	for _, b := range all {
		firsts[b.Lane] = b.First
	}
	return firsts, classify(err)
}

// Now is the database's clock.
func (tx *Tx) Now() (now time.Time, err error) {
	return now, classify(tx.db.Raw("SELECT clock_timestamp()").Scan(&now).Error)
}
