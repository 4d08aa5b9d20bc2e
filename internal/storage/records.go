package storage

import "time"

// The records, one type per table. ProjectID is 0 for the organization's rows.

// Organization is the one row of the installation.
type Organization struct {
	ID        int
	UID       string
	Name      string
	RootCheck []byte
	Revision  int64
	Manifest  []byte
	CreatedAt time.Time
}

// Project is one system that a team builds.
type Project struct {
	ID        int64
	Name      string
	CreatedAt time.Time
}

// Environment is a place that a project's system runs in.
type Environment struct {
	ProjectID int64
	ID        int64
	Name      string
	Follows   *int64
	Position  int
	CreatedAt time.Time
}

// Person can sign in with a password.
type Person struct {
	ID        int64
	Login     string
	Password  string // Argon2id in the PHC string format
	CreatedAt time.Time
	Name      string `gorm:"->"` // from person_names
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
}

// Grant gives a subject a role on a place; 0 stands for all.
type Grant struct {
	ID            int64
	SubjectKind   string
	SubjectID     int64
	Role          string
	OnProject     int64
	OnEnvironment int64
	CreatedAt     time.Time
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
}

// RevokedToken is kept until its token would have expired.
type RevokedToken struct {
	TokenID int64 `gorm:"primaryKey;autoIncrement:false"`
	Until   time.Time
}

// ProjectKey is a project's key, wrapped by the root key.
type ProjectKey struct {
	ProjectID int64
	ID        int64
	Wrapped   []byte
	CreatedAt time.Time
}

// Layer is one layer's head.
type Layer struct {
	ProjectID     int64
	ID            int64
	EnvironmentID *int64
	Revision      int64
	Manifest      []byte
}

// Entry is a name set in a layer.
type Entry struct {
	ProjectID int64
	ID        int64
	LayerID   int64
	Name      string
	Kind      string
	Version   int64
	Removed   bool
}

// Version is one value of an entry. Sealed is loaded by [Tx.Sealed] alone.
type Version struct {
	ProjectID  int64
	EntryID    int64
	Version    int64
	LayerID    int64
	Kind       string
	Setting    string
	Sealed     []byte
	Digest     []byte
	Revision   int64
	AuthorKind string
	AuthorID   int64
	CreatedAt  time.Time
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
	Effects    []byte `gorm:"type:jsonb"`
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
