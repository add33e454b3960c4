package work

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/source"
	"clipfence/internal/store"
)

// What was there before
//
// Whoever narrows an estate changes what there is to learn from: of those whose access was wide and
// who never used it nothing would be left, and what is left would look as if it were mostly needed. So
// what is gone is learned from as well, as long as it was there. Changes of our own are in the
// ledger for good, what others took away shows in the surveys that are kept.

// was is a record of before, with when it was there.
type was[T any] struct {
	it       T
	from, to time.Time // from the zero time: for long
	ours     bool      // a change of ours took it
}

// formerly is what a source held before, each record with when it was there. Roles are those that changes took
// or made, by name, whether they are gone or not.
type formerly struct {
	grants  []was[model.Grant]
	members []was[model.Membership]
	joined  map[model.Membership]time.Time // see [gauge.Input.Joined]
	roles   map[string]model.Role
}

// formerly returns what is gone of a source, and may be there again.
func (w *Workspace) formerly(ctx context.Context, s *Source) (*formerly, error) {
	out := &formerly{roles: map[string]model.Role{}}
	_, history, err := w.History(ctx)
	if err != nil {
		return nil, damaged(err)
	}
	for _, c := range history {
		if c.Source != s.Name {
			continue
		}
		for _, e := range c.Edits() {
			var g model.Grant
			var m model.Membership
			for _, doc := range []json.RawMessage{e.Before, e.After} {
				var r model.Role
				if len(doc) > 0 && e.Kind == source.Roles && json.Unmarshal(doc, &r) == nil {
					out.roles[r.Name] = r
				}
			}
			switch {
			case len(e.Before) == 0:
			case e.Kind == source.Grants && json.Unmarshal(e.Before, &g) == nil:
				out.grants = append(out.grants, was[model.Grant]{g, g.Created, c.At, true})
			case e.Kind == source.Memberships && json.Unmarshal(e.Before, &m) == nil:
				out.members = append(out.members, was[model.Membership]{m, time.Time{}, c.At, true})
			}
		}
	}
	for g := range s.Listed().Ended(s.at) {
		out.grants = append(out.grants, was[model.Grant]{*g, g.Created, g.Condition().Until, false})
	}
	surveys, err := w.store.Surveys(ctx, s.Name) // the newest first
	if err != nil || len(surveys) < 2 {
		return out, err
	}
	begins, ends := map[int64]time.Time{}, map[int64]time.Time{}
	for i, v := range surveys {
		if i < len(surveys)-1 { // what the first one shows was there for long
			begins[v.ID] = v.Finished
		}
		if i > 0 { // until the one after it, at most
			ends[v.ID] = surveys[i-1].Finished
		}
	}
	gone, err := w.store.GoneGrants(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	for _, g := range gone {
		from := g.Created
		if from.IsZero() {
			from = begins[g.First]
		}
		out.grants = append(out.grants, was[model.Grant]{g.Grant, from, ends[g.Last], false})
	}
	left, err := w.store.GoneMembers(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	for _, m := range left {
		out.members = append(out.members, was[model.Membership]{m.Membership, begins[m.First], ends[m.Last], false})
	}
	out.joined, err = w.joined(ctx, s, begins, left)
	return out, err
}

// joined returns since when who joined a group is in it: a kept survey does not show it there, and later ones do.
// Whoever left it before came back, and is no newcomer. Where half and more of all who are in groups came with one
// survey, it is the list that is new, and not they.
func (w *Workspace) joined(ctx context.Context, s *Source, begins map[int64]time.Time,
	left []store.Shown) (map[model.Membership]time.Time, error) {
	list, err := w.store.Joined(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	all, came := 0, map[int64]int{}
	for n := range s.Everybody() {
		s.Joined(n, func(int) { all++ })
	}
	before := map[model.Membership]bool{}
	pair := func(m model.Membership) model.Membership {
		return model.Membership{Member: m.Member, Group: m.Group}
	}
	for _, l := range left {
		before[pair(l.Membership)] = true
	}
	for _, l := range list {
		came[l.First]++
	}
	out := map[model.Membership]time.Time{}
	for _, l := range list {
		if at := begins[l.First]; !at.IsZero() && !before[pair(l.Membership)] && 2*came[l.First] < all {
			out[pair(l.Membership)] = at
		}
	}
	return out, nil
}

// before returns what was granted once and is not any more; nil where nothing is known of that.
// Beside it, since when who joined a group is in it.
func (w *Workspace) before(ctx context.Context, s *Source) (*gauge.Before, map[model.Membership]time.Time, error) {
	then, err := w.formerly(ctx, s)
	if err != nil {
		return nil, nil, err
	}
	grants := then.grants
	// Who left a group had what the group has, and what it had as long as both were so.
	to := func(g model.Grant, m model.ID) model.Grant { g.To = m; return g }
	gone := map[model.ID][]was[model.Grant]{}
	for _, g := range grants {
		gone[g.it.To] = append(gone[g.it.To], g)
	}
	for _, m := range then.members {
		if s.In(m.it.Member, m.it.Group) {
			continue
		}
		groups := append(s.GroupsOf(m.it.Group), m.it.Group)
		id, _ := s.Identity(m.it.Member)
		from := later(m.from, id.Created)
		for _, group := range groups {
			for _, n := range s.GrantsTo(group) {
				g := s.Grant(n)
				grants = append(grants, was[model.Grant]{to(*g, m.it.Member), later(from, g.Created), m.to,
					m.ours})
			}
			for _, g := range gone[group] {
				grants = append(grants, was[model.Grant]{to(g.it, m.it.Member), later(from, g.from),
					earlier(m.to, g.to), m.ours || g.ours})
			}
		}
	}
	out := &gauge.Before{}
	at, still := map[string]int{}, map[model.ID]map[string]bool{}
	var d access.Edit
	for _, g := range grants {
		if !g.from.Before(g.to) {
			continue
		}
		if _, there := s.Role(g.it.Role); g.it.Role != "" && !there {
			r, known := then.roles[g.it.Role]
			if !known {
				continue
			}
			if !slices.ContainsFunc(d.Come.Roles, func(o model.Role) bool { return o.Name == r.Name }) {
				d.Come.Roles = append(d.Come.Roles, r)
			}
		}
		if still[g.it.To] == nil {
			still[g.it.To] = map[string]bool{}
			for _, n := range s.GrantsTo(g.it.To) {
				still[g.it.To][gives(s.Grant(n))] = true
			}
		}
		key := gives(&g.it)
		i, known := at[key]
		switch {
		case still[g.it.To][key]: // it was made again, or given back
		case known:
			old := &out.Gone[i]
			old.From, old.To, old.Ours = earlier(old.From, g.from), later(old.To, g.to), old.Ours || g.ours
		default:
			at[key] = len(out.Gone)
			g.it.ID = fmt.Sprintf("before:%d:%s", len(out.Gone), g.it.ID)
			out.Gone = append(out.Gone, gauge.Former{Grant: g.it, From: g.from, To: g.to, Ours: g.ours})
			d.Come.Grants = append(d.Come.Grants, g.it)
		}
	}
	if len(out.Gone) == 0 {
		return nil, then.joined, nil
	}
	out.Index, err = s.With(d)
	return out, then.joined, err
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}
