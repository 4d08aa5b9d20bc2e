package storage

import (
	"database/sql"
	"errors"
	"time"
)

// RefreshToken goes on with a sign-in once: it is replaced by the next of its
// family.
type RefreshToken struct {
	Hash         []byte `gorm:"primaryKey"`
	Family       int64
	PersonID     int64
	OpenedFrom   string // network address of the sign-in
	OpenedAt     time.Time
	ExpiresAt    time.Time // of the whole family
	ReplacedAt   *time.Time
	ReplacedFrom string
	MAC          []byte `gorm:"column:mac"`
}

// Device waits for a person to let it in (RFC 8628).
type Device struct {
	Hash     []byte `gorm:"primaryKey"`
	CodeHash []byte
	Host     string
	Network  string
	AskedAt  time.Time
	PolledAt *time.Time
	PersonID int64
	Answer   string // "", allowed, denied
	MAC      []byte `gorm:"column:mac"`
}

// Provider is an identity provider of the organization's.
type Provider struct {
	ID        int64
	Name      string
	URL       string `gorm:"column:url"`
	ClientID  string
	Sealed    []byte // the client secret
	CreatedAt time.Time
}

// Account is how a person signs in through a provider.
type Account struct {
	PersonID   int64 `gorm:"primaryKey;autoIncrement:false"`
	ProviderID int64
	Subject    string // the provider's; "": not known before the first time
}

// CreateRefreshToken writes a refresh token, and clears away those that expired.
func (tx *Tx) CreateRefreshToken(r RefreshToken, now time.Time) error {
	if err := tx.db.Where("expires_at < ?", now).Delete(&RefreshToken{}).Error; err != nil {
		return classify(err)
	}
	return classify(tx.db.Create(&r).Error)
}

// LockRefreshToken reads a refresh token and keeps others from using it.
func (tx *Tx) LockRefreshToken(hash []byte) (r RefreshToken, err error) {
	return r, classify(tx.db.Raw("SELECT * FROM refresh_tokens WHERE hash = ? FOR UPDATE", hash).Take(&r).Error)
}

// RefreshTokenByHash reads a refresh token.
func (tx *Tx) RefreshTokenByHash(hash []byte) (r RefreshToken, err error) {
	return r, classify(tx.db.Where("hash = ?", hash).Take(&r).Error)
}

// ReplaceRefreshToken notes that a refresh token was replaced.
func (tx *Tx) ReplaceRefreshToken(r RefreshToken) error {
	return classify(tx.db.Model(&RefreshToken{}).Where("hash = ?", r.Hash).Updates(map[string]any{"replaced_at": r.ReplacedAt, "replaced_from": r.ReplacedFrom, "mac": r.MAC}).Error)
}

// Upstream reads what a provider is asked again with about a person, sealed; nil
// where there is nothing.
func (tx *Tx) Upstream(person int64) (sealed []byte, err error) {
	err = tx.db.Raw("SELECT sealed FROM upstreams WHERE person_id = ?", person).Row().Scan(&sealed)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return sealed, classify(err)
}

// SaveUpstream writes what a provider is asked again with, in place of what was
// there (nil: whatever was). It tells whether that was still there.
func (tx *Tx) SaveUpstream(person int64, was, sealed []byte) (bool, error) {
	if was == nil {
		return true, classify(tx.db.Exec("INSERT INTO upstreams (person_id, sealed) VALUES (?, ?) ON CONFLICT (person_id) DO UPDATE SET sealed = excluded.sealed", person, sealed).Error)
	}
	done := tx.db.Exec("UPDATE upstreams SET sealed = ? WHERE person_id = ? AND sealed = ?", sealed, person, was)
	return done.RowsAffected == 1, classify(done.Error)
}

// Families reads the refresh tokens of a person that were not replaced and have
// not expired: one for each sign-in that can go on, newest first.
func (tx *Tx) Families(person int64, now time.Time) ([]RefreshToken, error) {
	var all []RefreshToken
	return all, classify(tx.db.Where("person_id = ? AND replaced_at IS NULL AND expires_at > ?", person, now).Order("family DESC").Find(&all).Error)
}

// CreateDevice writes a device that waits, and clears away old ones.
func (tx *Tx) CreateDevice(d Device, before time.Time) error {
	if err := tx.db.Where("asked_at < ?", before).Delete(&Device{}).Error; err != nil {
		return classify(err)
	}
	return classify(tx.db.Create(&d).Error)
}

// CountDevices counts the devices that wait, from a network and in all.
func (tx *Tx) CountDevices(network string, since time.Time) (from, all int64, err error) {
	err = tx.db.Raw("SELECT count(*) FILTER (WHERE network = ?), count(*) FROM devices WHERE asked_at > ?", network, since).Row().Scan(&from, &all)
	return from, all, classify(err)
}

// LockDevice reads a device by the hash of its own code, and keeps others from it.
func (tx *Tx) LockDevice(hash []byte) (d Device, err error) {
	return d, classify(tx.db.Raw("SELECT * FROM devices WHERE hash = ? FOR UPDATE", hash).Take(&d).Error)
}

// LockDeviceByCode reads a device by the hash of the code that is typed.
func (tx *Tx) LockDeviceByCode(hash []byte) (d Device, err error) {
	return d, classify(tx.db.Raw("SELECT * FROM devices WHERE code_hash = ? FOR UPDATE", hash).Take(&d).Error)
}

// SaveDevice writes what changes of a device.
func (tx *Tx) SaveDevice(d Device) error {
	return classify(tx.db.Model(&Device{}).Where("hash = ?", d.Hash).Updates(map[string]any{"polled_at": d.PolledAt, "person_id": d.PersonID, "answer": d.Answer, "mac": d.MAC}).Error)
}

// DeleteDevice forgets a device.
func (tx *Tx) DeleteDevice(hash []byte) error {
	return classify(tx.db.Where("hash = ?", hash).Delete(&Device{}).Error)
}

// NextProviderID reserves the id of a provider whose secret is about to be sealed.
func (tx *Tx) NextProviderID() (int64, error) {
	var id int64
	err := tx.db.Raw("SELECT nextval(pg_get_serial_sequence('adytum.providers', 'id'))").Scan(&id).Error
	return id, classify(err)
}

// CreateProvider writes a provider under its reserved id.
func (tx *Tx) CreateProvider(p Provider) error {
	return classify(tx.db.Exec(`INSERT INTO providers (id, name, url, client_id, sealed, created_at) OVERRIDING SYSTEM VALUE VALUES (?, ?, ?, ?, ?, ?)`,
		p.ID, p.Name, p.URL, p.ClientID, p.Sealed, p.CreatedAt).Error)
}

// DeleteProvider deletes a provider and who signs in through it.
func (tx *Tx) DeleteProvider(id int64) error {
	if err := tx.db.Exec("DELETE FROM upstreams WHERE person_id IN (SELECT person_id FROM accounts WHERE provider_id = ?)", id).Error; err != nil {
		return classify(err)
	}
	return classify(tx.db.Where("id = ?", id).Delete(&Provider{}).Error)
}

// SaveAccount writes how a person signs in through a provider.
func (tx *Tx) SaveAccount(a Account) error {
	return classify(tx.db.Exec(`INSERT INTO accounts (person_id, provider_id, subject) VALUES (?, ?, ?)
		ON CONFLICT (person_id) DO UPDATE SET provider_id = excluded.provider_id, subject = excluded.subject`, a.PersonID, a.ProviderID, a.Subject).Error)
}

// DeleteAccount lets a person no longer sign in through a provider.
func (tx *Tx) DeleteAccount(person int64) error {
	if err := tx.db.Exec("DELETE FROM upstreams WHERE person_id = ?", person).Error; err != nil {
		return classify(err)
	}
	return classify(tx.db.Where("person_id = ?", person).Delete(&Account{}).Error)
}
