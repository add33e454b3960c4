package work

import (
	"cmp"
	"context"
	"iter"
	"slices"
	"time"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/config"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Who is in a group that its source lists nobody in
//
// There are systems that keep no list of people and groups: whoever lets somebody in says in which
// groups they are, and it stands in bindings and logs alone. Of a group in which nobody is listed,
// those are members whom the newest events of their own show in it, and marked as known by the log.
// A group of which the source lists anybody has the members that it lists.

// inGroup is who is in which group by the log.
type inGroup struct{ who, group model.ID }

// sighted returns who is in which group as the log of a source shows it, in the words of its estate, and
// when it showed it last.
func (w *Workspace) sighted(ctx context.Context, src config.Source, e usage.Listing) (map[inGroup]time.Time, error) {
	list, err := w.store.Sightings(ctx, src.Name)
	return w.namesOf(src, e, list), err
}

// namesOf brings sightings to the words of an estate.
func (w *Workspace) namesOf(src config.Source, e usage.Listing, list []fold.Sighting) map[inGroup]time.Time {
	if len(list) == 0 {
		return nil
	}
	r := usage.NewResolver(e, w.aliases(src), nil, nil)
	out := map[inGroup]time.Time{}
	for _, g := range list {
		in := inGroup{r.Identity(g.Identity), r.Identity(g.Group)}
		if last := time.UnixMilli(g.Last).UTC(); !in.who.Open() && in.who.Kind != model.Group && last.After(out[in]) {
			out[in] = last
		}
	}
	return out
}

// withSighted adds to an estate the members of groups in which it lists nobody, as the log shows them.
func (w *Workspace) withSighted(ctx context.Context, src config.Source, e *model.Estate) (*model.Estate, error) {
	seen, err := w.sighted(ctx, src, listing{e})
	return withMembers(e, seen), err
}

// withMembers adds to an estate who is in groups in which it lists nobody.
func withMembers(e *model.Estate, seen map[inGroup]time.Time) *model.Estate {
	if len(seen) == 0 {
		return e
	}
	unlisted := unlistedGroups(e)
	at := map[model.ID]int{}
	for i := range e.Identities {
		at[e.Identities[i].ID] = i
	}
	out := *e
	out.Identities, out.Memberships = slices.Clone(e.Identities), slices.Clone(e.Memberships)
	byLog := func(id model.ID, mark bool) {
		if i, listed := at[id]; !listed {
			at[id] = len(out.Identities)
			out.Identities = append(out.Identities, model.Identity{ID: id, ByLog: true})
		} else if mark {
			out.Identities[i].ByLog = true
		}
	}
	var pairs []inGroup
	for in := range seen {
		if unlisted[in.group] && in.who != in.group {
			pairs = append(pairs, in)
		}
	}
	slices.SortFunc(pairs, func(a, b inGroup) int { return cmp.Or(a.who.Compare(b.who), a.group.Compare(b.group)) })
	for id := range unlisted { // also those in which the log shows nobody
		if _, listed := at[id]; listed {
			byLog(id, true)
		}
	}
	for _, in := range pairs {
		byLog(in.who, false)
		byLog(in.group, true)
		out.Memberships = append(out.Memberships, model.Membership{Member: in.who, Group: in.group})
	}
	return &out
}

// unlistedGroups returns the groups that an estate lists or names and lists nobody in.
func unlistedGroups(e *model.Estate) map[model.ID]bool {
	out := map[model.ID]bool{}
	note := func(id model.ID) {
		if id.Kind == model.Group && id.Source == "" {
			out[id] = true
		}
	}
	for i := range e.Identities {
		note(e.Identities[i].ID)
	}
	for i := range e.Grants {
		note(e.Grants[i].To)
	}
	for i := range e.Denials {
		for _, id := range e.Denials[i].To {
			note(id)
		}
	}
	for _, m := range e.Memberships {
		note(m.Member)
	}
	for _, m := range e.Memberships {
		delete(out, m.Group)
	}
	return out
}

// listing lets a resolver ask an estate that is not indexed.
type listing struct{ e *model.Estate }

func (l listing) Source() string { return l.e.Source }

func (l listing) Everybody() iter.Seq2[int, *model.Identity] {
	return func(yield func(int, *model.Identity) bool) {
		for i := range l.e.Identities {
			if !yield(i, &l.e.Identities[i]) {
				return
			}
		}
	}
}

func (listing) PermNumber(model.Permission) (int, bool) { return 0, false }

// LogGroup is a group in which its source lists nobody.
type LogGroup struct {
	Group   model.ID `json:"group"`
	Members int      `json:"members" doc:"whom the log shows in it"`
}

// LogGroups returns the groups of a source whose members, some at least, only its log shows, in order.
func (w *Workspace) LogGroups(ctx context.Context, src string) ([]LogGroup, error) {
	if mark, err := w.store.SightingsMark(ctx, src); err != nil || mark == "" {
		return nil, err
	}
	cfg, err := w.Source(src)
	if err != nil {
		return nil, err
	}
	s, err := w.Surveyed(ctx, cfg)
	if err != nil {
		return nil, err
	}
	var out []LogGroup
	for _, i := range s.Everybody() {
		if n := len(s.MembersOf(i.ID)); i.ByLog && i.ID.Kind == model.Group && n > 0 {
			out = append(out, LogGroup{i.ID, n})
		}
	}
	slices.SortFunc(out, func(a, b LogGroup) int { return a.Group.Compare(b.Group) })
	return out, nil
}

// SeenIn is an identity in a group in which its source lists nobody.
type SeenIn struct {
	Member model.ID  `json:"member"`
	Group  model.ID  `json:"group"`
	Last   time.Time `json:"last" doc:"when the log showed it last"`
}

// SeenIn returns the steps of some chains, from an identity by its groups to whom a grant names, that
// only the log shows, each once.
func (w *Workspace) SeenIn(ctx context.Context, s *Source, chains ...[]model.ID) ([]SeenIn, error) {
	out := []SeenIn{}
	for _, c := range chains {
		for i := 1; i < len(c); i++ {
			g, _ := s.Identity(c[i])
			known := func(x SeenIn) bool { return x.Member == c[i-1] && x.Group == c[i] }
			if g.ByLog && c[i].Kind == model.Group && !slices.ContainsFunc(out, known) {
				out = append(out, SeenIn{Member: c[i-1], Group: c[i]})
			}
		}
	}
	if len(out) == 0 {
		return out, nil
	}
	seen, err := w.sighted(ctx, s.Source, s.Index)
	for i := range out {
		out[i].Last = seen[inGroup{out[i].Member, out[i].Group}]
	}
	return out, err
}
