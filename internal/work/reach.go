package work

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"clipfence/internal/config"
	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// About returns the source that a question is about. An identity of another source
// keeps its name, since it may be linked into this one.
func (w *Workspace) About(id *model.ID, named string) (config.Source, error) {
	if w.Only != "" {
		named = w.Only
	}
	src, err := w.Source(named)
	if err == nil {
		*id = id.In(src.Name)
	}
	return src, err
}

// Set returns the nodes of a resource set.
func (w *Workspace) Set(s *Source, name string, under model.Path) ([]model.Path, error) {
	var names []string
	for _, set := range w.Sets {
		names = append(names, set.Name)
		if set.Name != name {
			continue
		}
		var out []model.Path
		s.NodesLike(set.Where, func(p model.Path) {
			if s.labelled(p, set.Labels) && (under.IsZero() || under.Covers(p)) {
				out = append(out, p)
			}
		})
		if len(out) == 0 {
			return nil, fmt.Errorf("resource set %q holds no node of source %s", name, s.Name)
		}
		return out, nil
	}
	if len(names) == 0 {
		return nil, fmt.Errorf("no resource set %q: %s names none (resource_sets: [{name: %s, on: [...]}])", name,
			w.Path(config.File), name)
	}
	return nil, fmt.Errorf("no resource set %q; there are: %s", name, strings.Join(names, ", "))
}

// labelled reports whether a node carries labels, itself or by a node above it.
func (s *Source) labelled(p model.Path, labels map[string]string) bool {
	for k, v := range labels {
		found := false
		for up, ok := p, true; ok && !found; up, ok = up.Parent() {
			l, hit := s.Node(up)
			found = hit && l[k] == v
		}
		if !found {
			return false
		}
	}
	return true
}

// Part says which part of an answer is asked for.
type Part struct {
	pattern model.PermissionPattern
	level   string
	Under   model.Path
	Some    bool // not everything is asked for

	Kind   string // into places: of whom to tell; "": of everybody
	Direct bool   // only what is granted by name
}

func (f *Part) Has(c model.CatalogueEntry) bool {
	return f.pattern.Matches(c.Permission) && (f.level == "" || c.Level.String() == f.level)
}

// bits returns the permissions that are asked for.
func (f *Part) bits(s *Source) access.Set {
	out := s.NewSet()
	for i := range s.Numbers() {
		if f.Has(*s.Permission(i)) {
			out.Add(i)
		}
	}
	return out
}

func NewPart(permission, level, under string) (*Part, error) {
	f := &Part{pattern: model.MustPermissionPattern("*"), level: level, Some: permission != "" || level != "" ||
		under != ""}
	var err error
	if permission != "" {
		if f.pattern, err = model.ParsePermissionPattern(permission); err != nil {
			return nil, err
		}
	}
	if under != "" {
		f.Under, err = model.ParsePath(under)
	}
	return f, err
}

// sums prepares a walk over a part of an estate.
func (s *Source) sums(mode index.Mode, asked access.Set, under model.Path) *index.Walk {
	w := s.NewWalk(mode)
	w.Only(asked, under)
	return w
}

type IntoRow struct {
	Identity    model.ID       `json:"identity"`
	Nodes       int            `json:"nodes"`
	Certain     int            `json:"permissions"`
	Conditional int            `json:"only_under_conditions"`
	Highest     string         `json:"highest_level"`
	Example     string         `json:"example"`
	Place       string         `json:"example_place"`
	As          model.ID       `json:"by_acting_as,omitzero"`
	Steps       []string       `json:"steps,omitempty"`
	Acting      []*model.ActAs `json:"-"` // as Steps
	Top         model.Level    `json:"-"` // as Highest
	number      int
	always      access.Set
	sometimes   access.Set
}

// asking is a question about who may do what on nodes. Nodes on which the same rules hold
// and the same can be used have the same answer, which is worked out once.
type asking struct {
	*Source
	filter *Part
	asked  access.Set
	usable map[string]access.Set // by the kinds of a node and of those below it
}

func (s *Source) asking(filter *Part) *asking {
	return &asking{s, filter, filter.bits(s), map[string]access.Set{}}
}

// like returns what two nodes with the same answer have in common.
func (a *asking) like(path model.Path) string {
	return a.SameRules(path) + "\x00" + kindsKey(a.Kinds(path))
}

func kindsKey(kinds map[string]bool) string {
	return fmt.Sprintf("%q", slices.Sorted(maps.Keys(kinds)))
}

// on returns who may do what is asked for on a node, if it can be used there.
func (a *asking) on(path model.Path) []index.Access {
	kinds := a.Kinds(path)
	key := kindsKey(kinds)
	can, ok := a.usable[key]
	if !ok {
		can = a.NewSet()
		for i := range a.asked.All() {
			if c := a.Permission(i); len(c.Kinds) == 0 ||
				slices.ContainsFunc(c.Kinds, func(k string) bool { return kinds[k] }) {
				can.Add(i)
			}
		}
		a.usable[key] = can
	}
	var out []index.Access
	for _, acc := range a.Index.Into(path) {
		id := a.ID(acc.Identity)
		if a.filter.Kind != "" && string(id.Kind) != a.filter.Kind && !id.Open() {
			continue
		}
		if a.filter.Direct {
			named := a.NewSet()
			for _, h := range a.Holdings(id) {
				if len(h.Chain) == 1 && h.Grant.Covers(path) {
					named.Or(h.Perms)
				}
			}
			acc.Certain.And(named)
			acc.Conditional.And(named)
		}
		acc.Certain.And(can)
		acc.Conditional.And(can)
		if acc.Certain.Count()+acc.Conditional.Count() > 0 {
			out = append(out, acc)
		}
	}
	return out
}

// alike groups nodes by a key, in the order of each group's first node.
func alike(nodes []model.Path, key func(model.Path) string) [][]model.Path {
	var out [][]model.Path
	at := map[string]int{}
	for _, p := range nodes {
		k := key(p)
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k], out = i, append(out, nil)
		}
		out[i] = append(out[i], p)
	}
	return out
}

// into sums up who can do what on some nodes, without regard to acting as others, and how
// many different permissions that makes.
func (a *asking) into(nodes []model.Path) (out []IntoRow, permissions int) {
	rows, all := map[int]*IntoRow{}, a.NewSet()
	for _, group := range alike(nodes, a.like) {
		for _, acc := range a.on(group[0]) {
			r := rows[acc.Identity]
			if r == nil {
				r = &IntoRow{Identity: a.ID(acc.Identity), number: acc.Identity, always: a.NewSet(),
					sometimes: a.NewSet()}
				rows[acc.Identity] = r
			}
			r.Nodes += len(group)
			r.always.Or(acc.Certain)
			r.sometimes.Or(acc.Conditional)
			for _, b := range []access.Set{acc.Certain, acc.Conditional} {
				all.Or(b)
				for i := range b.All() {
					if l := a.Level(i); l > r.Top {
						r.Top, r.Highest, r.Example, r.Place = l, l.String(), a.Permission(i).Permission.String(),
							group[0].String()
					}
				}
			}
		}
	}
	for _, r := range rows {
		r.sometimes.AndNot(r.always)
		r.Certain, r.Conditional = r.always.Count(), r.sometimes.Count()
		out = append(out, *r)
	}
	return out, all.Count()
}

// IntoChange is what became of one identity's access to a place.
type IntoChange struct {
	Identity model.ID `json:"identity"`
	Becomes  string   `json:"becomes" doc:"lost, gained, less, more or other; less and more also where only conditions came or went"`
	Before   int      `json:"permissions_before"`
	After    int      `json:"permissions_after"`
	Lost     int      `json:"lost" doc:"pairs of permission and node"`
	Gained   int      `json:"gained" doc:"pairs of permission and node"`
}

// granted is what one identity had and has on a node, by permission: whatever the call,
// and only under conditions.
type granted [2]map[model.Permission]bool

// changed compares what everybody may do on some nodes in two estates, node by node.
func changed(before, after *asking, nodes []model.Path) []IntoChange {
	type sum struct {
		IntoChange
		nodes      [2]int
		had        granted // anywhere on the nodes
		tied, free int     // pairs that came under conditions, and that no longer are
	}
	sums := map[model.ID]*sum{}
	for _, group := range alike(nodes, func(p model.Path) string { return before.like(p) + "\x00" + after.like(p) }) {
		n := len(group)
		here := map[model.ID]*granted{}
		for side, a := range []*asking{before, after} {
			for _, acc := range a.on(group[0]) {
				id := a.ID(acc.Identity)
				if here[id] == nil {
					here[id] = &granted{}
				}
				if sums[id] == nil {
					sums[id] = &sum{IntoChange: IntoChange{Identity: id}, had: granted{{}, {}}}
				}
				has := map[model.Permission]bool{} // and whether for certain
				for i := range acc.Conditional.All() {
					has[a.Permission(i).Permission] = false
				}
				for i := range acc.Certain.All() {
					has[a.Permission(i).Permission] = true
				}
				here[id][side] = has
				sums[id].nodes[side] += n
				maps.Copy(sums[id].had[side], has)
			}
		}
		for id, g := range here {
			x := sums[id]
			for p, was := range g[0] {
				switch is, ok := g[1][p]; {
				case !ok:
					x.Lost += n
				case was && !is:
					x.tied += n
				case is && !was:
					x.free += n
				}
			}
			for p := range g[1] {
				if _, ok := g[0][p]; !ok {
					x.Gained += n
				}
			}
		}
	}
	out := []IntoChange{}
	for _, x := range sums {
		less, more := x.Lost+x.tied > 0, x.Gained+x.free > 0
		switch {
		case x.nodes[1] == 0:
			x.Becomes = "lost"
		case x.nodes[0] == 0:
			x.Becomes = "gained"
		case less && more:
			x.Becomes = "other"
		case less:
			x.Becomes = "less"
		case more:
			x.Becomes = "more"
		default:
			continue
		}
		x.Before, x.After = len(x.had[0]), len(x.had[1])
		out = append(out, x.IntoChange)
	}
	slices.SortFunc(out, func(a, b IntoChange) int {
		return cmp.Or(cmp.Compare(a.Becomes, b.Becomes), a.Identity.Compare(b.Identity))
	})
	return out
}

// WaySum is what several grants give together.
type WaySum struct {
	Group       string      `json:"group" doc:"a role, a place or a level"`
	Grants      int         `json:"grants"`
	Permissions int         `json:"permissions"`
	Highest     string      `json:"highest_level"`
	Nodes       int         `json:"nodes" doc:"of the inventory"`
	Top         model.Level `json:"-"` // as Highest
}

// Into is who can do what on some nodes.
type Into struct {
	Rows        []IntoRow // the most dangerous first
	Permissions int       // different ones, of anybody on any of the nodes
	Changes     []IntoChange
}

// Into says who can do what on some nodes, and what changed against before, which may be nil;
// with through also who can by acting as others.
func (s *Source) Into(before *Source, nodes []model.Path, filter *Part, through bool) *Into {
	now := s.asking(filter)
	rows, permissions := now.into(nodes)
	out := &Into{Permissions: permissions}
	if before != nil {
		out.Changes = changed(before.asking(filter), now, nodes)
	}
	if through {
		targets, at := []int{}, map[int]*IntoRow{}
		for i := range rows {
			targets = append(targets, rows[i].number)
			at[rows[i].number] = &rows[i]
		}
		var more []IntoRow
		for _, actor := range s.Actors(targets) {
			r, id := *at[actor.As], s.ID(actor.Identity)
			if filter.Kind == "" || string(id.Kind) == filter.Kind {
				r.As, r.Identity, r.Acting = r.Identity, id, actor.Steps
				more = append(more, r)
			}
		}
		rows = append(rows, more...)
	}
	slices.SortStableFunc(rows, func(x, y IntoRow) int {
		return cmp.Or(cmp.Compare(y.Top, x.Top), cmp.Compare(y.Nodes, x.Nodes), cmp.Compare(y.Certain, x.Certain),
			x.Identity.Compare(y.Identity))
	})
	out.Rows = rows
	return out
}

// WayIn is a grant by which access reaches an identity, or one that it acts as.
type WayIn struct {
	As          model.ID       // zero: it has this as itself
	Steps       []*model.ActAs // by which it acts as that
	Chain       []model.ID     // to whom the grant names
	Grant       *model.Grant
	Permissions access.Set // of those asked for
	Highest     model.Level
	Blocked     int // permissions that are refused everywhere
}

// From is what an identity can do.
type From struct {
	Ways        []WayIn // the most dangerous first; its own before those by acting as others
	Permissions int     // different ones that it can use anywhere, or with Direct is granted by name
	Certain     int     // of them those that hang on no condition
	Nodes       int     // of the inventory, on which it can use any
	ByLevel     [model.HandOut + 1]int
	Nowhere     int // permissions granted besides, that no node of the inventory is of a kind for
	Masks       []access.Mask
}

// From sums up what an identity can do; with through also by acting as others.
func (s *Source) From(id model.ID, filter *Part, through bool) *From {
	asked := filter.bits(s)
	out := &From{Ways: s.ways(id, nil, asked, filter.Under, filter.Direct), Masks: s.Masks(id)}
	total := s.sums(index.Possible, asked, filter.Under)
	certain := s.sums(index.Certain, asked, filter.Under)
	perms, sure := s.NewSet(), s.NewSet()
	var pieces []index.Piece
	count := func(who model.ID) {
		t := total.Totals(who)
		perms.Or(t.Permissions)
		pieces = append(pieces, total.Pieces(who)...)
		sure.Or(certain.Totals(who).Permissions)
	}
	count(id)
	if through {
		for i := range out.Masks {
			out.Ways = append(out.Ways, s.ways(id, &out.Masks[i], asked, filter.Under, false)...)
			count(out.Masks[i].ID)
		}
	}
	granted := s.NewSet()
	for i := range out.Ways {
		granted.Or(out.Ways[i].Permissions)
	}
	if filter.Direct {
		perms = granted
	} else {
		out.Nodes = s.Usable(pieces)
		granted.AndNot(perms)
		out.Nowhere = granted.Count()
	}
	for i := range perms.All() {
		out.ByLevel[s.Level(i)]++
	}
	out.Permissions, out.Certain = perms.Count(), sure.Count()
	return out
}

// ways lists how access reaches an identity, or one that it acts as, the most
// dangerous first.
func (s *Source) ways(id model.ID, as *access.Mask, asked access.Set, under model.Path, direct bool) []WayIn {
	var out []WayIn
	who := id
	if as != nil {
		who = as.ID
	}
	for _, h := range s.Holdings(who) {
		g := h.Grant
		if as != nil && g.To.Open() || direct && len(h.Chain) > 1 {
			continue // it has that as itself
		}
		if !under.IsZero() && !slices.ContainsFunc(g.Where, under.Below().Overlaps) {
			continue
		}
		h.Perms.And(asked)
		w := WayIn{Chain: h.Chain, Grant: g, Permissions: h.Perms, Blocked: h.Blocked}
		if h.Perms.Count() == 0 {
			continue
		}
		for i := range h.Perms.All() {
			w.Highest = max(w.Highest, s.Level(i))
		}
		if as != nil {
			w.As, w.Steps = who, as.Steps
		}
		out = append(out, w)
	}
	slices.SortStableFunc(out, func(x, y WayIn) int {
		return cmp.Or(cmp.Compare(y.Highest, x.Highest), cmp.Compare(y.Permissions.Count(), x.Permissions.Count()))
	})
	return out
}

// Example returns a permission of the first way at its highest level, and a place for it.
func (s *Source) Example(ways []WayIn) (p model.Permission, at model.Path, ok bool) {
	if len(ways) == 0 {
		return p, at, false
	}
	if at, ok = ways[0].Grant.Where[0].Node(); !ok {
		return p, at, false
	}
	for i := range ways[0].Permissions.All() {
		if s.Level(i) == ways[0].Highest {
			return s.Permission(i).Permission, at, true
		}
	}
	return p, at, false
}

// SumWays sums ways up by role, place or level, the most dangerous first.
func (s *Source) SumWays(ways []WayIn, by string) []WaySum {
	type sum struct {
		name   string
		grants map[string]bool
		perms  access.Set
		places []model.PathPattern
		top    model.Level
	}
	var order []*sum
	named := map[string]*sum{}
	add := func(name string, w *WayIn, perms access.Set, on []model.PathPattern, top model.Level) {
		g := named[name]
		if g == nil {
			g = &sum{name: name, grants: map[string]bool{}, perms: s.NewSet()}
			named[name] = g
			order = append(order, g)
		}
		g.grants[w.Grant.ID] = true
		g.perms.Or(perms)
		g.places = append(g.places, on...)
		g.top = max(g.top, top)
	}
	for i := range ways {
		w := &ways[i]
		on := w.Grant.Where
		switch by {
		case "role":
			add(cmp.Or(w.Grant.Role, "(list)"), w, w.Permissions, on, w.Highest)
		case "place":
			for _, p := range on {
				add(p.String(), w, w.Permissions, []model.PathPattern{p}, w.Highest)
			}
		default:
			for l := model.See; l <= model.HandOut; l++ {
				some := s.NewSet()
				for i := range w.Permissions.All() {
					if s.Level(i) == l {
						some.Add(i)
					}
				}
				if some.Count() > 0 {
					add(l.String(), w, some, on, l)
				}
			}
		}
	}
	slices.SortStableFunc(order, func(x, y *sum) int {
		return cmp.Or(cmp.Compare(y.top, x.top), cmp.Compare(y.perms.Count(), x.perms.Count()))
	})
	var out []WaySum
	for _, g := range order {
		out = append(out, WaySum{g.name, len(g.grants), g.perms.Count(), g.top.String(), s.Held(g.places), g.top})
	}
	return out
}
