package usage

import (
	"clipfence/internal/core/model"
)

// An Inventory answers whether a path can be one of a source: whether it names nothing
// that a completely listed kind of node does not have.
type Inventory struct {
	source   string
	now      Nodes // may be nil
	nodes    map[model.Path]bool
	complete map[string]bool  // kinds of which every node is listed, as the source says
	beside   map[sibling]bool // without that: kinds that are listed below a node
}

// Nodes is what a survey lists.
type Nodes interface {
	Source() string
	// ListedDepth returns the depth of the deepest node at or above a path; 0: there is none.
	ListedDepth(p model.Path) int
	// ListsBeside reports whether a node has one of a kind right below it.
	ListsBeside(parent model.Path, kind string) bool
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
		if len(v.nodes) > 0 && v.nodes[at] {
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

// has reports whether nodes of a kind are listed right below a node.
func (v *Inventory) has(up model.Path, kind string) bool {
	return v.beside[sibling{up, kind}] || v.now != nil && v.now.ListsBeside(up, kind)
}
