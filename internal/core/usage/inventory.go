package usage

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"clipfence/internal/core/model"
)

// An Inventory answers whether a path can be one of a source: whether it names nothing
// that a completely listed kind of node does not have.
type Inventory struct {
	source   string
	now      Nodes // may be nil
	nodes    map[model.Path]bool
	saw      map[model.Path]bool // that the log shows to have been there
	fleeting []model.PathPattern // of what comes and goes
	complete map[string]bool     // kinds of which every node is listed, as the source says
	beside   map[sibling]bool    // without that: kinds that are listed below a node
}

// Nodes is what a survey lists.
type Nodes interface {
	Source() string
	// ListedDepth returns the depth of the deepest node at or above a path; 0: there is none.
	ListedDepth(p model.Path) int
	// ListsBeside reports whether a node has one of a kind right below it.
	ListsBeside(parent model.Path, kind string) bool
	// ListsKind reports whether there is any node of a kind.
	ListsKind(kind string) bool
	// NodesLike yields the nodes that one of some patterns matches.
	NodesLike(on []model.PathPattern, yield func(model.Path))
}

// InventoryOf is [NewInventory] of the newest survey, and of the nodes that only earlier ones listed.
func InventoryOf(now Nodes, gone []model.Path, complete []string) *Inventory {
	v := NewInventory(now.Source(), gone, complete)
	v.now = now
	return v
}

type sibling struct {
	parent model.Path
	kind   string
}

// NewInventory makes an inventory of the nodes that some survey of a source listed, and
// of the kinds of which its newest one lists every node. Where a source names no kinds, a
// kind is taken for complete below each node that has some of it in the inventory: a name
// beside those that are listed is more likely wrong than new.
func NewInventory(source string, nodes []model.Path, complete []string) *Inventory {
	v := &Inventory{source: source, nodes: make(map[model.Path]bool, len(nodes)), complete: map[string]bool{},
		beside: map[sibling]bool{}}
	for _, k := range complete {
		v.complete[k] = true
	}
	for _, n := range nodes {
		v.nodes[n] = true
		if up, ok := n.Parent(); ok && len(complete) == 0 {
			if kind, _ := n.Last(); kind != "" {
				v.beside[sibling{up, kind}] = true
			}
		}
	}
	return v
}

// Unknown returns the first part of a path that should be listed and is not.
func (v *Inventory) Unknown(p model.Path) (model.Path, bool) {
	listed := 0
	if v != nil && v.now != nil {
		listed = v.now.ListedDepth(p)
	}
	return v.below(p, listed)
}

// UnknownBelow is [Inventory.Unknown] of a path that has been looked up: now lists it down to a depth.
func (v *Inventory) UnknownBelow(p model.Path, now Nodes, listed int) (model.Path, bool) {
	if v != nil && v.now != now {
		return v.Unknown(p)
	}
	return v.below(p, listed)
}

func (v *Inventory) below(p model.Path, listed int) (model.Path, bool) {
	if v == nil {
		return model.Path{}, false
	}
	if p.Source() != v.source {
		return p, true
	}
	unknown, depth := model.Path{}, p.Depth()
	for at, ok := p, true; ok && depth > listed; at, ok = at.Parent() { // from below: the topmost one counts
		depth--
		if v.was(at) {
			break // and so is what is above it
		}
		kind, _ := at.Last()
		up, _ := at.Parent()
		if kind != "" && (v.complete[kind] || len(v.complete) == 0 && v.has(up, kind)) {
			unknown = at
		}
	}
	return unknown, !unknown.IsZero()
}

// ComeAndGo adds places of nodes that come and go between surveys: one that no survey lists is gone.
func (v *Inventory) ComeAndGo(on []model.PathPattern) { v.fleeting = append(v.fleeting, on...) }

// was reports whether a node that is not listed now was there once.
func (v *Inventory) was(at model.Path) bool {
	return v.nodes[at] || v.saw[at] ||
		slices.ContainsFunc(v.fleeting, func(on model.PathPattern) bool { return on.Matches(at) })
}

// Gone returns the node that held a path and is not there any more: one that only an earlier survey
// listed, the log shows or somebody says, or what lies below such a one, down to the last kind of
// which nodes are listed now.
func (v *Inventory) Gone(p model.Path) (model.Path, bool) {
	if v == nil || v.now == nil || len(v.nodes)+len(v.saw)+len(v.fleeting) == 0 {
		return model.Path{}, false
	}
	node := model.Path{}
	listed := v.now.ListedDepth(p)
	depth := p.Depth()
	for at, ok := p, true; ok && depth > listed; at, ok = at.Parent() {
		depth--
		if v.was(at) {
			if node.IsZero() {
				node = at
			}
			return node, true
		}
		if kind, _ := at.Last(); node.IsZero() && kind != "" && v.now.ListsKind(kind) {
			node = at
		}
	}
	return model.Path{}, false
}

// named is what is listed of one kind right below a node.
type named struct {
	names map[string]bool // in small letters
	used  bool
}

func rowOf(p model.Path) sibling {
	up, _ := p.Parent()
	kind, _ := p.Last()
	return sibling{up, kind}
}

// Witness adds nodes that are not listed and of which calls that were done show that they were there: they
// were made or thrown away under that very name. They are not unknown then, nor is what is below them; it
// says nothing about which kinds are listed. kinds returns of a permission to which kinds of node it
// applies; one whose noun is none of them makes or throws away something in them.
//
// A log whose names are wrong is no witness: such a node must lie in one that is known, others of its kind
// that are listed there must be called by their names, and none of them by nearly the same.
func (v *Inventory) Witness(uses *Uses, kinds func(model.Permission) []string) {
	if v.now == nil {
		return
	}
	made := v.made(uses, kinds)
	if len(made) == 0 {
		return
	}
	rows := map[sibling]*named{}
	var on []model.PathPattern
	for p := range made {
		if r := rowOf(p); rows[r] == nil {
			if beside, err := model.ParsePathPattern(r.parent.String() + "/" + r.kind + ":*"); err == nil {
				rows[r], on = &named{names: map[string]bool{}}, append(on, beside)
			}
		}
	}
	listed := map[model.Path]*named{}
	v.now.NodesLike(on, func(p model.Path) {
		if r := rows[rowOf(p)]; r != nil {
			_, name := p.Last()
			listed[p], r.names[strings.ToLower(name)] = r, true
		}
	})
	for _, u := range uses.All() {
		for at, ok := u.Path, u.Outcome.Allowed(); ok; at, ok = at.Parent() {
			if r := listed[at]; r != nil {
				r.used = true
			}
		}
	}
	v.saw = map[model.Path]bool{}
	for _, p := range slices.SortedFunc(maps.Keys(made), func(a, b model.Path) int { // from above
		return cmp.Or(cmp.Compare(a.Depth(), b.Depth()), a.Compare(b))
	}) {
		r := rows[rowOf(p)]
		_, name := p.Last()
		up, _ := p.Parent()
		if _, unknown := v.Unknown(up); r != nil && r.used && !r.names[strings.ToLower(name)] && !unknown {
			v.saw[p] = true
		}
	}
}

// comesAndGoes are the verbs by which something comes, or is there no more.
var comesAndGoes = []string{"create", "delete", "destroy", "drop", "remove", "terminate"}

// made returns the paths of nodes, not listed, that calls made or threw away.
func (v *Inventory) made(uses *Uses, kinds func(model.Permission) []string) map[model.Path]bool {
	if uses.Len() == 0 {
		return nil
	}
	of := make([][]string, len(uses.perms)) // of each permission: the kinds that it makes; of most none
	for i, p := range uses.perms {
		if slices.Contains(comesAndGoes, p.Verb()) {
			noun := p.Noun()
			of[i] = slices.DeleteFunc(slices.Clone(kinds(p)), func(k string) bool {
				return k != noun && k+"s" != noun && k+"es" != noun
			})
		}
	}
	out := map[model.Path]bool{}
	for i := range uses.rows {
		r := &uses.rows[i]
		on := of[r.Permission]
		if len(on) == 0 || r.Outcome.Outcome() != Done { // what failed may have found nothing there
			continue
		}
		path := uses.paths[r.Path]
		if kind, _ := path.Last(); kind != "" && slices.Contains(on, kind) && v.now.ListedDepth(path) < path.Depth() {
			out[path] = true
		}
	}
	return out
}

// has reports whether nodes of a kind are listed right below a node.
func (v *Inventory) has(up model.Path, kind string) bool {
	return v.beside[sibling{up, kind}] || v.now != nil && v.now.ListsBeside(up, kind)
}
