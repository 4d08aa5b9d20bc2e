// Package wire holds the types that travel between the service and its clients
// as JSON. Fields that carry plaintext say so; nothing else does.
package wire

import "time"

// Session answers a sign-in.
type Session struct {
	Token     string    `json:"token" doc:"Bearer token. Plaintext: keep it as you would a password."`
	ExpiresAt time.Time `json:"expiresAt"`
	Refresh   string    `json:"refresh,omitempty" doc:"Refresh token, for a sign-in that goes on. Good once."`
	Who       Who       `json:"who"`
}

// Who is someone who signed in.
type Who struct {
	Kind      string    `json:"kind" enum:"person,workload"`
	Name      string    `json:"name"`
	Login     string    `json:"login,omitempty" doc:"A person's login or a workload's client id."`
	ExpiresAt time.Time `json:"expiresAt" doc:"When the token ends."`
	Grants    []Grant   `json:"grants"`
}

// SignIn is a person's sign-in with a password.
type SignIn struct {
	Login    string `json:"login" maxLength:"200"`
	Password string `json:"password" maxLength:"1000" doc:"Plaintext."`
	Code     string `json:"code,omitempty" maxLength:"100" doc:"Time-based or recovery code, for those who have codes."`
	GoesOn   bool   `json:"goesOn,omitempty" doc:"Give a refresh token too; the token is good for an hour then."`
}

// TokenAnswer is the answer of the token endpoint, RFC 6749 section 5.1.
type TokenAnswer struct {
	AccessToken string `json:"access_token"`
	TokenType   string `json:"token_type"`
	ExpiresIn   int64  `json:"expires_in" doc:"Seconds."`
	Refresh     string `json:"refresh_token,omitempty"`
}

// DeviceAuthorization is the answer to a device that asks to be let in, RFC 8628
// section 3.2.
type DeviceAuthorization struct {
	DeviceCode      string `json:"device_code"`
	UserCode        string `json:"user_code"`
	VerificationURI string `json:"verification_uri"`
	ExpiresIn       int64  `json:"expires_in" doc:"Seconds."`
	Interval        int64  `json:"interval" doc:"Seconds."`
}

// Named is a request to add something by its name.
type Named struct {
	Name string `json:"name" maxLength:"63"`
}

// Project is one system that a team builds.
type Project struct {
	Name            string        `json:"name"`
	Environments    []Environment `json:"environments" doc:"Those that the caller may know of."`
	KeepRemovedDays int           `json:"keepRemovedDays" doc:"Days for which what was removed can be restored."`
	MaxAgeDays      int           `json:"maxAgeDays,omitempty" doc:"Days after which a secret should be replaced; 0: none."`
	RestorableUntil time.Time     `json:"restorableUntil,omitzero" doc:"Of a removed project."`
	Refers          []string      `json:"refers,omitempty" doc:"After a new name: settings that still refer to the old one."`
}

// ProjectEdit is a change to a project; what is not given stays.
type ProjectEdit struct {
	Name            *string `json:"name,omitempty" maxLength:"63"`
	KeepRemovedDays *int    `json:"keepRemovedDays,omitempty" minimum:"1" maximum:"3650"`
	MaxAgeDays      *int    `json:"maxAgeDays,omitempty" minimum:"0" maximum:"3650"`
}

// Environment is a place that a project's system runs in.
type Environment struct {
	Name            string    `json:"name"`
	Follows         string    `json:"follows,omitempty" doc:"What this environment does not set comes from there."`
	Protected       bool      `json:"protected,omitempty" doc:"No private values here."`
	Approval        bool      `json:"approval,omitempty" doc:"Changes need a second person's approval."`
	MaxAgeDays      int       `json:"maxAgeDays,omitempty" doc:"Days after which a secret should be replaced; 0: as the project has it."`
	Proposal        int64     `json:"proposal,omitempty" doc:"The edit waits for approval under this number; nothing is changed yet."`
	RestorableUntil time.Time `json:"restorableUntil,omitzero" doc:"Of a removed environment."`
	Refers          []string  `json:"refers,omitempty" doc:"After a new name: settings that still refer to the old one."`
}

// Same tells whether two environments have the same name, follow the same one and
// have the same policies.
func (e Environment) Same(other Environment) bool {
	return e.Name == other.Name && e.Follows == other.Follows && e.Protected == other.Protected && e.Approval == other.Approval && e.MaxAgeDays == other.MaxAgeDays
}

// NewEnvironment is an environment to add.
type NewEnvironment struct {
	Name       string `json:"name" maxLength:"63"`
	Follows    string `json:"follows,omitempty" maxLength:"63"`
	Protected  bool   `json:"protected,omitempty"`
	Approval   bool   `json:"approval,omitempty"`
	MaxAgeDays int    `json:"maxAgeDays,omitempty" minimum:"0" maximum:"3650"`
}

// EnvironmentEdit is a change to an environment; what is not given stays.
type EnvironmentEdit struct {
	Name       *string `json:"name,omitempty" maxLength:"63"`
	Follows    *string `json:"follows,omitempty" maxLength:"63" doc:"Empty: none any more."`
	Protected  *bool   `json:"protected,omitempty"`
	Approval   *bool   `json:"approval,omitempty"`
	MaxAgeDays *int    `json:"maxAgeDays,omitempty" minimum:"0" maximum:"3650"`
}

// Gone answers that something was destroyed.
type Gone struct {
	GoneOn string `json:"goneOn" doc:"The day on which no backup holds it, YYYY-MM-DD."`
}

// Entry is a name as an environment or layer has it. It never holds a secret's value.
type Entry struct {
	Name            string    `json:"name"`
	Kind            string    `json:"kind" enum:"secret,setting,nothing"`
	State           string    `json:"state" enum:"active,waiting,expired,destroyed,removed"`
	Origin          string    `json:"origin" enum:"private,here,followed,project,organization" doc:"How the layer that answers relates to what was asked for."`
	Layer           string    `json:"layer" doc:"The layer that answers."`
	Version         int64     `json:"version"`
	Since           time.Time `json:"since" doc:"When this version was kept."`
	Author          string    `json:"author"`
	Source          string    `json:"source,omitempty" doc:"Where the version came from, where it was not given."`
	Setting         string    `json:"setting" doc:"The value of a setting as it was kept, references and all; empty for a secret."`
	ActiveFrom      time.Time `json:"activeFrom,omitzero"`
	Expires         time.Time `json:"expires,omitzero"`
	Coming          time.Time `json:"coming,omitzero" doc:"When the next version that waits begins to count."`
	AgedSince       time.Time `json:"agedSince,omitzero" doc:"Since when the value is older than it should be."`
	RestorableUntil time.Time `json:"restorableUntil,omitzero" doc:"Of a removed entry."`
	Details         Details   `json:"details"`
	Reference       string    `json:"reference" doc:"The short reference, for a program that runs in the same environment."`
	Absolute        string    `json:"absolute" doc:"The reference that means this entry wherever it is resolved."`
}

// Layered is every layer of a place that sets a name, nearest first.
type Layered struct {
	Name   string  `json:"name"`
	Wins   int     `json:"wins" doc:"Index of the layer that answers; -1: none does."`
	Layers []Entry `json:"layers"`
}

// Entries is a listing at one revision.
type Entries struct {
	Place    string  `json:"place"`
	Revision int64   `json:"revision" doc:"Of the nearest layer."`
	Entries  []Entry `json:"entries"`
	Next     string  `json:"next,omitempty" doc:"Cursor of the next page; empty at the end."`
}

// Table is a project's entries across its environments.
type Table struct {
	Environments []Environment `json:"environments"`
	Rows         []Row         `json:"rows"`
}

// Row is one name across the environments.
type Row struct {
	Name  string `json:"name"`
	Cells []Cell `json:"cells" doc:"One per environment, in their order."`
}

// Cell is what one environment has for a name.
type Cell struct {
	State   string    `json:"state" enum:"here,followed,project,organization,nothing,missing,waiting,expired,destroyed"`
	Kind    string    `json:"kind,omitempty"`
	Version int64     `json:"version,omitempty"`
	Since   time.Time `json:"since,omitzero"`
	Layer   string    `json:"layer,omitempty"`
	Setting string    `json:"setting,omitempty"`
	Source  string    `json:"source,omitempty" doc:"Where the version came from, where it was not given."`
}

// Value is one value.
type Value struct {
	Reference string `json:"reference"`
	Value     string `json:"value" doc:"Plaintext, in the encoding that follows."`
	Encoding  string `json:"encoding" enum:"text,base64" doc:"text, or base64 for a value that is not UTF-8."`
	Kind      string `json:"kind" enum:"secret,setting"`
	Version   int64  `json:"version"`
	Layer     string `json:"layer"`
	Private   bool   `json:"private,omitempty" doc:"It is the caller's own value."`
}

// ResolveRequest asks for the values of references, as one read at one revision.
type ResolveRequest struct {
	References []string `json:"references" maxItems:"1000" doc:"References; relative ones are of the environment in the path."`
	Optional   []string `json:"optional,omitempty" maxItems:"1000" doc:"More references, left out of the answer where they are not set."`
}

// Resolved answers a ResolveRequest.
type Resolved struct {
	Values    []Value          `json:"values" doc:"In the order of the request, repetitions left out."`
	Revisions map[string]int64 `json:"revisions" doc:"The layers that were read and their revisions."`
}

// Version is one version of an entry. It never holds a secret's value.
type Version struct {
	Version    int64     `json:"version"`
	Kind       string    `json:"kind"`
	State      string    `json:"state" enum:"active,waiting,expired,superseded,destroyed"`
	At         time.Time `json:"at"`
	Author     string    `json:"author"`
	Reason     string    `json:"reason"`
	Source     string    `json:"source,omitempty"`
	Setting    string    `json:"setting" doc:"The value of a setting; empty for a secret."`
	ActiveFrom time.Time `json:"activeFrom,omitzero"`
	Expires    time.Time `json:"expires,omitzero"`
	Destroyed  time.Time `json:"destroyed,omitzero"`
}

// History is an entry's versions, newest first.
type History struct {
	Name     string    `json:"name"`
	Layer    string    `json:"layer"`
	Versions []Version `json:"versions"`
}

// Edit is one step of a change.
type Edit struct {
	Act        string     `json:"act,omitempty" enum:"keep,describe,remove,restore,rename,revert,destroy" doc:"keep where it is not given."`
	Name       string     `json:"name" maxLength:"1000"`
	Kind       string     `json:"kind,omitempty" enum:"secret,setting,nothing" doc:"Of the version to keep."`
	Value      string     `json:"value,omitempty" doc:"Plaintext for a secret, in the encoding that follows."`
	Encoding   string     `json:"encoding,omitempty" enum:"text,base64"`
	Generate   *Generate  `json:"generate,omitempty" doc:"Makes the value in the service instead."`
	Imported   string     `json:"imported,omitempty" maxLength:"200" doc:"The file that the value was imported from."`
	ActiveFrom *time.Time `json:"activeFrom,omitempty" doc:"When the version begins to count; at once where it is not given."`
	Expires    *time.Time `json:"expires,omitempty" doc:"When the version ceases to count."`
	Details    *Details   `json:"details,omitempty" doc:"What is given replaces what was said before."`
	To         string     `json:"to,omitempty" maxLength:"1000" doc:"The new name, to rename."`
	Version    int64      `json:"version,omitempty" minimum:"0" doc:"To revert to, or to destroy; without it destroy means the whole entry."`
}

// Generate says what value to make.
type Generate struct {
	What     string   `json:"what" enum:"text,passphrase,uuid,rsa,ec,ed25519,certificate"`
	Length   int      `json:"length,omitempty" doc:"Characters of a text; 32."`
	Alphabet string   `json:"alphabet,omitempty" maxLength:"1024" doc:"Of a text: alphanumeric, digits, hex, lower, url, clear, symbols, or the characters themselves."`
	Words    int      `json:"words,omitempty" doc:"Of a passphrase; 8."`
	Bits     int      `json:"bits,omitempty" doc:"Of an RSA key, 3072; of an EC key, 256."`
	Hosts    []string `json:"hosts,omitempty" maxItems:"100" doc:"That a certificate is for."`
	Days     int      `json:"days,omitempty" doc:"That a certificate holds; 365."`
}

// Details are what people say of an entry beside its value. In a request, what
// is not given stays as it is, and what is empty is taken away.
type Details struct {
	Owner      *string   `json:"owner,omitempty"`
	Purpose    *string   `json:"purpose,omitempty"`
	Link       *string   `json:"link,omitempty"`
	Tags       *[]string `json:"tags,omitempty"`
	MaxAgeDays *int      `json:"maxAgeDays,omitempty" doc:"Days after which a value should be replaced; 0: as the environment has it."`
	Rules      *Rules    `json:"rules,omitempty" doc:"What values must satisfy, here and in nearer layers without rules of their own."`
}

// Rules are what the values of an entry must satisfy, in the words of the needs file.
type Rules struct {
	Type      string              `json:"type,omitempty"`
	Pattern   string              `json:"pattern,omitempty"`
	Range     string              `json:"range,omitempty"`
	Length    string              `json:"length,omitempty"`
	Choices   []string            `json:"choices,omitempty"`
	AllowedIn map[string][]string `json:"allowedIn,omitempty"`
}

// ChangeRequest commits edits to one layer together, or none of them.
type ChangeRequest struct {
	Reason string `json:"reason,omitempty" maxLength:"1000"`
	Edits  []Edit `json:"edits" maxItems:"1000"`
}

// RevertRequest undoes one change, or sets a layer back to a revision.
type RevertRequest struct {
	Reason   string `json:"reason,omitempty" maxLength:"1000"`
	Change   int64  `json:"change,omitempty" minimum:"0" doc:"The revision that the change made; it alone is undone."`
	Revision *int64 `json:"revision,omitempty" minimum:"0" doc:"Everything after it is undone."`
}

// CopyRequest carries what one environment has over to another.
type CopyRequest struct {
	Reason  string   `json:"reason,omitempty" maxLength:"1000"`
	From    PlaceID  `json:"from"`
	Names   []string `json:"names,omitempty" maxItems:"1000" doc:"Without names: all that are meant by missing."`
	Missing bool     `json:"missing,omitempty" doc:"All names that are set there and not here."`
}

// MoveRequest moves entries with their history to another layer.
type MoveRequest struct {
	Reason string   `json:"reason,omitempty" maxLength:"1000"`
	To     PlaceID  `json:"to"`
	Names  []string `json:"names" minItems:"1" maxItems:"100"`
}

// Comparison is two environments, or one at two revisions, side by side.
type Comparison struct {
	A     string        `json:"a"`
	B     string        `json:"b"`
	Rows  []ComparedRow `json:"rows"`
	Alike bool          `json:"alike" doc:"Nothing is missing on either side, nothing differs, and nothing is unknown."`
}

// ComparedRow is one name on both sides.
type ComparedRow struct {
	Name  string `json:"name"`
	State string `json:"state" enum:"same,different,only-a,only-b,unknown" doc:"unknown: the caller may not read both, so that only what is known about them is told."`
	A     Cell   `json:"a"`
	B     Cell   `json:"b"`
}

// Sameness is where else a value is used, among what the caller may read.
type Sameness struct {
	Name string  `json:"name"`
	Same []Entry `json:"same"`
}

// ArchivedProject is the first line of a project's archive; the layers follow, an
// entry on each line.
type ArchivedProject struct {
	Format          int           `json:"format"`
	Project         string        `json:"project"`
	KeepRemovedDays int           `json:"keepRemovedDays"`
	MaxAgeDays      int           `json:"maxAgeDays,omitempty"`
	Environments    []Environment `json:"environments"`
}

// ArchivedEntry is an entry with its whole history.
type ArchivedEntry struct {
	Environment string            `json:"environment,omitempty" doc:"Empty: the project's common layer."`
	Name        string            `json:"name" maxLength:"1000"`
	Details     Details           `json:"details,omitzero"`
	RemovedAt   time.Time         `json:"removedAt,omitzero"`
	PurgeAt     time.Time         `json:"purgeAt,omitzero"`
	Versions    []ArchivedVersion `json:"versions" minItems:"1"`
}

// ArchivedVersion is one version with its value.
type ArchivedVersion struct {
	Kind       string    `json:"kind" enum:"secret,setting,nothing"`
	Value      string    `json:"value,omitempty" doc:"Plaintext for a secret, in the encoding that follows."`
	Encoding   string    `json:"encoding,omitempty" enum:"text,base64"`
	At         time.Time `json:"at"`
	By         string    `json:"by" maxLength:"500" doc:"Who made it, for people."`
	Reason     string    `json:"reason,omitempty" maxLength:"1000"`
	ActiveFrom time.Time `json:"activeFrom,omitzero"`
	Expires    time.Time `json:"expires,omitzero"`
	Destroyed  time.Time `json:"destroyed,omitzero"`
}

// ArchiveEnd is the last line of an archive. Without it the archive was cut off.
type ArchiveEnd struct {
	Entries int `json:"end" doc:"How many entries came before."`
}

// TakeInRequest keeps entries of an archive with their histories.
type TakeInRequest struct {
	Reason  string          `json:"reason,omitempty" maxLength:"1000"`
	Entries []ArchivedEntry `json:"entries" minItems:"1" maxItems:"1000"`
}

// PlaceID names a layer: an environment, a project's common layer (no
// environment), or the organization's layer (neither).
type PlaceID struct {
	Project     string `json:"project,omitempty" maxLength:"63"`
	Environment string `json:"environment,omitempty" maxLength:"63"`
}

// Change is one commit to a layer.
type Change struct {
	Layer    string    `json:"layer"`
	Revision int64     `json:"revision"`
	At       time.Time `json:"at"`
	Author   string    `json:"author"`
	Reason   string    `json:"reason"`
	DryRun   bool      `json:"dryRun,omitempty" doc:"Nothing was done; this is what would be."`
	Effects  []Effect  `json:"effects"`
	GoneOn   string    `json:"goneOn,omitempty" doc:"The day on which no backup holds what was destroyed, YYYY-MM-DD."`
	Refers   []string  `json:"refers,omitempty" doc:"Settings that still refer to a name that is gone."`
	Proposal int64     `json:"proposal,omitempty" doc:"The change waits for another person's approval under this number; nothing is changed yet."`
	Approver string    `json:"approver,omitempty"`
}

// Effect is what a change did to one entry.
type Effect struct {
	Name     string   `json:"name"`
	Act      string   `json:"act" enum:"added,replaced,described,removed,restored,renamed,destroyed"`
	Kind     string   `json:"kind"`
	To       string   `json:"to,omitempty"`
	Version  int64    `json:"version,omitempty"`
	Source   string   `json:"source,omitempty" doc:"Where the version came from, where it was not given."`
	Strength int      `json:"strength,omitempty" doc:"Bits that a guesser would need, estimated; in the answer to the change alone."`
	Warnings []string `json:"warnings,omitempty"`
	Same     bool     `json:"same,omitempty" doc:"In a dry run, to who may read the entry: it has this value already."`
}

// Event is one line of the trail, with names in place of ids.
type Event struct {
	Lane        string    `json:"lane"`
	Seq         int64     `json:"seq"`
	At          time.Time `json:"at"`
	Action      string    `json:"action"`
	Outcome     string    `json:"outcome" enum:"allowed,refused,failed"`
	Actor       string    `json:"actor,omitempty" doc:"The number by which the trail knows who did it: person:3."`
	Who         string    `json:"who" doc:"Empty: nobody signed in."`
	From        string    `json:"from"`
	Place       string    `json:"place"`
	Names       []string  `json:"names"`
	Revision    int64     `json:"revision,omitempty"`
	Grant       int64     `json:"grant,omitempty" doc:"The grant that allowed it."`
	Reason      string    `json:"reason,omitempty"`
	Count       int64     `json:"count,omitempty" doc:"How many alike this line stands for."`
	NotReleased bool      `json:"notReleased,omitempty" doc:"The answer was withheld, since something had changed meanwhile, and tried again."`
}

// TrailEnd is the last line of an export of the trail. Without it the export was
// cut off.
type TrailEnd struct {
	End int `json:"end"`
}

// Events is a page of the trail, newest first.
type Events struct {
	Events []Event `json:"events"`
	Next   string  `json:"next,omitempty" doc:"Cursor of the next page; empty at the end."`
}

// Verification is the result of checking the trail.
type Verification struct {
	Whole      bool           `json:"whole"`
	From       int64          `json:"from" doc:"The index of the first event that was looked at."`
	Events     int64          `json:"events"`
	Lanes      int            `json:"lanes"`
	Checkpoint string         `json:"checkpoint" doc:"The newest checkpoint, base64."`
	Problems   []TrailProblem `json:"problems"`
}

// Checkpoint is a signed statement of all events up to one (a signed note), with
// the public key that it is checked with.
type Checkpoint struct {
	Checkpoint string    `json:"checkpoint"`
	Key        string    `json:"key"`
	Size       int64     `json:"size" doc:"How many events it covers."`
	At         time.Time `json:"at"`
}

// Growth proves that the trail has only grown (RFC 6962, section 2.1.2).
type Growth struct {
	Checkpoint string   `json:"checkpoint" doc:"The newest checkpoint."`
	Proof      []string `json:"proof" doc:"Hashes, base64."`
}

// EventProof is one event with the proof that it stands in the trail (RFC 6962,
// section 2.1.1).
type EventProof struct {
	Event      string   `json:"event" doc:"The event in its canonical form (RFC 8785), which its leaf is the hash of."`
	Index      int64    `json:"index" doc:"Where it stands in the tree."`
	Proof      []string `json:"proof" doc:"Hashes, base64."`
	Checkpoint string   `json:"checkpoint" doc:"The checkpoint that the proof leads to."`
}

// TrailProblem is something that is wrong with the trail.
type TrailProblem struct {
	Lane string `json:"lane" doc:"Empty: seq is an index in the tree."`
	Seq  int64  `json:"seq"`
	What string `json:"what"`
}

// Status is a health answer.
type Status struct {
	Status string `json:"status"`
	Detail string `json:"detail,omitempty"`
}

// Problem is RFC 9457 problem details.
type Problem struct {
	Type   string          `json:"type,omitempty"`
	Title  string          `json:"title"`
	Status int             `json:"status"`
	Detail string          `json:"detail,omitempty"`
	Errors []ProblemDetail `json:"errors,omitempty"`
}

// ProblemDetail is one of several things that are wrong with a request.
type ProblemDetail struct {
	Message  string `json:"message"`
	Location string `json:"location,omitempty"`
}
