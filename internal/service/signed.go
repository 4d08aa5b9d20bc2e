package service

import (
	"strconv"
	"strings"
	"time"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/envelope"
	"adytum.example/internal/storage"
)

// lackingCodes are the people whom the organization asks for codes and who have
// none.
func lackingCodes(d *storage.Directory) (all []access.Subject) {
	if !d.Organization.Codes {
		return nil
	}
	has := map[int64]bool{}
	for _, f := range d.Factors {
		has[f.PersonID] = f.ConfirmedAt != nil
	}
	for _, a := range d.Accounts {
		has[a.PersonID] = true
	}
	for _, p := range d.People {
		if !has[p.ID] {
			all = append(all, access.Subject{Kind: access.Person, ID: p.ID})
		}
	}
	return all
}

// directoryManifest signs everything that access is decided on. A person's name
// is left out, so that it can be erased.
func (k *keyring) directoryManifest(d *storage.Directory) []byte {
	var rows []envelope.Row
	add := func(kind string, id int64, parts ...string) {
		rows = append(rows, envelope.Row{Key: kind + envelope.Number(id), Parts: parts})
	}
	at := func(t time.Time) string { return envelope.Number(t.UnixMicro()) }
	if d.Organization.Codes {
		add("policy", 0, "codes")
	}
	for _, p := range d.Projects {
		add("project", p.ID, p.Name, envelope.Number(int64(p.KeepRemovedDays)), envelope.Number(int64(p.MaxAgeDays)), moment(p.RemovedAt), moment(p.PurgeAt), moment(p.DestroyedAt))
	}
	for _, e := range d.Environments {
		approval := ""
		if e.Approval {
			approval = "approval"
		}
		add("environment", e.ID, some([]string{envelope.Number(e.ProjectID), e.Name, envelope.Number(orZero(e.Follows)), strconv.FormatBool(e.Protected),
			envelope.Number(int64(e.MaxAgeDays)), moment(e.RemovedAt), moment(e.PurgeAt), moment(e.DestroyedAt)}, approval)...)
	}
	for _, p := range d.People {
		add("person", p.ID, some([]string{p.Login, p.Password}, moment(p.RemovedAt))...)
	}
	for _, w := range d.Workloads {
		add("workload", w.ID, w.Name, w.ClientID)
	}
	for _, c := range d.ClientSecrets {
		add("client secret", c.ID, some([]string{envelope.Number(c.WorkloadID), string(c.Hash)}, moment(c.ExpiresAt))...)
	}
	for _, g := range d.Grants {
		add("grant", g.ID, some([]string{g.SubjectKind, envelope.Number(g.SubjectID), g.Role, envelope.Number(g.OnProject), envelope.Number(g.OnEnvironment)},
			g.Names, moment(g.Until), g.Networks)...)
	}
	for _, t := range d.Teams {
		add("team", t.ID, t.Name)
	}
	for _, m := range d.Members {
		add("member", m.TeamID, envelope.Number(m.PersonID))
	}
	for _, r := range d.Roles {
		add("role", r.ID, r.Name, r.Verbs)
	}
	for _, f := range d.Factors {
		add("factor", f.PersonID, string(f.Sealed), f.Recovery, moment(f.ConfirmedAt))
	}
	for _, i := range d.Issuers {
		add("issuer", i.ID, i.Name, i.URL)
	}
	for _, t := range d.Trusts {
		add("trust", t.ID, envelope.Number(t.WorkloadID), envelope.Number(t.IssuerID), t.Subject, t.Claims)
	}
	for _, p := range d.Providers {
		add("provider", p.ID, p.Name, p.URL, p.ClientID, string(p.Sealed))
	}
	for _, c := range d.Channels {
		add("channel", c.ID, c.Kind, c.Target, string(c.Sealed))
	}
	for _, y := range d.Decoys {
		add("decoy", y.ID, envelope.Number(y.LayerID), y.Name, envelope.Number(y.WorkloadID))
	}
	for _, a := range d.Accounts {
		add("account", a.PersonID, envelope.Number(a.ProviderID), a.Subject)
	}
	for _, r := range d.Requests {
		add("request", r.ID, envelope.Number(r.PersonID), r.Role, envelope.Number(r.OnProject), envelope.Number(r.OnEnvironment), envelope.Number(int64(r.Hours)), r.Reason, at(r.CreatedAt))
	}
	for _, i := range d.Invitations {
		add("invitation", i.PersonID, string(i.Hash), at(i.ExpiresAt))
	}
	for _, f := range d.Frozen {
		add("frozen "+f.Kind, f.Of, at(f.Since))
	}
	for _, r := range d.Revoked {
		add("revoked", r.TokenID, at(r.Until))
	}
	for _, l := range d.Layers {
		add("layer", l.ID, envelope.Number(l.ProjectID), envelope.Number(orZero(l.EnvironmentID)), envelope.Number(orZero(l.PersonID)))
	}
	return envelope.Manifest(k.manifests, "organization "+k.organization, d.Organization.Revision, rows)
}

// some appends what was added to a record later, where any of it is set: what was
// signed before it could be set stays as it was signed.
func some(parts []string, more ...string) []string {
	if strings.Join(more, "") == "" {
		return parts
	}
	return append(parts, more...)
}
