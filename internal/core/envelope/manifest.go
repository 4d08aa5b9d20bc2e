package envelope

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"sort"

	"adytum.example/internal/core/secret"
)

// Row is what a manifest says of one thing: a key that orders it and the parts
// that must not change unnoticed. Values are represented by [Digest]s.
type Row struct {
	Key   string
	Parts []string
}

// Manifest is the HMAC-SHA-256 over a set of rows at one revision of what scope
// names. Rows are sorted by key first, so that their order does not count. It
// covers the number of rows: nothing can be hidden, added, swapped or rolled back.
func Manifest(key *secret.Key, scope string, revision int64, rows []Row) []byte {
	sorted := append([]Row(nil), rows...)
	sort.Slice(sorted, func(i, j int) bool { return sorted[i].Key < sorted[j].Key })

	mac := hmac.New(sha256.New, key.Bytes())
	mac.Write(appendParts([]byte{1}, scope, number(revision), number(int64(len(sorted)))))
	for _, row := range sorted {
		head := binary.BigEndian.AppendUint32(nil, uint32(len(row.Parts)))
		mac.Write(appendParts(appendParts(head, row.Key), row.Parts...))
	}
	return mac.Sum(nil)
}

// Sign is the HMAC-SHA-256 over parts, each behind its length.
func Sign(key *secret.Key, parts ...string) []byte {
	mac := hmac.New(sha256.New, key.Bytes())
	mac.Write(appendParts(nil, parts...))
	return mac.Sum(nil)
}

// Same compares two MACs in constant time.
func Same(a, b []byte) bool { return hmac.Equal(a, b) }

// Digest is what a manifest holds of a stored value: the SHA-256 of the
// ciphertext or of a setting's text. It is never taken of a secret's plaintext.
func Digest(stored []byte) []byte {
	sum := sha256.Sum256(stored)
	return bytes.Clone(sum[:])
}

// Chain is the digest of a row behind the digest of the rows before it (nil: it
// is the first). Rows that a manifest no longer lists one by one stand in it as
// the chain's end.
func Chain(before []byte, row Row) []byte {
	head := binary.BigEndian.AppendUint32(nil, uint32(len(row.Parts)))
	sum := sha256.Sum256(appendParts(appendParts(head, string(before), row.Key), row.Parts...))
	return sum[:]
}

// Number is the form in which numbers stand in rows.
func Number(n int64) string { return number(n) }
