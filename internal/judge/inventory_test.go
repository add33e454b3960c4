package judge

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestInventoryOfAnIndex: what an index lists, and a list of nodes that are gone, answer of every path as a
// list of all of them does.
func TestInventoryOfAnIndex(t *testing.T) {
	const seed = 12
	r := rand.New(rand.NewPCG(seed, 0))
	kinds := []string{"unit:", "box:", "crate:", ""}
	path := func(depth int) model.Path {
		p := model.MustPath("/m")
		for range r.IntN(depth) {
			p = model.MustPath(fmt.Sprintf("%s/%s%c", p, kinds[r.IntN(len(kinds))], 'a'+rune(r.IntN(3))))
		}
		return p
	}
	for range 300 {
		var now, gone []model.Path
		e := &model.Estate{Source: "m"}
		for range 1 + r.IntN(12) {
			p := path(4)
			if r.IntN(3) == 0 {
				gone = append(gone, p)
				continue
			}
			now = append(now, p)
			e.Nodes = append(e.Nodes, model.Node{Path: p})
		}
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		var complete []string
		if r.IntN(2) == 0 {
			complete = []string{"box"}
		}
		one := usage.NewInventory("m", append(now, gone...), complete)
		two := usage.InventoryOf(x, gone, complete)
		for range 60 {
			p := path(5)
			a, ok := one.Unknown(p)
			b, same := two.Unknown(p)
			if ok != same || a != b {
				t.Fatalf("now %v, gone %v, complete %v: of %s %s %t, by the index %s %t", now, gone, complete, p, a,
					ok, b, same)
			}
		}
		if at, unknown := two.Unknown(model.MustPath("/other/box:a")); !unknown {
			t.Fatalf("a path of another source is known: %s", at)
		}
	}
}
