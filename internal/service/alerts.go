package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"adytum.example/client/wire"
	"adytum.example/internal/core/access"
	"adytum.example/internal/core/alert"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/reference"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// watcher looks at events as they come into the tree, which each does once, and
// raises alerts in the same transaction. Only the one who puts the trail in order
// uses it.
type watcher struct {
	baselines map[string]*alert.Baseline // of identities that were seen in this step
	last      map[string]string          // what an identity obtained last, as it stands in the event
	names     map[string][]string        // by how they stand in the event
	raised    []storage.Alert
}

// obtaining are the actions that give values.
var obtaining = map[string]bool{"entry.value": true, "entry.resolve": true, "project.archive": true}

func newWatcher() *watcher {
	return &watcher{baselines: map[string]*alert.Baseline{}, last: map[string]string{}, names: map[string][]string{}}
}

// watch looks at the events of a step.
func (w *watcher) watch(tx *storage.Tx, d *directory, briefs []trail.Brief) error {
	if err := w.load(tx, briefs); err != nil {
		return err
	}
	latest := map[string]time.Time{}
	for _, e := range briefs {
		if e.NotSent {
			continue
		}
		who, signedIn := access.ParseSubject(e.Actor)
		key := e.Actor
		if !signedIn {
			key = "from " + e.From
		}
		seen := alert.Seen{At: e.At, Actor: e.Actor, Person: who.Kind == access.Person, From: e.From, Refused: e.Outcome == trail.Refused, Times: int(min(e.Count, 1<<20)), Archive: e.Action == "project.archive" && e.Outcome == trail.Allowed}
		if e.Action == "lane.close" || !signedIn && !seen.Refused {
			continue
		}
		names := w.read(e.Names)
		if obtaining[e.Action] && e.Outcome == trail.Allowed {
			seen.Times = 0
			// A program obtains the same at each start: what it had already is no news.
			if who.Kind == access.Person || w.last[key] != string(e.Names) {
				for _, n := range names {
					seen.Obtained = append(seen.Obtained, e.Project+"/"+e.Environment+"/"+n)
				}
			}
			w.last[key] = string(e.Names)
		}
		raised := w.baselines[key].Observe(seen)
		if what := d.decoyIn(e, who, names); what != "" {
			raised = append(raised, alert.Raised{Kind: alert.Decoy, What: what})
		}
		for _, r := range raised {
			w.raised = append(w.raised, storage.Alert{At: e.At, Kind: string(r.Kind), Actor: e.Actor, Network: e.From, OnProject: e.Project, OnEnvironment: e.Environment, What: r.What, Lane: e.Lane, Seq: e.Seq})
		}
		latest[key] = e.At
	}
	return w.save(tx, latest)
}

func (w *watcher) load(tx *storage.Tx, briefs []trail.Brief) error {
	var missing []string
	for _, e := range briefs {
		key := e.Actor
		if key == "" {
			key = "from " + e.From
		}
		if !slices.Contains(missing, key) && w.baselines[key] == nil {
			missing = append(missing, key)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	stored, err := tx.Baselines(missing)
	if err != nil {
		return err
	}
	for _, key := range missing {
		b := &alert.Baseline{}
		if content := stored[key]; content != nil {
			_ = json.Unmarshal(content, b) // one that cannot be read begins anew
		}
		w.baselines[key] = b
	}
	return nil
}

func (w *watcher) save(tx *storage.Tx, latest map[string]time.Time) error {
	for key, at := range latest {
		content, err := json.Marshal(w.baselines[key])
		if err != nil {
			return fmt.Errorf("keep a baseline: %w", err)
		}
		if err := tx.SaveBaseline(key, content, at); err != nil {
			return err
		}
	}
	for i, a := range w.raised {
		made, err := tx.CreateAlert(a, a.At)
		if err != nil {
			return err
		}
		w.raised[i] = made
	}
	return nil
}

// read reads the names of an event, which come again and again.
func (w *watcher) read(names []byte) []string {
	if all, known := w.names[string(names)]; known || len(names) == 0 {
		return all
	}
	var all []string
	_ = json.Unmarshal(names, &all)
	if len(w.names) > 4096 {
		clear(w.names)
	}
	w.names[string(names)] = all
	return all
}

// decoyIn tells whether an event is a use of a decoy, in words.
func (d *directory) decoyIn(e trail.Brief, who access.Subject, names []string) string {
	if len(d.decoys) == 0 {
		return ""
	}
	for _, decoy := range d.decoys {
		if decoy.WorkloadID != 0 && who == (access.Subject{Kind: access.Workload, ID: decoy.WorkloadID}) {
			return fmt.Sprintf("the decoy workload %s was used", d.subjectName(who))
		}
	}
	if !obtaining[e.Action] {
		return ""
	}
	for _, text := range names {
		place := layers.Place{Project: e.Project, Environment: e.Environment}
		name := text
		if r, err := reference.Parse(text); err == nil {
			name = r.Name
			switch {
			case r.Scope == reference.Organization:
				place = layers.Place{}
			case r.Project != "":
				place = layers.Place{Project: r.Project, Environment: r.Environment}
			}
		}
		l, exists := d.locate(place)
		if !exists {
			continue
		}
		for _, decoy := range d.decoys {
			if decoy.Name == name && slices.Contains(l.chain, decoy.LayerID) {
				asked := "was obtained"
				if e.Outcome != trail.Allowed {
					asked = "was asked for"
				}
				return fmt.Sprintf("the decoy %s %s", name, asked)
			}
		}
	}
	return ""
}

// Alerts lists what was out of the ordinary, newest first. It needs audit.
func (s *Service) Alerts(ctx context.Context, caller Caller, open bool, cursor string, limit int) (out wire.Alerts, err error) {
	op := s.begin(ctx, caller, "alert.list", organizationPlace)
	defer op.end(&err)
	if err := op.allow(access.Audit, organization); err != nil {
		return out, err
	}
	below, err := readCursor(cursor)
	if err != nil {
		return out, err
	}
	out.Alerts = []wire.Alert{}
	err = s.store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		all, err := tx.Alerts(below, open, limit)
		for _, a := range all {
			out.Alerts = append(out.Alerts, op.dir.wireAlert(a))
			if len(all) == limit {
				out.Next = strconv.FormatInt(a.ID, 10)
			}
		}
		return err
	})
	return out, err
}

func (d *directory) wireAlert(a storage.Alert) wire.Alert {
	out := wire.Alert{ID: a.ID, At: a.At, Kind: a.Kind, Actor: a.Actor, From: a.Network, What: a.What, Event: fmt.Sprintf("%s:%d", a.Lane, a.Seq), SeenBy: a.SeenBy}
	if a.Lane == "" {
		out.Event = ""
	}
	if a.OnProject != "" {
		out.Place = layers.Place{Project: a.OnProject, Environment: a.OnEnvironment}.String()
	}
	if who, known := access.ParseSubject(a.Actor); known {
		out.Who = d.subjectName(who)
	}
	if who, known := access.ParseSubject(a.SeenBy); known {
		out.SeenBy = d.subjectName(who)
	}
	return out
}

// SeeAlert notes that the caller has looked at an alert. It needs audit.
func (s *Service) SeeAlert(ctx context.Context, caller Caller, id int64, reason string) (err error) {
	op := s.begin(ctx, caller, "alert.see", organizationPlace)
	op.event.Reason, op.event.Names = s.redact(reason), []string{strconv.FormatInt(id, 10)}
	defer op.end(&err)
	if err := op.allow(access.Audit, organization); err != nil {
		return err
	}
	return s.store.In(ctx, storage.OrganizationScope, func(tx *storage.Tx) error {
		done, err := tx.SeeAlert(id, caller.Subject.String(), s.now())
		if err == nil && !done {
			err = problem(NotFound, "there is no alert %d that is open", id)
		}
		return err
	})
}

// Decoys lists what is marked as needed by nobody, to those who manage there.
func (s *Service) Decoys(ctx context.Context, caller Caller) (out []wire.Decoy, err error) {
	op := s.begin(ctx, caller, "decoy.list", organizationPlace)
	defer op.end(&err)
	out = []wire.Decoy{}
	for _, d := range op.dir.decoys {
		if op.maySeeDecoy(d) {
			out = append(out, op.dir.wireDecoy(d))
		}
	}
	return out, nil
}

// maySeeDecoy tells whether the caller may know that something is a decoy.
func (op *operation) maySeeDecoy(d storage.Decoy) bool {
	verb, where := access.People, access.Where{}
	if d.WorkloadID == 0 {
		verb, where = access.Manage, op.dir.layerPlace(d.LayerID)
	}
	_, may := op.may(verb, where)
	return may
}

func (d *directory) wireDecoy(decoy storage.Decoy) wire.Decoy {
	if decoy.WorkloadID != 0 {
		return wire.Decoy{ID: decoy.ID, Workload: d.workloadNames[decoy.WorkloadID], Since: decoy.CreatedAt}
	}
	place := d.placeOf(d.layerPlace(decoy.LayerID))
	return wire.Decoy{ID: decoy.ID, Name: decoy.Name, Project: place.Project, Environment: place.Environment, Since: decoy.CreatedAt}
}

// AddDecoy marks an entry of a layer, or a workload, as needed by nobody: its use
// is an alert at once. It needs manage there, or people.
func (s *Service) AddDecoy(ctx context.Context, caller Caller, request wire.NewDecoy) (out wire.Decoy, err error) {
	place := layers.Place{Project: request.Project, Environment: request.Environment}
	op := s.begin(ctx, caller, "decoy.add", place)
	defer op.end(&err)
	if (request.Name == "") == (request.Workload == "") {
		return out, problem(Invalid, "name either an entry or a workload")
	}
	err = s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		row := storage.Decoy{CreatedAt: s.now().UTC().Truncate(time.Microsecond)}
		if request.Workload != "" {
			if err := op.allow(access.People, organization); err != nil {
				return err
			}
			who, exists := d.subject(string(access.Workload), request.Workload)
			if !exists {
				return problem(NotFound, "there is no workload %q", s.redact(request.Workload))
			}
			row.WorkloadID = who.ID
		} else {
			l, err := op.locate(place, access.Manage)
			if err != nil {
				return err
			}
			if err := layers.CheckName(request.Name); err != nil {
				return problem(Invalid, "%s", err)
			}
			row.LayerID, row.Name = l.layer, request.Name
		}
		row, err := tx.CreateDecoy(row)
		if err != nil {
			return taken(err, "a decoy", strings.TrimSpace(request.Name+request.Workload))
		}
		out = d.wireDecoy(row)
		return nil
	})
	return out, err
}

// RemoveDecoy marks something as needed again. It needs what adding needs. The
// trail does not say what it was: who may read the trail need not know the decoys.
func (s *Service) RemoveDecoy(ctx context.Context, caller Caller, id int64) (err error) {
	op := s.begin(ctx, caller, "decoy.remove", organizationPlace)
	defer op.end(&err)
	return s.changeDirectory(op, func(tx *storage.Tx, d *directory) error {
		for _, decoy := range d.decoys {
			if decoy.ID == id && op.maySeeDecoy(decoy) {
				return tx.DeleteDecoy(id)
			}
		}
		op.event.Outcome = trail.Refused
		return problem(NotFound, "there is no decoy %d", id)
	})
}
