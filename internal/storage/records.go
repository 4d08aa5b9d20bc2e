package storage

import "time"

// The records, one type per table. ProjectID is 0 for the organization's rows.

// Organization is the one row of the installation.
type Organization struct {
	ID        int
	UID       string
	Name      string
	Revision  int64
	Manifest  []byte
	Codes     bool // everybody with a password must have codes
	CreatedAt time.Time
}

// Project is one system that a team builds.
type Project struct {
	ID              int64
	Name            string
	KeepRemovedDays int
	MaxAgeDays      int // 0: none
	CreatedAt       time.Time
	Removal         `gorm:"embedded"`
}

// Removal is whether something was removed, until when it can be restored, and
// whether it was destroyed.
type Removal struct {
	RemovedAt   *time.Time
	PurgeAt     *time.Time
	DestroyedAt *time.Time
}

// Environment is a place that a project's system runs in.
type Environment struct {
	ProjectID  int64
	ID         int64
	Name       string
	Follows    *int64
	Position   int
	Protected  bool
	Approval   bool // changes need a second person's approval
	MaxAgeDays int  // 0: the project's
	CreatedAt  time.Time
	Removal    `gorm:"embedded"`
}

// Person can sign in with a password.
type Person struct {
	ID        int64
	Login     string
	Password  string // Argon2id in the PHC string format
	CreatedAt time.Time
	RemovedAt *time.Time
	Name      string `gorm:"->"` // from person_names
}

// Factor is a person's time-based codes.
type Factor struct {
	PersonID    int64 `gorm:"primaryKey;autoIncrement:false"`
	Sealed      []byte
	Recovery    string // hashes in hexadecimal digits, separated by white space
	ConfirmedAt *time.Time
	CreatedAt   time.Time
}

// UsedCode is a time-based code that was used.
type UsedCode struct {
	PersonID int64 `gorm:"primaryKey;autoIncrement:false"`
	Step     int64 `gorm:"primaryKey;autoIncrement:false"`
}

// Invitation lets a person choose a password once.
type Invitation struct {
	PersonID  int64 `gorm:"primaryKey;autoIncrement:false"`
	Hash      []byte
	ExpiresAt time.Time
}

// PersonName is what can be erased of a person.
type PersonName struct {
	PersonID int64 `gorm:"primaryKey"`
	Name     string
}

// Workload is a program that signs in on its own.
type Workload struct {
	ID        int64
	Name      string
	ClientID  string
	CreatedAt time.Time
}

// ClientSecret is one of a workload's secrets, as a hash.
type ClientSecret struct {
	ID         int64
	WorkloadID int64
	Hash       []byte
	CreatedAt  time.Time
	ExpiresAt  *time.Time
}

// Grant gives a subject a role on a place; 0 stands for all.
type Grant struct {
	ID            int64
	SubjectKind   string
	SubjectID     int64
	Role          string
	OnProject     int64
	OnEnvironment int64
	Names         string // a pattern; empty: all
	Until         *time.Time
	Networks      string // separated by white space; empty: from everywhere
	CreatedAt     time.Time
}

// Team is a group of people that can be granted roles.
type Team struct {
	ID        int64
	Name      string
	CreatedAt time.Time
}

// TeamMember puts a person into a team.
type TeamMember struct {
	TeamID   int64 `gorm:"primaryKey;autoIncrement:false"`
	PersonID int64 `gorm:"primaryKey;autoIncrement:false"`
}

// Role is a set of verbs that the organization has named.
type Role struct {
	ID        int64
	Name      string
	Verbs     string // separated by white space
	CreatedAt time.Time
}

// Frozen is something that is frozen. The organization has id 0.
type Frozen struct {
	Kind  string `gorm:"primaryKey"`
	Of    int64  `gorm:"primaryKey;autoIncrement:false"`
	Since time.Time
}

// TableName is "frozen": it has no plural.
func (Frozen) TableName() string { return "frozen" }

// Issuer is one whose signed tokens are accepted.
type Issuer struct {
	ID        int64
	Name      string
	URL       string
	CreatedAt time.Time
}

// Trust lets a workload sign in with an issuer's tokens.
type Trust struct {
	ID         int64
	WorkloadID int64
	IssuerID   int64
	Subject    string // a pattern
	Claims     string // JSON of those that are pinned; empty: none
	CreatedAt  time.Time
}

// UsedSigned is a signed token that was used.
type UsedSigned struct {
	IssuerID  int64  `gorm:"primaryKey;autoIncrement:false"`
	Hash      []byte `gorm:"primaryKey"`
	ExpiresAt time.Time
}

// TableName is "used_signed": it has no plural.
func (UsedSigned) TableName() string { return "used_signed" }

// RoleRequest is a role that a person asks for, for some hours.
type RoleRequest struct {
	ID            int64
	PersonID      int64
	Role          string
	OnProject     int64
	OnEnvironment int64
	Hours         int
	Reason        string
	CreatedAt     time.Time
}

// LastUse is when something was last used. It is not signed.
type LastUse struct {
	Kind string `gorm:"primaryKey"`
	Of   int64  `gorm:"primaryKey;autoIncrement:false"`
	At   time.Time
}

// Token is an opaque bearer token, as a hash.
type Token struct {
	ID          int64
	Hash        []byte
	SubjectKind string
	SubjectID   int64
	CreatedAt   time.Time
	ExpiresAt   time.Time
	MAC         []byte `gorm:"column:mac"`
	OpenedFrom  string // network address
	Family      int64  // the first token of the sign-in that this one goes on with; 0: it does not go on
}

// RevokedToken is kept until its token would have expired.
type RevokedToken struct {
	TokenID int64 `gorm:"primaryKey;autoIncrement:false"`
	Until   time.Time
}

// RootKey is one of the keys that wrap project keys. The key itself is not in
// the database; the proof tells whether one is it.
type RootKey struct {
	ID        int64
	Proof     []byte
	State     string // pending, active or retired
	CreatedAt time.Time
}

// ProjectKey is a key of a project, wrapped by a root key.
type ProjectKey struct {
	ProjectID int64
	ID        int64
	Purpose   string // values, fingerprints or signing
	RootKeyID int64
	Wrapped   []byte
	CreatedAt time.Time
}

// Layer is one layer's head. PersonID is set for a person's private layer.
type Layer struct {
	ProjectID     int64
	ID            int64
	EnvironmentID *int64
	PersonID      *int64
	Revision      int64
	Manifest      []byte
}

// Entry is a name set in a layer.
type Entry struct {
	ProjectID int64
	ID        int64
	LayerID   int64
	Name      string
	Version   int64
	Settled   int64
	Past      []byte
	Details   string
	Removal   `gorm:"embedded"`
}

// Version is one value of an entry. Sealed is loaded by [Tx.Sealed] alone.
type Version struct {
	ProjectID   int64
	EntryID     int64
	Version     int64
	LayerID     int64
	Kind        string
	Setting     string
	Sealed      []byte
	Fingerprint []byte
	Digest      []byte
	Source      string
	Revision    int64
	AuthorKind  string
	AuthorID    int64
	CreatedAt   time.Time
	ActiveFrom  *time.Time
	ExpiresAt   *time.Time
	DestroyedAt *time.Time
}

// VersionKey is the key of one version, wrapped by a project's key.
type VersionKey struct {
	ProjectID    int64
	EntryID      int64
	Version      int64
	ProjectKeyID int64
	Wrapped      []byte
}

// Change is one commit to a layer.
type Change struct {
	ProjectID  int64
	LayerID    int64
	Revision   int64
	AuthorKind string
	AuthorID   int64
	CreatedAt  time.Time
	Reason     string
	Effects    string
	MAC        []byte `gorm:"column:mac"`
}

// WriteKey is a write that was done under an idempotency key, and its answer.
type WriteKey struct {
	ProjectID int64
	Caller    string
	Key       string
	Request   []byte
	Answer    string
	CreatedAt time.Time
}

// TrailBatch is a run of events.
type TrailBatch struct {
	Lane      string
	First     int64
	N         int
	Body      []byte
	MAC       []byte    `gorm:"column:mac"`
	WrittenAt time.Time `gorm:"->"`
}

// TableName is "organization": there is one row.
func (Organization) TableName() string { return "organization" }
