// Package service is what can be asked of Adytum, one file per noun. Every
// operation checks access, does its work, and leaves its event; what it returns
// has passed all three. It knows neither HTTP nor SQL.
package service

import (
	"context"
	"errors"
	"log/slog"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"adytum.example/internal/core/access"
	"adytum.example/internal/core/layers"
	"adytum.example/internal/core/secret"
	"adytum.example/internal/core/trail"
	"adytum.example/internal/storage"
)

// Service answers for one installation. It is safe for concurrent use; several
// may run on one database.
type Service struct {
	store    *storage.Store
	keys     *keyring
	recorder *recorder
	flusher  *storage.Flusher
	now      func() time.Time
	clock    *clock
	log      *slog.Logger
	argon    chan struct{}
	sluice   sluice
	redact   func(string) string
	settling sync.Mutex
	settler  *time.Timer

	directory  atomic.Pointer[directory]
	layers     *layerCache
	sealed     *bounded[sealedID, *sealedVersion]
	tokens     *bounded[string, knownToken]
	asked      *bounded[string, *asked]
	plans      *bounded[planKey, *plan]
	outside    Outside
	issuerKeys issuerKeys
	roots      func() ([]*secret.Key, error)
	ending     chan struct{}

	identities     Identities
	messenger      Messenger
	tries          tries
	asking         asking
	sequencer      sequencer
	newest         atomic.Pointer[checkpoint]
	halted         atomic.Pointer[error]
	checkpointFile string
	keptSize       int64
	keepTrailDays  int
	beating        sync.WaitGroup
}

// Config is what a Service is made of.
type Config struct {
	Store    *storage.Store
	FlushURL string
	// RootKeys returns the root keys that this instance was given. It is asked
	// again when the root key is being renewed.
	RootKeys func() ([]*secret.Key, error)
	Now      func() time.Time // nil: Clock, corrected where it differs from the database's
	Clock    func() time.Time // nil: the system's clock
	Log      *slog.Logger
	// Redact takes values out of free text that people type, nil for none.
	Redact func(string) string
	// Identities signs people in through providers; nil: none.
	Identities Identities
	// Through wraps what makes events durable, for measures alone; nil: nothing does.
	Through func(Flusher) Flusher
	// Messenger sends alerts; nil: they are kept and not sent.
	Messenger Messenger
	// CheckpointFile is where the newest checkpoint of the trail is kept beside the
	// database, so that a database that is set back is noticed; "" for nowhere.
	CheckpointFile string
	// KeepTrailDays is after how many days events are given up; 0: never.
	KeepTrailDays int
	// Outside obtains the keys of issuers; nil: none are accepted.
	Outside Outside
}

// Open starts a Service. It refuses a database of another version, of a role
// with too many rights, that was not set up, or that belongs to another root key;
// it changes nothing in any of these cases.
func Open(ctx context.Context, c Config) (*Service, error) {
	machine := newClock(c.Clock)
	if c.Now == nil {
		c.Now = machine.now
	}
	if c.Redact == nil {
		c.Redact = func(s string) string { return s }
	}
	if err := c.Store.CheckVersion(ctx); err != nil {
		return nil, err
	}
	if err := c.Store.CheckRole(ctx); err != nil {
		return nil, err
	}
	given, err := c.RootKeys()
	if err != nil {
		return nil, err
	}
	defer func() {
		for _, key := range given {
			key.Destroy()
		}
	}()
	var keys *keyring
	err = c.Store.Snapshot(ctx, storage.OrganizationScope, func(tx *storage.Tx) (err error) {
		keys, err = openKeyring(tx, given)
		return err
	})
	if errors.Is(err, storage.ErrNotFound) {
		return nil, errors.New("the database is not set up; run \"adytumd setup\"")
	} else if err != nil {
		return nil, err
	}
	flusher, err := storage.NewFlusher(c.FlushURL)
	if err != nil {
		return nil, err
	}
	through := Flusher(flusher)
	if c.Through != nil {
		through = c.Through(flusher)
	}
	if durable, err := c.Store.Durable(ctx); err == nil && !durable {
		c.Log.Warn("the database runs with fsync or full_page_writes off: what is acknowledged may be lost in a crash")
	}
	s := &Service{
		store: c.Store, keys: keys, flusher: flusher, now: c.Now, clock: machine, checkpointFile: c.CheckpointFile, keepTrailDays: c.KeepTrailDays, log: c.Log, redact: c.Redact,
		recorder: newRecorder(through, keys.trail, c.Now, c.Log),
		argon:    make(chan struct{}, argonParallel),
		layers:   newLayerCache(), sealed: newSealedCache(), tokens: newTokenCache(),
		asked: newBounded[string](20_000, func(*asked) int { return 1 }), plans: newPlanCache(), outside: c.Outside, identities: c.Identities, messenger: c.Messenger,
		roots: c.RootKeys, ending: make(chan struct{}),
	}
	if err := s.checkStart(ctx, c.CheckpointFile); err != nil {
		s.recorder.close()
		flusher.Close(ctx)
		keys.destroy()
		return nil, err
	}
	if err := s.startBeating(ctx); err != nil {
		return nil, err
	}
	s.startSequencing()
	s.startSending()
	return s, nil
}

// Close writes the events that wait and lets go of the keys. No request may be
// under way or come after it.
func (s *Service) Close(ctx context.Context) {
	close(s.ending)
	s.beating.Wait()
	s.recorder.close()
	// What was written last is put in order as well, if that is quickly done.
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	s.tellSequencing(s.putInOrder(ctx, false))
	if err := s.keepCheckpoint(); err != nil {
		s.log.Error("the newest checkpoint could not be kept", "error", err)
	}
	s.flusher.Close(ctx)
	s.keys.destroy()
}

// Ready tells whether requests can be answered now.
func (s *Service) Ready(ctx context.Context) error {
	if err := s.errHalted(); err != nil {
		return err
	}
	return asProblem(s.store.Ping(ctx))
}

// Caller is someone who asks, as [Service.Authenticate] found them.
type Caller struct {
	Subject   access.Subject
	Token     int64
	Family    int64 // the sign-in that the token goes on with; 0: it does not go on
	ExpiresAt time.Time
	From      netip.Addr
	directory *directory
}

// Name is the caller's name for people.
func (c Caller) Name() string { return c.directory.subjectName(c.Subject) }

func (c Caller) actor() string {
	if c.Subject.Kind == "" {
		return ""
	}
	return c.Subject.String()
}

// NoteInvalid records a request of a caller that was malformed and reached no
// operation.
func (s *Service) NoteInvalid(ctx context.Context, caller Caller, operation string) {
	op := s.begin(ctx, caller, "request.malformed", layers.Place{})
	op.event.Outcome, op.event.Names = trail.Failed, []string{operation}
	var err error
	op.end(&err)
}

// operation is one request on its way: what was decided for it, and the event
// that it will leave.
type operation struct {
	service  *Service
	ctx      context.Context
	caller   Caller
	dir      *directory
	event    trail.Event
	recorded bool
	approved *storage.Proposal // that the operation carries out; nil: none
	at       time.Time         // at which it is decided what the caller may do
}

// begin starts an operation of a caller who signed in.
func (s *Service) begin(ctx context.Context, caller Caller, action string, place layers.Place) *operation {
	return &operation{service: s, ctx: ctx, caller: caller, dir: caller.directory, at: s.now(), event: trail.Event{
		Action: action, Outcome: trail.Allowed, Actor: caller.actor(), Token: caller.Token, From: caller.From.String(),
		Project: s.redact(place.Project), Environment: s.redact(place.Environment),
	}}
}

// end records the operation's event, unless its own transaction or a release
// did, and makes the error one for callers. A request whose event cannot be
// recorded is refused.
func (op *operation) end(err *error) {
	*err = asProblem(*err)
	if op.recorded {
		return
	}
	if *err != nil && op.event.Outcome == trail.Allowed {
		op.event.Outcome = trail.Failed
	}
	if noteErr := op.service.recorder.note(op.ctx, op.event); noteErr != nil && *err == nil {
		*err = noteErr
	}
}

// asker is the caller with the circumstances in which they ask.
func (op *operation) asker() access.Asker {
	return access.Asker{Subject: op.caller.Subject, From: op.caller.From, At: op.at}
}

// may tells whether the caller may do verb to everything at a place.
func (op *operation) may(verb access.Verb, where access.Where) (access.Grant, bool) {
	return op.dir.grants.Decide(op.asker(), verb, where)
}

// mayName tells whether the caller may do verb to a name at a place.
func (op *operation) mayName(verb access.Verb, where access.Where, name string) (access.Grant, bool) {
	return op.dir.grants.DecideName(op.asker(), verb, where, name)
}

// maySome tells whether the caller may do verb to some names at a place.
func (op *operation) maySome(verb access.Verb, where access.Where) (access.Grant, bool) {
	return op.dir.grants.DecideSome(op.asker(), verb, where)
}

// locate finds the place in the directory and checks a verb there. What the
// caller may not know of answers like what does not exist.
func (op *operation) locate(place layers.Place, verb access.Verb) (located, error) {
	l, err := op.find(place)
	if err != nil {
		return l, err
	}
	return l, op.allow(verb, l)
}

// find finds the place without asking for a verb there.
func (op *operation) find(place layers.Place) (located, error) {
	l, exists := op.dir.locate(place)
	who := op.asker()
	switch {
	case place.Project == "":
		return l, nil
	case l.where.Project == 0 || !op.dir.grants.KnowsProject(who, l.where.Project):
		op.event.Outcome = trail.Refused
		return l, problem(NotFound, "there is no project %q%s", op.service.redact(place.Project), op.nearProject(place.Project))
	case !exists || place.Environment != "" && !op.dir.grants.KnowsEnvironment(who, l.where):
		op.event.Outcome = trail.Refused
		return l, problem(NotFound, "the project %s has no environment %q%s", place.Project, op.service.redact(place.Environment), op.nearEnvironment(place))
	}
	return l, nil
}

// locateSome finds the place and checks a verb for some names there.
func (op *operation) locateSome(place layers.Place, verb access.Verb) (located, error) {
	l, err := op.find(place)
	if err != nil {
		return l, err
	}
	return l, op.allowSome(verb, l)
}

// allow checks a verb for everything at a place that the caller may know of.
func (op *operation) allow(verb access.Verb, l located) error {
	grant, allowed := op.may(verb, l.where)
	if !allowed {
		return op.denied(verb, l, "")
	}
	op.event.Grant = grant.ID
	return nil
}

// allowSome checks a verb for some names at a place.
func (op *operation) allowSome(verb access.Verb, l located) error {
	grant, allowed := op.maySome(verb, l.where)
	if !allowed {
		return op.denied(verb, l, "")
	}
	op.event.Grant = grant.ID
	return nil
}

// allowName checks a verb for one name at a place.
func (op *operation) allowName(verb access.Verb, l located, name string) error {
	grant, allowed := op.mayName(verb, l.where, name)
	if !allowed {
		return op.denied(verb, l, name)
	}
	op.event.Grant = grant.ID
	return nil
}

// denied says what the caller may not do, and what keeps them from it.
func (op *operation) denied(verb access.Verb, l located, name string) error {
	op.event.Outcome = trail.Refused
	if f, frozen := op.dir.grants.Freeze(op.caller.Subject, verb, l.where); frozen {
		return problem(Forbidden, "%s is frozen, so that nobody may %s there; an owner can thaw it", op.dir.frozenName(f), access.Phrase(verb))
	}
	what := access.Phrase(verb)
	if _, some := op.maySome(verb, l.where); some && name != "" {
		what += " " + op.service.redactName(name)
	} else if some {
		what += " all names"
	}
	if l.place.Project == "" {
		return problem(Forbidden, "%s may not %s in the organization; an owner can grant it", op.caller.Name(), what)
	}
	return problem(Forbidden, "%s may not %s in %s; a steward of it or an owner can grant it", op.caller.Name(), what, l.place)
}

func (op *operation) nearProject(misspelt string) string {
	var known []string
	for _, p := range op.dir.projects {
		if op.dir.grants.KnowsProject(op.asker(), p.ID) {
			known = append(known, p.Name)
		}
	}
	return didYouMean(misspelt, known)
}

func (op *operation) nearEnvironment(place layers.Place) string {
	var known []string
	for _, e := range op.dir.environmentsOf(place.Project) {
		if op.dir.grants.KnowsEnvironment(op.asker(), access.Where{Project: e.ProjectID, Environment: e.ID}) {
			known = append(known, e.Name)
		}
	}
	return didYouMean(place.Environment, known)
}

func didYouMean(misspelt string, known []string) string {
	if near := layers.Nearest(misspelt, known); near != "" && near != misspelt {
		return "; did you mean " + near + "?"
	}
	return ""
}
