package usage

import (
	"cmp"
	"iter"
	"slices"
	"time"

	"clipfence/internal/core/model"
)

// A Filter says which uses a question is about. Zero fields ask for nothing.
type Filter struct {
	Identity   model.ID // who called, or whose rights were used
	ActingFor  model.ID
	Permission model.PermissionPattern
	Path       model.PathPattern
	Outcomes   []Outcome
	Window     Window // the use must have a day in it; zero: any time
}

// Match reports whether a use is asked for, and cuts it down to the days of the window.
func (f *Filter) Match(u *Use) bool {
	switch {
	case !f.Identity.IsZero() && u.Identity != f.Identity && u.ActingFor != f.Identity,
		!f.ActingFor.IsZero() && u.ActingFor != f.ActingFor,
		f.Permission != (model.PermissionPattern{}) && !f.Permission.Matches(u.Permission),
		!f.Path.IsZero() && !f.Path.Matches(u.Path),
		len(f.Outcomes) > 0 && !slices.Contains(f.Outcomes, u.Outcome):
		return false
	}
	return f.Window.To.IsZero() || u.Within(f.Window.First(), f.Window.Last())
}

// A Field is something that uses can be grouped by.
type Field string

// The fields.
const (
	ByIdentity   Field = "identity"
	ByActingFor  Field = "acting-for"
	ByPermission Field = "permission"
	ByPath       Field = "path"
	ByOutcome    Field = "outcome"
	ByNetwork    Field = "network"
	ByService    Field = "service"
)

// Fields lists the fields in the order in which they are shown.
var Fields = []Field{ByIdentity, ByActingFor, ByService, ByPermission, ByPath, ByOutcome, ByNetwork}

// A Group is uses that agree on some fields.
type Group struct {
	Key         Key    // only the fields grouped by are set
	Service     string // of the permissions, when grouped by it
	Uses        int
	Count       int64
	AtLeast     bool // Count is the least that there were, see [Use]
	First, Last time.Time
	Days        Days
}

// GroupBy filters uses and adds up those that agree on the fields, most calls first.
// Of paths, where grouped by, place gives the part that counts; nil takes them whole.
func GroupBy(uses iter.Seq2[int, Use], f *Filter, by []Field, place func(model.Path) model.Path) []Group {
	type groupKey struct {
		Key
		service string
	}
	at := map[groupKey]int{}
	var out []Group
	for _, u := range uses {
		if !f.Match(&u) {
			continue
		}
		var k groupKey
		for _, field := range by {
			switch field {
			case ByIdentity:
				k.Identity = u.Identity
			case ByActingFor:
				k.ActingFor = u.ActingFor
			case ByPermission:
				k.Permission = u.Permission
			case ByPath:
				if k.Path = u.Path; place != nil {
					k.Path = place(u.Path)
				}
			case ByOutcome:
				k.Outcome = u.Outcome
			case ByNetwork:
				k.Network = u.Network
			case ByService:
				k.service = u.Permission.Service()
			}
		}
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k] = i
			out = append(out, Group{Key: k.Key, Service: k.service, First: u.First, Last: u.Last})
		}
		g := &out[i]
		g.Uses++
		g.Count += u.Count
		g.AtLeast = g.AtLeast || u.AtLeast
		if u.First.Before(g.First) {
			g.First = u.First
		}
		if u.Last.After(g.Last) {
			g.Last = u.Last
		}
		g.Days = g.Days.Union(u.Days)
	}
	slices.SortStableFunc(out, func(a, b Group) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), compareUses(Use{Key: a.Key}, Use{Key: b.Key}),
			cmp.Compare(a.Service, b.Service))
	})
	return out
}

// Strip cuts a window into at most so many spans of whole days and returns, for each,
// the share of its days that are in the set, from 0 to 1.
func (d Days) Strip(w Window, cells int) []float64 {
	from, to := w.First()+1, w.Last()
	n := int(to-from) + 1
	if n < 1 || cells < 1 {
		return nil
	}
	span := (n + cells - 1) / cells
	out := make([]float64, (n+span-1)/span)
	first := to - Day(span*len(out)) + 1 // the last span is whole
	for _, day := range d.List() {
		if day >= first && day <= to {
			out[int(day-first)/span] += 1 / float64(span)
		}
	}
	return out
}
