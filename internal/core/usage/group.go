package usage

import (
	"cmp"
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

// Match reports whether a use is asked for. Days outside the window are taken out of
// it, and its count is then an upper bound: a use keeps its days and not a count a
// day.
func (f *Filter) Match(u *Use) (cut bool, ok bool) {
	switch {
	case !f.Identity.IsZero() && u.Identity != f.Identity && u.ActingFor != f.Identity,
		!f.ActingFor.IsZero() && u.ActingFor != f.ActingFor,
		f.Permission != (model.PermissionPattern{}) && !f.Permission.Matches(u.Permission),
		!f.Path.IsZero() && !f.Path.Matches(u.Path),
		len(f.Outcomes) > 0 && !slices.Contains(f.Outcomes, u.Outcome):
		return false, false
	}
	if f.Window.To.IsZero() {
		return false, true
	}
	if u.First.After(f.Window.To) || u.Last.Before(f.Window.From) {
		return false, false
	}
	if u.First.Before(f.Window.From) || u.Last.After(f.Window.To) {
		days := u.Days.Until(DayOf(f.Window.To)).from(DayOf(f.Window.From))
		if days.Count() == 0 {
			return false, false
		}
		u.Days = days
		if u.First.Before(f.Window.From) {
			u.First = days.List()[0].Time()
		}
		if u.Last.After(f.Window.To) {
			u.Last = f.Window.To
		}
		return true, true
	}
	return false, true
}

// from returns the days from first on.
func (d Days) from(first Day) Days {
	out := d.clone()
	for i := range out.words {
		for b := 0; b < 64; b++ {
			if out.base+Day(64*i+b) < first {
				out.words[i] &^= 1 << b
			}
		}
	}
	return out
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
	Cut         bool // some of the uses reach out of the window: Count is an upper bound
	First, Last time.Time
	Days        Days
}

// GroupBy filters uses and adds up those that agree on the fields, most calls first.
// Of paths, where grouped by, place gives the part that counts; nil takes them whole.
func GroupBy(uses []Use, f *Filter, by []Field, place func(model.Path) model.Path) []Group {
	type groupKey struct {
		Key
		service string
	}
	at := map[groupKey]int{}
	var out []Group
	for _, u := range uses {
		cut, ok := f.Match(&u)
		if !ok {
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
		g.Cut = g.Cut || cut
		if u.First.Before(g.First) {
			g.First = u.First
		}
		if u.Last.After(g.Last) {
			g.Last = u.Last
		}
		g.Days = g.Days.Union(u.Days)
	}
	slices.SortStableFunc(out, func(a, b Group) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), compareUses(Use{Key: a.Key}, Use{Key: b.Key}), cmp.Compare(a.Service, b.Service))
	})
	return out
}

// Strip cuts a window into at most so many spans of whole days and returns, for each,
// the share of its days that are in the set, from 0 to 1.
func (d Days) Strip(w Window, cells int) []float64 {
	from, to := DayOf(w.From)+1, DayOf(w.To)
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
