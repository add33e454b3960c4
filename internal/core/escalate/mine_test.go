package escalate

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// TestTwoWays: whoever asks about one identity, through the grants of each that it is in, and whoever asks about
// everybody, move by move, are told the same of everybody: also of what one holds under a condition here and whatever
// the call there, of groups in groups, of crowds, and of edges.
func TestTwoWays(t *testing.T) {
	who := []string{"person/a", "person/b", "workload/w", "group/g", "group/admins", "everyone", "signed-in"}
	held := 0
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 35))
		one := func(of ...string) string { return of[r.IntN(len(of))] }
		var rules []string
		for range 1 + r.IntN(8) {
			rules = append(rules, one(who...)+" may "+one("id/grant:create", "id/group:join", "id/key:mint",
				"run/errand:edit", "id/denial:lift", "run/errand:read", "*")+" on "+
				one("/s/harbour:o/**", "/s/harbour:o", "/s/harbour:o/berth:*", "/s/harbour:o/berth:p/**"))
		}
		for _, rule := range []string{"person/a in group/g", "group/g in group/admins", "person/b in group/admins",
			one("person/a", "group/g", "everyone") + " as workload/w"} {
			if r.IntN(3) > 0 {
				rules = append(rules, rule)
			}
		}
		e := scene(t, strings.Join(rules, "; "))
		for i := range e.Grants {
			e.Grants[i].When.SecondFactor = r.IntN(2) == 0
		}
		x, err := index.Build(e)
		if err != nil {
			t.Fatal(err)
		}
		g := New(x, []model.Path{model.MustPath("/s/harbour:o/berth:p")})
		alone := make([]holders, x.Identities())
		for _, n := range r.Perm(len(alone)) {
			alone[n] = g.mine(n)
			held += len(alone[n])
		}
		g.settle()
		for n, got := range alone {
			if want := g.mine(n); !slices.Equal(got, want) {
				t.Fatalf("seed %d: %s: %v, want %v\n%s", seed, x.ID(n), got, want, strings.Join(rules, "\n"))
			}
		}
	}
	if held < 4000 {
		t.Errorf("only %d are held", held)
	}
}
