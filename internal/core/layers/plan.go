package layers

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"adytum.example/internal/core/reference"
)

// Act is what an edit asks for.
type Act string

// The acts that there are.
const (
	Keep     Act = "keep"     // a new version
	Describe Act = "describe" // other details, the same value
	Remove   Act = "remove"   // recoverably
	Restore  Act = "restore"  // what was removed last under the name
	Rename   Act = "rename"
	Revert   Act = "revert"  // a new version with the value of an older one
	Destroy  Act = "destroy" // a version, or all of the entry
)

// Edit is one step of a change.
type Edit struct {
	Act     Act
	Name    string
	Entry   int64  // the entry meant where its name does not tell; 0: by its name
	Kind    Kind   // of the version to keep
	To      string // the new name, for Rename and Revert
	Version int64  // to revert to or to destroy; 0: the present one, all of them
	Details *Details
}

// What an effect did.
const (
	Added        = "added"
	Replaced     = "replaced"
	Described    = "described"
	WasRemoved   = "removed"
	Restored     = "restored"
	Renamed      = "renamed"
	WasDestroyed = "destroyed"
)

// Effect is what one edit of a change does.
type Effect struct {
	Did   string
	Edit  Edit
	Entry *Entry // as it was before; nil where it was not there
}

// MaxEdits is how many entries one change may touch.
const MaxEdits = 1000

// Plan says what a change would do to a layer, or everything that is wrong with
// it. A change without an effect is wrong as well.
func Plan(layer *Layer, edits []Edit, now time.Time) ([]Effect, []error) {
	if len(edits) == 0 {
		return nil, []error{fmt.Errorf("the change names no entry; name at least one")}
	}
	if len(edits) > MaxEdits {
		return nil, []error{fmt.Errorf("the change names %d entries; one change has at most %d", len(edits), MaxEdits)}
	}
	p := &planner{layer: layer, now: now, folded: make(map[string]string, len(layer.Entries)), named: map[string]bool{}}
	for name := range layer.Entries {
		p.folded[strings.ToUpper(name)] = name
	}
	// Edits of entries by their id come from undoing, and may exchange names: all
	// that they free is free from the start.
	byID := layer.byID()
	for _, e := range edits {
		if present := byID[e.Entry]; present != nil && (e.Act == Remove || e.To != "") && present.Removed.IsZero() {
			delete(p.folded, strings.ToUpper(present.Name))
		}
	}
	effects := make([]Effect, 0, len(edits))
	for _, e := range edits {
		if effect, err := p.step(e); err != nil {
			p.problems = append(p.problems, err)
		} else {
			effects = append(effects, effect)
		}
	}
	if len(p.problems) > 0 {
		return nil, p.problems
	}
	return effects, nil
}

type planner struct {
	layer    *Layer
	now      time.Time
	folded   map[string]string // upper-case name to the name that is set
	named    map[string]bool
	problems []error
}

func (p *planner) step(e Edit) (Effect, error) {
	if err := CheckName(e.Name); err != nil {
		return Effect{}, err
	}
	if e.Entry == 0 {
		if err := p.once(e.Name); err != nil {
			return Effect{}, err
		}
	}
	present := p.layer.Entries[e.Name]
	set := present != nil
	if e.Act == Destroy && !set {
		present = p.layer.removed(e.Name)
		set = present != nil
	}
	if e.Entry != 0 {
		present = p.layer.byID()[e.Entry]
		set = present != nil
	}
	effect := Effect{Edit: e, Entry: present}
	switch e.Act {
	case Keep:
		if !ValidKind(e.Kind) {
			return effect, fmt.Errorf("%s has the kind %q; there are secret, setting and nothing", e.Name, e.Kind)
		}
		if set {
			effect.Did = Replaced
			return effect, nil
		}
		effect.Did = Added
		return effect, p.claim(e.Name)
	case Restore:
		effect.Did = Restored
		if effect.Entry = p.layer.removed(e.Name); set {
			return effect, fmt.Errorf("%s is set in %s, so what was removed under that name cannot be restored; rename the present one first", e.Name, p.layer.Place)
		} else if effect.Entry == nil {
			return effect, fmt.Errorf("there is no removed %s in %s to restore%s", e.Name, p.layer.Place, p.near(e.Name))
		}
		return effect, p.claim(e.Name)
	}
	if !set {
		return effect, fmt.Errorf("%s is not set in %s and cannot be %s there%s", e.Name, p.layer.Place, done[e.Act], p.near(e.Name))
	}
	switch e.Act {
	case Describe:
		effect.Did = Described
	case Remove:
		effect.Did = WasRemoved
		if e.Entry == 0 {
			delete(p.folded, strings.ToUpper(e.Name))
		}
	case Revert:
		return p.revert(effect)
	case Destroy:
		effect.Did = WasDestroyed
		if e.Version < 0 || e.Version > present.Newest().Number {
			return effect, fmt.Errorf("%s has no version %d in %s; its newest is %d", e.Name, e.Version, p.layer.Place, present.Newest().Number)
		}
	case Rename:
		effect.Did = Renamed
		return effect, p.rename(e)
	default:
		return effect, fmt.Errorf("%s: there is no act %q", e.Name, e.Act)
	}
	return effect, nil
}

// done completes "cannot be … there".
var done = map[Act]string{Describe: "described", Remove: "removed", Rename: "renamed", Revert: "set back", Destroy: "destroyed"}

func (p *planner) revert(effect Effect) (Effect, error) {
	e := effect.Edit
	switch {
	case e.Version < 0 || e.Version > effect.Entry.Newest().Number:
		return effect, fmt.Errorf("%s has no version %d in %s; its newest is %d", e.Name, e.Version, p.layer.Place, effect.Entry.Newest().Number)
	case e.To != "":
		effect.Did = Renamed
		return effect, p.rename(e)
	case !effect.Entry.Removed.IsZero():
		effect.Did = Restored
		return effect, p.claim(e.Name)
	case e.Version == 0:
		effect.Did = Described
		return effect, nil
	}
	effect.Did = Replaced
	return effect, nil
}

func (p *planner) rename(e Edit) error {
	if err := CheckName(e.To); err != nil {
		return err
	}
	if e.To == e.Name {
		return fmt.Errorf("%s has that name already", e.Name)
	}
	if e.Entry == 0 {
		if err := p.once(e.To); err != nil {
			return err
		}
		delete(p.folded, strings.ToUpper(e.Name))
	}
	if p.folded[strings.ToUpper(e.To)] == e.To {
		return fmt.Errorf("%s cannot be renamed to %s, which is set in %s already", e.Name, e.To, p.layer.Place)
	}
	return p.claim(e.To)
}

func (p *planner) once(name string) error {
	if p.named[name] {
		return fmt.Errorf("%s is named twice in one change; name it once", name)
	}
	p.named[name] = true
	return nil
}

// claim takes a name, and refuses one that differs from another in case alone.
func (p *planner) claim(name string) error {
	if other, taken := p.folded[strings.ToUpper(name)]; taken && other != name {
		if p.layer.Tells != nil && !p.layer.Tells(other) {
			other = "another name"
		}
		return fmt.Errorf("%s differs from %s, which is set in %s, in upper and lower case alone; use that name", name, other, p.layer.Place)
	}
	p.folded[strings.ToUpper(name)] = name
	return nil
}

func (p *planner) near(name string) string {
	names := Names([]*Layer{p.layer})
	if p.layer.Tells != nil {
		names = slices.DeleteFunc(names, func(n string) bool { return !p.layer.Tells(n) })
	}
	if near := Nearest(name, names); near != "" && near != name {
		return "; did you mean " + near + "?"
	}
	return ""
}

// removed is what was removed last under a name and can be restored.
func (l *Layer) removed(name string) *Entry {
	for i := len(l.Removed) - 1; i >= 0; i-- {
		if l.Removed[i].Name == name {
			return l.Removed[i]
		}
	}
	return nil
}

// CheckName says what is wrong with the name of an entry.
func CheckName(name string) error {
	switch {
	case name == "":
		return fmt.Errorf("an entry's name is empty; it is a letter or \"_\", then letters, digits and \"_\"")
	case len(name) > reference.MaxName:
		return fmt.Errorf("the name %.20s… has %d characters; at most %d are allowed", name, len(name), reference.MaxName)
	case !reference.ValidName(name):
		return fmt.Errorf("%q is not a name; a name is a letter or \"_\", then letters, digits and \"_\"", name)
	case strings.HasPrefix(strings.ToUpper(name), "ADYTUM_"):
		return fmt.Errorf("%s is reserved: names that begin with ADYTUM_ are the client's own settings", name)
	}
	return nil
}
