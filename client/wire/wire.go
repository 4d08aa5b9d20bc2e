// Package wire holds the types that travel between the service and its clients
// as JSON. Fields that carry plaintext say so; nothing else does.
package wire

import "time"

// Session answers a sign-in.
type Session struct {
	Token     string    `json:"token" doc:"Bearer token. Plaintext: keep it as you would a password."`
	ExpiresAt time.Time `json:"expiresAt"`
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
}

// TokenAnswer is the answer of the token endpoint, RFC 6749 section 5.1.
type TokenAnswer struct {
	AccessToken string `json:"access_token"`
	TokenType   string `json:"token_type"`
	ExpiresIn   int64  `json:"expires_in" doc:"Seconds."`
}

// Person can sign in with a password.
type Person struct {
	Login string `json:"login"`
	Name  string `json:"name"`
}

// NewPerson is a person to add.
type NewPerson struct {
	Login    string `json:"login" maxLength:"200"`
	Name     string `json:"name" maxLength:"200"`
	Password string `json:"password" maxLength:"1000" doc:"Plaintext."`
}

// Workload is a program that signs in on its own.
type Workload struct {
	Name      string    `json:"name"`
	ClientID  string    `json:"clientId"`
	CreatedAt time.Time `json:"createdAt"`
	// ClientSecret is set in the answer to its creation alone.
	ClientSecret string `json:"clientSecret,omitempty" doc:"Plaintext, shown once."`
}

// Named is a request to add something by its name.
type Named struct {
	Name string `json:"name" maxLength:"63"`
}

// Project is one system that a team builds.
type Project struct {
	Name         string        `json:"name"`
	Environments []Environment `json:"environments" doc:"Those that the caller may know of."`
}

// Environment is a place that a project's system runs in.
type Environment struct {
	Name    string `json:"name"`
	Follows string `json:"follows,omitempty" doc:"What this environment does not set comes from there."`
}

// NewEnvironment is an environment to add.
type NewEnvironment struct {
	Name    string `json:"name" maxLength:"63"`
	Follows string `json:"follows,omitempty" maxLength:"63"`
}

// Grant gives someone a role somewhere.
type Grant struct {
	ID          int64  `json:"id"`
	Kind        string `json:"kind" enum:"person,workload"`
	Who         string `json:"who" doc:"A person's login or a workload's name."`
	Role        string `json:"role"`
	Project     string `json:"project,omitempty" doc:"Empty: the whole organization."`
	Environment string `json:"environment,omitempty" doc:"Empty: the whole project."`
}

// NewGrant is a grant to add.
type NewGrant struct {
	Kind        string `json:"kind" enum:"person,workload"`
	Who         string `json:"who" maxLength:"200"`
	Role        string `json:"role" maxLength:"63"`
	Project     string `json:"project,omitempty" maxLength:"63"`
	Environment string `json:"environment,omitempty" maxLength:"63"`
}

// Entry is a name as an environment or layer has it. It never holds a secret's value.
type Entry struct {
	Name      string    `json:"name"`
	Kind      string    `json:"kind" enum:"secret,setting,nothing"`
	Origin    string    `json:"origin" enum:"here,followed,project,organization" doc:"How the layer that answers relates to what was asked for."`
	Layer     string    `json:"layer" doc:"The layer that answers."`
	Version   int64     `json:"version"`
	Since     time.Time `json:"since" doc:"When this version was kept."`
	Author    string    `json:"author"`
	Setting   string    `json:"setting" doc:"The value of a setting; empty for a secret."`
	Reference string    `json:"reference" doc:"The short reference, for a program that runs in the same environment."`
	Absolute  string    `json:"absolute" doc:"The reference that means this entry wherever it is resolved."`
}

// Entries is a listing at one revision.
type Entries struct {
	Place    string  `json:"place"`
	Revision int64   `json:"revision" doc:"Of the nearest layer."`
	Entries  []Entry `json:"entries"`
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
	State   string    `json:"state" enum:"here,followed,project,organization,nothing,missing"`
	Kind    string    `json:"kind,omitempty"`
	Version int64     `json:"version,omitempty"`
	Since   time.Time `json:"since,omitzero"`
	Layer   string    `json:"layer,omitempty"`
	Setting string    `json:"setting,omitempty"`
}

// Value is one value.
type Value struct {
	Reference string `json:"reference"`
	Value     string `json:"value" doc:"Plaintext, in the encoding that follows."`
	Encoding  string `json:"encoding" enum:"text,base64" doc:"text, or base64 for a value that is not UTF-8."`
	Kind      string `json:"kind" enum:"secret,setting"`
	Version   int64  `json:"version"`
	Layer     string `json:"layer"`
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
	Version int64     `json:"version"`
	Kind    string    `json:"kind"`
	State   string    `json:"state" enum:"active,superseded,removed"`
	At      time.Time `json:"at"`
	Author  string    `json:"author"`
	Reason  string    `json:"reason"`
	Setting string    `json:"setting" doc:"The value of a setting; empty for a secret."`
}

// History is an entry's versions, newest first.
type History struct {
	Name     string    `json:"name"`
	Layer    string    `json:"layer"`
	Versions []Version `json:"versions"`
}

// Edit is one step of a change.
type Edit struct {
	Name     string `json:"name" maxLength:"1000"`
	Kind     string `json:"kind,omitempty" enum:"secret,setting,nothing"`
	Value    string `json:"value,omitempty" doc:"Plaintext for a secret, in the encoding that follows."`
	Encoding string `json:"encoding,omitempty" enum:"text,base64"`
	Remove   bool   `json:"remove,omitempty"`
}

// ChangeRequest commits edits to one layer together, or none of them.
type ChangeRequest struct {
	Reason string `json:"reason,omitempty" maxLength:"1000"`
	Edits  []Edit `json:"edits" maxItems:"1000"`
}

// Change is one commit to a layer.
type Change struct {
	Layer    string    `json:"layer"`
	Revision int64     `json:"revision"`
	At       time.Time `json:"at"`
	Author   string    `json:"author"`
	Reason   string    `json:"reason"`
	Effects  []Effect  `json:"effects"`
}

// Effect is what a change did to one entry.
type Effect struct {
	Name    string `json:"name"`
	Act     string `json:"act" enum:"added,replaced,removed"`
	Kind    string `json:"kind"`
	Version int64  `json:"version,omitempty"`
}

// Event is one line of the trail, with names in place of ids.
type Event struct {
	Lane        string    `json:"lane"`
	Seq         int64     `json:"seq"`
	At          time.Time `json:"at"`
	Action      string    `json:"action"`
	Outcome     string    `json:"outcome" enum:"allowed,refused,failed"`
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

// Events is a page of the trail, newest first.
type Events struct {
	Events []Event `json:"events"`
	Next   string  `json:"next,omitempty" doc:"Cursor of the next page; empty at the end."`
}

// Verification is the result of checking the trail.
type Verification struct {
	Whole    bool           `json:"whole"`
	Events   int64          `json:"events"`
	Lanes    int            `json:"lanes"`
	Problems []TrailProblem `json:"problems"`
}

// TrailProblem is something that is wrong with the trail.
type TrailProblem struct {
	Lane string `json:"lane"`
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
