package work

import (
	"context"
	"strings"
	"time"

	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/fencefile"
)

// UseGroup is what several uses make together, and its rhythm.
type UseGroup struct {
	usage.Group
	Habit string
}

// GroupUses groups the uses of a source by fields; 0 stands for the window of clipfence.yaml.
// Paths stand for the node of the inventory that they belong to, unless whole ones are asked
// for. It returns the window too.
func (w *Workspace) GroupUses(ctx context.Context, source string, q *usage.Filter, by []usage.Field,
	window model.Duration, whole bool) (usage.Window, *Source, []UseGroup, error) {
	if window == 0 {
		window = w.Window
	}
	asked := *q
	asked.Window = usage.WindowOf(w.now(), int(time.Duration(window).Hours()/24))
	src, err := w.pick(source)
	if err != nil {
		return asked.Window, nil, nil, err
	}
	s, err := w.Surveyed(ctx, src)
	if err != nil {
		return asked.Window, nil, nil, err
	}
	uses, _, err := w.uses(ctx, s)
	if err != nil {
		return asked.Window, nil, nil, err
	}
	place := s.nodeOf
	if whole {
		place = nil
	}
	var out []UseGroup
	for _, g := range usage.GroupBy(uses.All(), &asked, by, place) {
		out = append(out, UseGroup{g, string(usage.HabitOf(g.Days, usage.DayOf(w.now())).Rhythm)})
	}
	return asked.Window, s, out, nil
}

// nodeOf returns the node of the inventory that a path belongs to, or the path itself where it is of none.
func (s *Source) nodeOf(p model.Path) model.Path {
	if n, ok := s.Nearest(p); ok {
		return n
	}
	return p
}

// eachUses calls f with the uses of each source in question.
func (w *Workspace) eachUses(ctx context.Context, f func(*Source, *usage.Uses, *usage.Resolver) error) error {
	sources, err := w.each()
	if err != nil {
		return err
	}
	for _, src := range sources {
		s, err := w.Surveyed(ctx, src)
		if err != nil {
			return err
		}
		uses, r, err := w.uses(ctx, s)
		if err != nil {
			return err
		}
		if err := f(s, uses, r); err != nil {
			return err
		}
	}
	return nil
}

// StrangerSeen is a caller in a log that the estate does not list.
type StrangerSeen struct {
	Source  string   `json:"source"`
	Caller  model.ID `json:"caller"`
	Calls   int64    `json:"calls"`
	Refused int64    `json:"refused"`
	Days    int      `json:"days"`
	Last    string   `json:"last"`
	Example string   `json:"example"`
	Perhaps model.ID `json:"perhaps,omitzero" doc:"a guess: the only identity of the estate that has such a name, or one that goes on where it ends"`
	// GoesOn is why it may be Perhaps, where it is not for the name.
	GoesOn *GoesOn `json:"goes_on,omitempty"`
}

// GoesOn is what speaks for it that a caller goes on under another name.
type GoesOn struct {
	Last  string `json:"last" doc:"the day on which the one called last"`
	First string `json:"first" doc:"and the other first"`
	Same  int    `json:"same" doc:"of what the other does, permissions and places, how many the one did in its last 30 days"`
	Of    int    `json:"of"`
}

// namesakes finds listed identities by what a log may call them.
type namesakes map[string][]model.ID

// called returns what a name of a log has in common with the same name written otherwise: the name of an
// identity in an identity, the part before an @, case.
func called(name string) string {
	if id, err := model.ParseID(name); err == nil {
		name = id.Name
	}
	name, _, _ = strings.Cut(name, "@")
	return strings.ToLower(name)
}

func namesakesOf(s *Source) namesakes {
	out := namesakes{}
	for _, i := range s.Everybody() {
		if name := called(i.ID.Name); i.ID.Kind != model.Group && name != "" {
			out[name] = append(out[name], i.ID)
		}
	}
	return out
}

// of returns the only one of a name.
func (n namesakes) of(caller model.ID) model.ID {
	if is := n[called(caller.Name)]; len(is) == 1 {
		return is[0]
	}
	return model.ID{}
}

// YAML writes a text as a word for clipfence.yaml.
func YAML(s string) string { return fencefile.Scalar(s) }

// StrangersSeen lists callers that no survey knows, most calls first.
func (w *Workspace) StrangersSeen(ctx context.Context) ([]StrangerSeen, error) {
	rows := []StrangerSeen{}
	err := w.eachUses(ctx, func(s *Source, uses *usage.Uses, r *usage.Resolver) error {
		unknown := uses.Select(func(u *usage.Use) bool { return !r.Known(u.Identity) })
		refused := map[model.ID]int64{}
		example := map[model.ID]string{}
		for _, u := range unknown.All() {
			if u.Outcome == usage.Refused {
				refused[u.Identity] += u.Count
			}
			if example[u.Identity] == "" {
				example[u.Identity] = u.Permission.String() + " on " + u.Path.String()
			}
		}
		names := namesakesOf(s)
		goesOn := usage.GuessNames(uses, r.Known, s.nodeOf)
		for _, g := range usage.GroupBy(unknown.All(), &usage.Filter{}, []usage.Field{usage.ByIdentity}, nil) {
			id := g.Key.Identity
			x := StrangerSeen{s.Name, id, g.Count, refused[id], g.Days.Count(), g.Last.Format(time.DateOnly),
				example[id], names.of(id), nil}
			if o, ok := goesOn[id]; ok && (x.Perhaps.IsZero() || x.Perhaps == o.To) {
				x.Perhaps = o.To
				x.GoesOn = &GoesOn{dayWords(o.Last), dayWords(o.First), o.Same, o.Of}
			}
			rows = append(rows, x)
		}
		return nil
	})
	return rows, err
}

// UnmappedOperation is an operation in a log that the catalogue does not list.
type UnmappedOperation struct {
	Source    string           `json:"source"`
	Operation model.Permission `json:"operation"`
	Calls     int64            `json:"calls"`
	Callers   int              `json:"callers"`
	Last      time.Time        `json:"last"`
	File      string           `json:"file"`
	Line      int              `json:"line"`
	Example   string           `json:"example"`
}

// UnmappedOperations lists operations that are no permission of the catalogue, most calls
// first.
func (w *Workspace) UnmappedOperations(ctx context.Context) ([]UnmappedOperation, error) {
	rows := []UnmappedOperation{}
	err := w.eachUses(ctx, func(s *Source, uses *usage.Uses, r *usage.Resolver) error {
		examples, err := w.store.Examples(ctx, s.Name)
		if err != nil {
			return err
		}
		unmapped := uses.Select(func(u *usage.Use) bool { return r.Permissions(u.Permission) == nil })
		callers := map[model.Permission]map[model.ID]bool{}
		for _, u := range unmapped.All() {
			if callers[u.Permission] == nil {
				callers[u.Permission] = map[model.ID]bool{}
			}
			callers[u.Permission][u.Identity] = true
		}
		for _, g := range usage.GroupBy(unmapped.All(), &usage.Filter{}, []usage.Field{usage.ByPermission}, nil) {
			p := g.Key.Permission
			rows = append(rows, UnmappedOperation{s.Name, p, g.Count, len(callers[p]), g.Last, examples[p].File,
				examples[p].Line, examples[p].Example})
		}
		return nil
	})
	return rows, err
}

// UnplacedUse is a use that cannot be placed.
type UnplacedUse struct {
	Source     string           `json:"source"`
	Caller     model.ID         `json:"caller"`
	ActingFor  model.ID         `json:"acting_for,omitzero"`
	Operation  model.Permission `json:"operation"`
	Path       model.Path       `json:"path"`
	Calls      int64            `json:"calls"`
	Last       time.Time        `json:"last"`
	Why        gauge.Reason     `json:"why" doc:"path, operation, caller or grant"`
	NoNode     model.Path       `json:"no_such_node,omitzero"`
	StillHolds bool             `json:"keeps_permissions" doc:"it still keeps permissions from being called unused"`
	MayBe      model.Path       `json:"may_be,omitzero" doc:"a guess: the path now, if the node was moved or renamed"`
}

// MayHaveMoved is the guess that a node was moved or renamed.
type MayHaveMoved struct {
	Source string     `json:"source"`
	From   model.Path `json:"from"`
	To     model.Path `json:"to"`
	Last   string     `json:"last" doc:"the day on which the one was called last"`
	First  string     `json:"first" doc:"and the other first"`
	Went   int        `json:"went" doc:"of those who called the one in its last 30 days, how many call the other since"`
	Of     int        `json:"of"`
}

func dayWords(d usage.Day) string { return d.Time().Format(time.DateOnly) }

// UnplacedUses are the calls that cannot be placed.
type UnplacedUses struct {
	Rows   []UnplacedUse
	Placed []PlacedSource
	Moved  []MayHaveMoved
}

// Unplaced lists the calls that cannot be placed.
func (w *Workspace) Unplaced(ctx context.Context) (*UnplacedUses, error) {
	sources, err := w.each()
	if err != nil {
		return nil, err
	}
	out := &UnplacedUses{Rows: []UnplacedUse{}}
	for _, src := range sources {
		_, in, res, err := w.gauged(ctx, src, 0, unmeasured)
		if err != nil {
			return nil, err
		}
		out.Placed = append(out.Placed, PlacedSource{src.Name, res.Placement})
		var moves usage.Moves
		nodes := in.Place.Inventory
		gone := func(p model.Path) (model.Path, bool) { // no survey knows it, or none does any more
			if at, is := nodes.Unknown(p); is {
				return at, true
			}
			return nodes.Gone(p)
		}
		if res.Placement.Calls > 0 {
			for _, m := range usage.GuessMoves(in.Uses, in.Index, gone) {
				moves = append(moves, usage.Moved{From: m.From, To: m.To})
				out.Moved = append(out.Moved, MayHaveMoved{src.Name, m.From, m.To, dayWords(m.Last), dayWords(m.First),
					m.Went, m.Of})
			}
		}
		for _, i := range res.Placement.Unplaced(in.Uses) {
			u := in.Uses.At(i)
			x := UnplacedUse{src.Name, u.Identity, u.ActingFor, u.Permission, u.Path, u.Count, u.Last,
				res.Placement.Reason(i), model.Path{}, res.Placement.Live(i), model.Path{}}
			if x.Why == gauge.NoPath {
				x.NoNode, _ = in.Place.Inventory.Unknown(u.Path)
				if now := moves.Now(u.Path); now != u.Path {
					x.MayBe = now
				}
			}
			out.Rows = append(out.Rows, x)
		}
	}
	return out, nil
}
