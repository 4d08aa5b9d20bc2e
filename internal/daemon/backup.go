package daemon

import (
	"archive/zip"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"adytum.example/internal/core/secret"
	"adytum.example/internal/service"
	"adytum.example/internal/storage"
)

// backupFormat is the version of the layout of a backup.
const backupFormat = 1

// The ends of the names of a backup's two parts.
const (
	dataPart = ".data.zip"
	keysPart = ".keys.zip"
)

// backupIndex is what a part of a backup says of itself: the last file in it,
// signed with a key that the root key leads to.
type backupIndex struct {
	Format int           `json:"format"`
	ID     string        `json:"id"` // the same in both parts
	Part   string        `json:"part"`
	MadeAt time.Time     `json:"madeAt"`
	Tables []backupTable `json:"tables"`
}

type backupTable struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
	Rows    int64    `json:"rows"`
	SHA256  string   `json:"sha256"`
}

// Backup is what was made.
type Backup struct {
	Data, Keys string // the files
	Rows       int64
	Dropped    []string // parts with keys that were kept long enough, and are deleted
}

// MakeBackup writes a backup of the installation into a folder, in two parts of
// mode 0600, and deletes the parts with keys there that are older than the shred
// horizon. What the parts hold of secrets is encrypted; settings are not.
func MakeBackup(ctx context.Context, c Config, folder string, log *slog.Logger) (out Backup, err error) {
	roots, err := rootKeys(c.RootKeyFile)()
	if err != nil {
		return out, err
	}
	defer destroy(roots)
	store, err := storage.Open(c.Database, log)
	if err != nil {
		return out, err
	}
	defer store.Close()
	now := time.Now().UTC().Truncate(time.Second)
	id := now.Format("20060102T150405Z") + "-" + strings.ToLower(rand.Text()[:6])
	sign, done, err := service.SignBackup(ctx, store, roots, id, log)
	if err != nil {
		return out, err
	}
	defer done()
	dump, err := storage.OpenDump(ctx, c.Database)
	if err != nil {
		return out, err
	}
	defer dump.Close(ctx)
	for _, part := range []struct {
		name   string
		tables []string
		path   *string
	}{{dataPart, storage.DataTables, &out.Data}, {keysPart, storage.KeyTables, &out.Keys}} {
		*part.path = filepath.Join(folder, "adytum-"+id+part.name)
		rows, err := writePart(ctx, dump, *part.path, backupIndex{Format: backupFormat, ID: id, Part: part.name, MadeAt: now}, part.tables, sign)
		if err != nil {
			return out, err
		}
		out.Rows += rows
	}
	out.Dropped, err = dropOldKeys(folder, now)
	return out, err
}

func destroy(keys []*secret.Key) {
	for _, k := range keys {
		k.Destroy()
	}
}

// writePart writes one part, whole or not at all.
func writePart(ctx context.Context, dump *storage.Dump, path string, index backupIndex, tables []string, sign func([]byte) []byte) (rows int64, err error) {
	f, err := os.CreateTemp(filepath.Dir(path), ".adytum-backup-*") // mode 0600
	if err != nil {
		return 0, fmt.Errorf("write the backup: %w", err)
	}
	defer os.Remove(f.Name())
	defer f.Close()
	z := zip.NewWriter(f)
	for _, table := range tables {
		entry, err := writeTable(ctx, dump, z, table)
		if err != nil {
			return 0, fmt.Errorf("back up the table %s: %w", table, err)
		}
		index.Tables = append(index.Tables, entry)
		rows += entry.Rows
	}
	text, err := json.MarshalIndent(index, "", "  ")
	if err != nil {
		return 0, err
	}
	for name, content := range map[string][]byte{"index.json": text, "index.mac": []byte(hex.EncodeToString(sign(text)))} {
		w, err := z.Create(name)
		if err == nil {
			_, err = w.Write(content)
		}
		if err != nil {
			return 0, fmt.Errorf("write the backup: %w", err)
		}
	}
	if err := errors.Join(z.Close(), f.Sync()); err != nil {
		return 0, fmt.Errorf("write the backup: %w", err)
	}
	return rows, os.Rename(f.Name(), path)
}

func writeTable(ctx context.Context, dump *storage.Dump, z *zip.Writer, table string) (backupTable, error) {
	entry := backupTable{Name: table}
	var err error
	if entry.Columns, err = dump.Columns(ctx, table); err != nil {
		return entry, err
	}
	w, err := z.Create(table + ".copy")
	if err != nil {
		return entry, err
	}
	sum := sha256.New()
	entry.Rows, err = dump.Copy(ctx, table, entry.Columns, io.MultiWriter(w, sum))
	entry.SHA256 = hex.EncodeToString(sum.Sum(nil))
	return entry, err
}

// dropOldKeys deletes the parts with keys in a folder that are older than the
// shred horizon: what was destroyed since must not be opened from them.
func dropOldKeys(folder string, now time.Time) (dropped []string, err error) {
	all, err := filepath.Glob(filepath.Join(folder, "adytum-*"+keysPart))
	if err != nil {
		return nil, err
	}
	for _, path := range all {
		stamp, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(path), "adytum-"), "-")
		made, err := time.Parse("20060102T150405Z", stamp)
		if err != nil || now.Sub(made) <= service.ShredHorizon {
			continue
		}
		if err := os.Remove(path); err != nil {
			return dropped, fmt.Errorf("delete a part with keys that is older than %d days: %w", int(service.ShredHorizon.Hours()/24), err)
		}
		dropped = append(dropped, filepath.Base(path))
	}
	return dropped, nil
}

// Recover fills an empty, migrated database from the two parts of a backup, and
// checks everything in it with the root key. Where anything is wrong the database
// is empty again afterwards. Everyone has to sign in anew.
func Recover(ctx context.Context, c Config, data, keys string, log *slog.Logger) (checked service.Checked, err error) {
	roots, err := rootKeys(c.RootKeyFile)()
	if err != nil {
		return checked, err
	}
	defer destroy(roots)
	parts := make([]*backupPart, 2)
	for i, p := range []struct{ path, part string }{{data, dataPart}, {keys, keysPart}} {
		if parts[i], err = openPart(p.path, p.part); err != nil {
			return checked, err
		}
		defer parts[i].Close()
	}
	if a, b := parts[0].index.ID, parts[1].index.ID; a != b {
		return checked, fmt.Errorf("the two parts are of different backups, %s and %s; name two of one", a, b)
	}
	err = storage.Fill(ctx, c.Migrate, func(table string, fill func([]string, io.Reader) (int64, error)) error {
		for _, p := range parts {
			if known, err := p.fill(table, fill); known || err != nil {
				return err
			}
		}
		return fmt.Errorf("the backup has no table %s; it was made by another version", table)
	})
	if err != nil {
		return checked, err
	}
	if checked, err = checkRecovered(ctx, c, roots, parts, log); err != nil {
		if emptyErr := storage.Empty(ctx, c.Migrate); emptyErr != nil {
			return checked, errors.Join(err, emptyErr)
		}
		return checked, fmt.Errorf("the backup is not what was made, and the database is empty again: %w", err)
	}
	return checked, nil
}

func checkRecovered(ctx context.Context, c Config, roots []*secret.Key, parts []*backupPart, log *slog.Logger) (service.Checked, error) {
	store, err := storage.Open(c.Database, log)
	if err != nil {
		return service.Checked{}, err
	}
	defer store.Close()
	checked, err := service.Check(ctx, store, roots, log)
	if err != nil {
		return checked, err
	}
	for _, p := range parts {
		if err := service.CheckBackup(ctx, store, roots, p.raw, p.mac, log); err != nil {
			return checked, fmt.Errorf("%s: %w", p.name, err)
		}
	}
	return checked, service.Recovered(ctx, store, roots, parts[0].index.ID, log)
}

// backupPart is a part that was opened.
type backupPart struct {
	*zip.ReadCloser
	name     string
	index    backupIndex
	raw, mac []byte
}

// maxIndex bounds the index of a part, in bytes.
const maxIndex = 1 << 20

func openPart(path, part string) (*backupPart, error) {
	z, err := zip.OpenReader(path)
	if err != nil {
		return nil, fmt.Errorf("open %s: it is no part of a backup: %w", path, err)
	}
	p := &backupPart{ReadCloser: z, name: filepath.Base(path)}
	for name, to := range map[string]*[]byte{"index.json": &p.raw, "index.mac": &p.mac} {
		f, err := z.Open(name)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("%s has no %s; it is no part of a backup", path, name), z.Close())
		}
		*to, err = io.ReadAll(io.LimitReader(f, maxIndex))
		if err := errors.Join(err, f.Close()); err != nil {
			return nil, errors.Join(fmt.Errorf("read %s: %w", path, err), z.Close())
		}
	}
	if err := json.Unmarshal(p.raw, &p.index); err != nil || p.index.Format != backupFormat {
		return nil, errors.Join(fmt.Errorf("%s is of another version or damaged", path), z.Close())
	}
	if p.index.Part != part {
		return nil, errors.Join(fmt.Errorf("%s is the part %s, where %s was expected", path, strings.Trim(p.index.Part, "."), strings.Trim(part, ".")), z.Close())
	}
	if p.mac, err = hex.DecodeString(string(p.mac)); err != nil {
		return nil, errors.Join(fmt.Errorf("%s is damaged", path), z.Close())
	}
	return p, nil
}

// fill fills a table that the part holds.
func (p *backupPart) fill(table string, fill func([]string, io.Reader) (int64, error)) (known bool, err error) {
	for _, t := range p.index.Tables {
		if t.Name != table {
			continue
		}
		f, err := p.Open(table + ".copy")
		if err != nil {
			return true, fmt.Errorf("%s lacks the table %s", p.name, table)
		}
		defer f.Close()
		r := &summing{f, sha256.New()}
		rows, err := fill(t.Columns, r)
		if err != nil {
			return true, fmt.Errorf("%s: fill the table %s: %w", p.name, table, err)
		}
		if rows != t.Rows || hex.EncodeToString(r.sum.Sum(nil)) != t.SHA256 {
			return true, fmt.Errorf("%s: the table %s is not what was backed up: it is damaged or was altered", p.name, table)
		}
		return true, nil
	}
	return false, nil
}

// summing takes the digest of what is read.
type summing struct {
	from io.Reader
	sum  hash.Hash
}

func (s *summing) Read(b []byte) (int, error) {
	n, err := s.from.Read(b)
	s.sum.Write(b[:n])
	return n, err
}
