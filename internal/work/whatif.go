package work

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"clipfence/internal/config"
	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/store"
)

// PairsByLevel counts pairs of permission and node by the permission's level.
type PairsByLevel = [model.HandOut + 1]uint64

// Pairs are what an identity loses and gains on the inventory.
type Pairs struct{ Lost, Gained PairsByLevel }

// Comparison is what becomes, or became, of an identity's access.
type Comparison struct {
	Rows          []ComparisonRow
	Before, After store.Survey
	Exact         *Pairs // nil where the inventories are not the same
}

// CompareReach says what an identity would lose, gain and keep, or what it did since an
// earlier survey, where since is not 0.
func (w *Workspace) CompareReach(ctx context.Context, src config.Source, id model.ID, filter *Part, since int64,
	what *WhatIf) (*Comparison, error) {
	before, err := w.Surveyed(ctx, src)
	if err != nil {
		return nil, err
	}
	if err := before.Known(id); err != nil {
		return nil, err
	}
	after, err := what.apply(w, before)
	if err != nil {
		return nil, err
	}
	if since != 0 {
		if what.Asked() {
			return nil, fmt.Errorf("--compare looks back and --with and --without ahead: say one of the two")
		}
		if before, after, err = w.since(ctx, src, since); err != nil {
			return nil, err
		}
	}
	d := index.Compare(before.Index, after.Index, id)
	out := &Comparison{Rows: []ComparisonRow{}, Before: before.Survey, After: after.Survey,
		Exact: exactly(before, after, id, filter)}
	add := func(what string, ps []index.Place) {
		slices.SortStableFunc(ps, func(x, y index.Place) int { return cmp.Compare(y.Level, x.Level) })
		for _, p := range ps {
			c := model.CatalogueEntry{Permission: p.Permission, Level: p.Level}
			if filter.Has(c) && (filter.Under.IsZero() || p.Where.Overlaps(filter.Under.Below())) {
				r := ComparisonRow{what, c.Permission, c.Level.String(), p.Where.String(), p.Grant.ID, nil}
				for _, on := range p.Left {
					r.Becomes = "narrowed"
					r.Left = append(r.Left, on.String())
				}
				out.Rows = append(out.Rows, r)
			}
		}
	}
	add("lost", d.Lost)
	add("gained", d.Gained)
	add("stays", d.Stays)
	return out, nil
}

// Question returns a source ready to be questioned, as it is or as it would be.
func (w *Workspace) Question(ctx context.Context, src config.Source, q *WhatIf) (*Source, error) {
	if !q.Asked() {
		return w.Surveyed(ctx, src)
	}
	s, err := w.Surveyed(ctx, src)
	if err == nil {
		s, err = q.apply(w, s)
	}
	return s, err
}

// apply returns a source as it would be.
func (q *WhatIf) apply(w *Workspace, s *Source) (*Source, error) {
	if !q.Asked() {
		return s, nil
	}
	gone, err := q.gone(s)
	if err != nil {
		return nil, err
	}
	out, err := s.as(access.Edit{Gone: gone})
	for i := 0; i < len(q.With) && err == nil; i++ {
		var f *fence.Fence
		if _, f, _, err = w.fence(q.With[i], out); err == nil {
			out, err = out.as(f.Edit(s.Name))
		}
	}
	return out, err
}

func (q *WhatIf) gone(s *Source) (access.Gone, error) {
	var r access.Gone
	for _, text := range q.Without {
		kind, rest, _ := strings.Cut(text, ":")
		fail := func(format string, args ...any) (access.Gone, error) {
			return r, fmt.Errorf("--without %s: %s", text, fmt.Sprintf(format, args...))
		}
		switch kind {
		case "grant":
			if _, ok := s.GrantNamed(rest); !ok {
				return fail("source %s has no grant %q", s.Name, rest)
			}
			r.Grants = append(r.Grants, rest)
		case "role":
			if _, ok := s.Role(rest); !ok || rest == "" {
				return fail("source %s has no role %q", s.Name, rest)
			}
			r.Roles = append(r.Roles, rest)
		case "member":
			who, group, _ := strings.Cut(rest, ">")
			m, err1 := model.ParseID(who)
			g, err2 := model.ParseID(group)
			if err1 != nil || err2 != nil {
				return fail("want member:WHO>GROUP, such as member:person/a>group/b")
			}
			if !slices.Contains(s.GroupsOf(m), g) {
				return fail("%s is not a direct member of %s", m, g)
			}
			r.Memberships = append(r.Memberships, model.Membership{Member: m, Group: g})
		default:
			id, err := model.ParseID(text)
			if err != nil {
				return fail("want grant:ID, role:NAME, member:WHO>GROUP or an identity")
			}
			id.Source = ""
			if _, ok := s.Identity(id); !ok {
				return fail("source %s has no such identity", s.Name)
			}
			r.Identities = append(r.Identities, id)
		}
	}
	return r, nil
}

// since returns a source as an earlier survey found it and as the newest did, with one
// catalogue, so that the two can be compared.
func (w *Workspace) since(ctx context.Context, src config.Source, survey int64) (before, after *Source, err error) {
	was, earlier, err := w.estate(ctx, src, survey)
	if err != nil {
		return nil, nil, err
	}
	is, newest, err := w.estate(ctx, src, 0)
	if err != nil {
		return nil, nil, err
	}
	was.Catalogue, is.Catalogue = union(was.Catalogue, is.Catalogue), union(was.Catalogue, is.Catalogue)
	if before, err = w.built(ctx, src, was, earlier, earlier.Finished); err == nil {
		after, err = w.built(ctx, src, is, newest, w.now())
	}
	return before, after, err
}

// ComparisonRow is what becomes of one permission on one place.
type ComparisonRow struct {
	Becomes    string           `json:"becomes" doc:"lost, narrowed, gained or stays"`
	Permission model.Permission `json:"permission"`
	Level      string           `json:"level"`
	Where      string           `json:"where"`
	Grant      string           `json:"grant" doc:"that gave it, or gives it then"`
	Left       []string         `json:"left_on,omitempty" doc:"of one that is narrowed: where it is still there"`
}

// union returns a catalogue with everything of both; of an entry in both the second's.
func union(a, b model.Catalogue) model.Catalogue {
	out := slices.Clone(b)
	have := map[model.Permission]bool{}
	for _, c := range b {
		have[c.Permission] = true
	}
	for _, c := range a {
		if !have[c.Permission] {
			out = append(out, c)
		}
	}
	return out
}

func (q *WhatIf) Asked() bool { return len(q.Without)+len(q.With) > 0 }

// exactly counts on the inventory, with every layer, the pairs of permission and node that
// an identity loses and gains; nil where the inventories are not the same.
func exactly(before, after *Source, id model.ID, filter *Part) *Pairs {
	if !before.SameNodes(after.Index) || before.Permissions() != after.Permissions() {
		return nil
	}
	walk := func(s *Source) *index.Walk { return s.sums(index.Possible, filter.bits(s), filter.Under) }
	d := index.Difference(walk(before), walk(after), id)
	return &Pairs{d.Lost, d.Gained}
}

// WhatIf asks a question of an estate as it would be.
type WhatIf struct {
	Without []string // grant:ID, role:NAME, member:WHO>GROUP or an identity: as if it were gone
	With    []string // fences: as if they were in force
}
