package usage

import (
	"slices"

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
	if v == nil {
		return model.Path{}, false
	}
	if p.Source() != v.source {
		return p, true
	}
	unknown, listed := model.Path{}, 0
	if v.now != nil {
		listed = v.now.ListedDepth(p)
	}
	depth := p.Depth()
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

// Saw adds nodes of which the log shows that they were there once: they are not unknown, nor what is
// below them. That says nothing about which kinds are listed.
func (v *Inventory) Saw(nodes []model.Path) {
	if v.saw == nil {
		v.saw = make(map[model.Path]bool, len(nodes))
	}
	for _, n := range nodes {
		v.saw[n] = true
	}
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

// comesAndGoes are the verbs by which something comes, or is there no more.
var comesAndGoes = []string{"create", "delete", "destroy", "drop", "remove", "terminate"}

// Witnessed returns nodes of which calls that were done show that they were there: they were made
// or thrown away under that very name. kinds returns of a permission to which kinds of node it applies; one
// whose noun is none of them makes or throws away something in them.
func Witnessed(uses *Uses, kinds func(model.Permission) []string) []model.Path {
	of := map[model.Permission][]string{}
	var out []model.Path
	for _, u := range uses.All() {
		on, known := of[u.Permission]
		if !known {
			if slices.Contains(comesAndGoes, u.Permission.Verb()) {
				noun := u.Permission.Noun()
				on = slices.DeleteFunc(slices.Clone(kinds(u.Permission)), func(k string) bool {
					return k != noun && k+"s" != noun && k+"es" != noun
				})
			}
			of[u.Permission] = on
		}
		if len(on) == 0 || u.Outcome != Done { // what failed may have found nothing there
			continue
		}
		if kind, _ := u.Path.Last(); kind != "" && slices.Contains(on, kind) {
			out = append(out, u.Path)
		}
	}
	return out
}

// has reports whether nodes of a kind are listed right below a node.
func (v *Inventory) has(up model.Path, kind string) bool {
	return v.beside[sibling{up, kind}] || v.now != nil && v.now.ListsBeside(up, kind)
}
