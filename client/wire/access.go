package wire

import "time"

// Person can sign in with a password.
type Person struct {
	Login          string    `json:"login"`
	Name           string    `json:"name"`
	Codes          bool      `json:"codes,omitempty" doc:"Signs in with a time-based code as well."`
	InvitationEnds time.Time `json:"invitationEnds,omitzero" doc:"Until when the person can choose a password with the invitation."`
	// Invitation is set in the answer to its making alone.
	Invitation string `json:"invitation,omitempty" doc:"Plaintext, shown once."`
	Provider   string `json:"provider,omitempty" doc:"Through which the person signs in."`
}

// Acceptance chooses a password with an invitation.
type Acceptance struct {
	Invitation string `json:"invitation" maxLength:"200"`
	Password   string `json:"password" maxLength:"1000" doc:"Plaintext."`
}

// PasswordChange gives oneself another password.
type PasswordChange struct {
	Old string `json:"old" maxLength:"1000" doc:"Plaintext."`
	New string `json:"new" maxLength:"1000" doc:"Plaintext."`
}

// NewFactor is the seed of time-based codes, for an authenticator.
type NewFactor struct {
	Secret string `json:"secret" doc:"Base32, shown once."`
	URI    string `json:"uri" doc:"The same as an otpauth URI."`
}

// Code is a time-based code or a recovery code.
type Code struct {
	Code string `json:"code" maxLength:"100"`
}

// RecoveryCodes are each good once in place of a time-based code.
type RecoveryCodes struct {
	Codes []string `json:"codes" doc:"Shown once."`
}

// OpenSession is a token of somebody that can be used.
type OpenSession struct {
	ID      int64     `json:"id"`
	Since   time.Time `json:"since"`
	Until   time.Time `json:"until"`
	From    string    `json:"from,omitempty" doc:"The network address that signed in."`
	Current bool      `json:"current,omitempty" doc:"The one that asks."`
}

// NewPerson is a person to add.
type NewPerson struct {
	Login    string `json:"login" maxLength:"200"`
	Name     string `json:"name" maxLength:"200"`
	Password string `json:"password,omitempty" maxLength:"1000" doc:"Plaintext; empty: the person chooses one with an invitation."`
	Provider string `json:"provider,omitempty" maxLength:"63" doc:"The person signs in through this provider, with the login as e-mail address the first time, and has no password."`
}

// Workload is a program that signs in on its own.
type Workload struct {
	Name      string    `json:"name"`
	ClientID  string    `json:"clientId"`
	CreatedAt time.Time `json:"createdAt"`
	// ClientSecret is set in the answer to its creation alone.
	ClientSecret string `json:"clientSecret,omitempty" doc:"Plaintext, shown once."`
}

// Grant gives someone a role somewhere.
type Grant struct {
	ID          int64     `json:"id"`
	Kind        string    `json:"kind" enum:"person,workload,team"`
	Who         string    `json:"who" doc:"A person's login, or the name of a workload or a team."`
	Role        string    `json:"role"`
	Project     string    `json:"project,omitempty" doc:"Empty: the whole organization."`
	Environment string    `json:"environment,omitempty" doc:"Empty: the whole project."`
	Names       string    `json:"names,omitempty" doc:"A pattern of names in which * stands for any characters; empty: all names."`
	Until       time.Time `json:"until,omitzero" doc:"When it ends."`
	From        []string  `json:"from,omitempty" doc:"The networks from which it holds; empty: from everywhere."`
}

// NewGrant is a grant to add.
type NewGrant struct {
	Kind        string     `json:"kind" enum:"person,workload,team"`
	Who         string     `json:"who" maxLength:"200"`
	Role        string     `json:"role" maxLength:"63"`
	Project     string     `json:"project,omitempty" maxLength:"63"`
	Environment string     `json:"environment,omitempty" maxLength:"63"`
	Names       string     `json:"names,omitempty" maxLength:"200" doc:"A pattern of names in which * stands for any characters; empty: all names."`
	Until       *time.Time `json:"until,omitempty" doc:"When it ends."`
	From        []string   `json:"from,omitempty" maxItems:"50" doc:"The networks from which it holds (RFC 4632); empty: from everywhere."`
}

// Team is a group of people that can be granted roles.
type Team struct {
	Name   string   `json:"name"`
	People []string `json:"people" doc:"Their logins."`
}

// Member is a person to put into a team.
type Member struct {
	Login string `json:"login" maxLength:"200"`
}

// Role is a named set of verbs.
type Role struct {
	Name    string   `json:"name"`
	Verbs   []string `json:"verbs"`
	BuiltIn bool     `json:"builtIn,omitempty" doc:"Every organization has it, and it stays as it is."`
}

// NewRole is a role to define.
type NewRole struct {
	Name  string   `json:"name" maxLength:"63"`
	Verbs []string `json:"verbs" minItems:"1" maxItems:"20"`
}

// Freeze names what to freeze or to thaw.
type Freeze struct {
	Kind   string `json:"kind" enum:"person,workload,project,organization"`
	Name   string `json:"name,omitempty" maxLength:"200" doc:"A login or a name; empty for the organization."`
	Reason string `json:"reason,omitempty" maxLength:"1000"`
}

// Frozen is something that is frozen.
type Frozen struct {
	Kind  string    `json:"kind" enum:"person,workload,project,organization"`
	Name  string    `json:"name,omitempty"`
	Since time.Time `json:"since"`
}

// Issuer is one whose signed tokens are accepted.
type Issuer struct {
	Name     string `json:"name"`
	URL      string `json:"url" doc:"Exactly what stands in its tokens as iss."`
	Audience string `json:"audience" doc:"What its tokens must have as their only aud."`
}

// NewIssuer is an issuer to accept tokens of.
type NewIssuer struct {
	Name string `json:"name" maxLength:"63"`
	URL  string `json:"url" maxLength:"500"`
}

// Trust lets a workload sign in with an issuer's tokens.
type Trust struct {
	ID      int64             `json:"id"`
	Issuer  string            `json:"issuer"`
	Subject string            `json:"subject"`
	Claims  map[string]string `json:"claims,omitempty"`
}

// NewTrust is a trust to add.
type NewTrust struct {
	Issuer  string            `json:"issuer" maxLength:"63"`
	Subject string            `json:"subject" maxLength:"500" doc:"A pattern: * stands for one whole segment between : or /."`
	Claims  map[string]string `json:"claims,omitempty" doc:"Claims that must have exactly this value."`
}

// RoleRequest is a role that a person asks for, for some hours.
type RoleRequest struct {
	ID          int64     `json:"id"`
	Who         string    `json:"who" doc:"The person's name."`
	Login       string    `json:"login"`
	Role        string    `json:"role"`
	Project     string    `json:"project"`
	Environment string    `json:"environment,omitempty"`
	Hours       int       `json:"hours"`
	Reason      string    `json:"reason,omitempty"`
	At          time.Time `json:"at"`
	Mine        bool      `json:"mine,omitempty" doc:"The caller has asked; somebody else answers."`
}

// NewRoleRequest asks for a role for some hours.
type NewRoleRequest struct {
	Role        string `json:"role" maxLength:"63"`
	Project     string `json:"project" maxLength:"63"`
	Environment string `json:"environment,omitempty" maxLength:"63"`
	Hours       int    `json:"hours" minimum:"1" maximum:"72"`
	Reason      string `json:"reason,omitempty" maxLength:"1000"`
}

// Answer to a request.
type RequestAnswer struct {
	Granted bool   `json:"granted"`
	Reason  string `json:"reason,omitempty" maxLength:"1000"`
}

// ClientSecret is one of a workload's secrets. Several can hold at once, so that
// one is replaced without a gap.
type ClientSecret struct {
	ID        int64     `json:"id"`
	CreatedAt time.Time `json:"createdAt"`
	ExpiresAt time.Time `json:"expiresAt,omitzero"`
	LastUsed  time.Time `json:"lastUsed,omitzero"`
	// ClientSecret is set in the answer to its creation alone.
	ClientSecret string `json:"clientSecret,omitempty" doc:"Plaintext, shown once."`
}

// NewClientSecret is a client secret to make.
type NewClientSecret struct {
	Days int `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"After which it ends; 0: never."`
}

// Reach is one grant with what it allows, as an explanation shows it.
type Reach struct {
	Grant Grant    `json:"grant"`
	Who   string   `json:"who" doc:"A person's or a workload's name, for people."`
	Login string   `json:"login" doc:"A person's login or a workload's name."`
	Kind  string   `json:"kind" enum:"person,workload"`
	Verbs []string `json:"verbs"`
	Via   string   `json:"via,omitempty" doc:"The team through which it holds, or the environment whose grant reads the layer that was asked about."`
	State string   `json:"state" enum:"holds,ended,frozen"`
}

// Explanation is who can do what somewhere, or what somebody can reach.
type Explanation struct {
	Place string  `json:"place,omitempty"`
	Name  string  `json:"name,omitempty"`
	Rows  []Reach `json:"rows"`
}

// Preview is what a grant would newly allow.
type Preview struct {
	Grant Grant  `json:"grant"`
	Gains []Gain `json:"gains"`
}

// Gain is what somebody would newly be allowed in a place.
type Gain struct {
	Who     string   `json:"who"`
	Place   string   `json:"place"`
	Verbs   []string `json:"verbs"`
	Entries int      `json:"entries" doc:"How many entries there the verbs would reach."`
}

// Exposure is what somebody has obtained: what to replace on the day they leave.
type Exposure struct {
	Who  string         `json:"who"`
	Rows []ExposedEntry `json:"rows" doc:"Values that are still in force first, then by how often they were obtained."`
}

// ExposedEntry is one name of which values were obtained.
type ExposedEntry struct {
	Place     string    `json:"place" doc:"Where it was asked for."`
	Reference string    `json:"reference"`
	Times     int       `json:"times"`
	First     time.Time `json:"first"`
	Last      time.Time `json:"last"`
	Replaced  time.Time `json:"replaced,omitzero" doc:"When a newer version than any that was obtained was kept; zero: what was obtained is still in force."`
	Gone      bool      `json:"gone,omitempty" doc:"Nothing answers to it any more."`
}

// Proposal is a change that waits for a second person's approval. It shows no values.
type Proposal struct {
	ID          int64            `json:"id"`
	Who         string           `json:"who"`
	Mine        bool             `json:"mine,omitempty"`
	Project     string           `json:"project,omitempty"`
	Environment string           `json:"environment,omitempty"`
	Base        int64            `json:"base" doc:"The revision that it is for; once the layer has moved on it must be proposed anew."`
	Action      string           `json:"action"`
	Reason      string           `json:"reason,omitempty"`
	At          time.Time        `json:"at"`
	Effects     []Effect         `json:"effects"`
	Hidden      int              `json:"hidden,omitempty" doc:"Effects on names that the caller may not list."`
	Edit        *EnvironmentEdit `json:"edit,omitempty" doc:"Of an environment's policies."`
	Was         *Environment     `json:"was,omitempty" doc:"What the environment is before the edit."`
}

// ProposalAnswer approves a proposal or declines it.
type ProposalAnswer struct {
	Approved bool   `json:"approved"`
	Reason   string `json:"reason,omitempty" maxLength:"1000"`
}

// Device is one that waits to be let in (RFC 8628).
type Device struct {
	Host    string    `json:"host" doc:"What the device calls itself."`
	Network string    `json:"network" doc:"The address that it asks from."`
	AskedAt time.Time `json:"askedAt"`
	Same    bool      `json:"same" doc:"It asks from the address that the caller has."`
}

// DeviceCode is a code as a person typed it.
type DeviceCode struct {
	Code string `json:"code" maxLength:"40"`
}

// DeviceAnswer lets a device in, or does not.
type DeviceAnswer struct {
	Code    string `json:"code" maxLength:"40"`
	Allowed bool   `json:"allowed"`
}

// Provider is an identity provider that people sign in through (OpenID Connect).
type Provider struct {
	Name     string `json:"name"`
	URL      string `json:"url"`
	ClientID string `json:"clientId"`
	Callback string `json:"callback,omitempty" doc:"The address to register there as a redirect URI."`
}

// NewProvider is a provider to add.
type NewProvider struct {
	Name         string `json:"name" maxLength:"63"`
	URL          string `json:"url" maxLength:"500"`
	ClientID     string `json:"clientId" maxLength:"200"`
	ClientSecret string `json:"clientSecret" maxLength:"1000" doc:"Plaintext."`
}

// Alert is something out of the ordinary that a person should look at. It holds no
// values.
type Alert struct {
	ID     int64     `json:"id"`
	At     time.Time `json:"at"`
	Kind   string    `json:"kind" enum:"refusals,volume,new-network,everything,hours,decoy,test"`
	Actor  string    `json:"actor,omitempty"`
	Who    string    `json:"who,omitempty" doc:"Empty: nobody who signed in."`
	From   string    `json:"from,omitempty" doc:"The network address."`
	Place  string    `json:"place,omitempty"`
	What   string    `json:"what"`
	Event  string    `json:"event,omitempty" doc:"LANE:NUMBER of the event in the trail that gave rise to it."`
	SeenBy string    `json:"seenBy,omitempty" doc:"Who has looked at it; empty: nobody yet."`
}

// Alerts are a page of alerts, newest first.
type Alerts struct {
	Alerts []Alert `json:"alerts"`
	Next   string  `json:"next,omitempty" doc:"Cursor of the next page; empty at the end."`
}

// SentAlert is an alert as a webhook gets it, with the newest checkpoint of the
// trail, to be kept.
type SentAlert struct {
	Alert
	Organization string `json:"organization"`
	Checkpoint   string `json:"checkpoint,omitempty"`
}

// Channel is where alerts are sent.
type Channel struct {
	ID      int64     `json:"id"`
	Kind    string    `json:"kind" enum:"webhook,mail"`
	Target  string    `json:"target" doc:"A mail address, or the host of a webhook: the rest of its address may be a credential."`
	Since   time.Time `json:"since"`
	Last    time.Time `json:"last,omitzero" doc:"When an alert last arrived."`
	Problem string    `json:"problem,omitempty" doc:"Why the newest alert did not arrive."`
	Key     string    `json:"key,omitempty" doc:"The Ed25519 public key that requests to a webhook are signed with (RFC 9421), base64."`
	KeyID   string    `json:"keyId,omitempty"`
}

// NewChannel is a channel to add.
type NewChannel struct {
	Kind   string `json:"kind" enum:"webhook,mail"`
	Target string `json:"target" maxLength:"500"`
}

// Decoy is an entry or a workload that nobody needs: its use is an alert at once.
type Decoy struct {
	ID          int64     `json:"id"`
	Name        string    `json:"name,omitempty"`
	Project     string    `json:"project,omitempty"`
	Environment string    `json:"environment,omitempty"`
	Workload    string    `json:"workload,omitempty"`
	Since       time.Time `json:"since"`
}

// NewDecoy marks an entry of a layer, or a workload.
type NewDecoy struct {
	Name        string `json:"name,omitempty" maxLength:"255"`
	Project     string `json:"project,omitempty" maxLength:"63"`
	Environment string `json:"environment,omitempty" maxLength:"63"`
	Workload    string `json:"workload,omitempty" maxLength:"63"`
}

// Seen says that somebody has looked at something.
type Seen struct {
	Reason string `json:"reason,omitempty" maxLength:"1000"`
}

// Organization is the one tenant of an installation, with what it asks of everybody.
type Organization struct {
	Name  string `json:"name"`
	Codes bool   `json:"codes" doc:"Whoever signs in with a password must have time-based codes."`
}

// OrganizationEdit is a change to what the organization asks of everybody; what is
// not given stays.
type OrganizationEdit struct {
	Codes *bool `json:"codes,omitempty"`
}
