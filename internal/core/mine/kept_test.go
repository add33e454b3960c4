package mine

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/kept"
)

// TestKept: of random lines each number of roles has the roles that it had, also where many
// choices cost the same, of few kinds of need and of more than are looked at one and all.
func TestKept(t *testing.T) {
	kept.Same(t, 300, func(i int) (name, text string) {
		r := rand.New(rand.NewPCG(uint64(i), 8))
		var lines []Line
		switch i % 3 {
		case 0:
			lines = random(r, 1+r.IntN(24), 6+r.IntN(10), r.IntN(2) == 0)
		case 1: // of more needs than are looked at in all partitions
			lines = random(r, 20+r.IntN(60), 12+r.IntN(30), r.IntN(2) == 0)
		case 2: // few permissions and whole prices, so that much costs the same
			lines = random(r, 2+r.IntN(60), 4+r.IntN(8), r.IntN(3) > 0)
			for k := range lines {
				price := float64(r.IntN(3))
				lines[k].Cost = func(perm int) float64 { return price * float64(1+perm%2) }
			}
		}
		limit := exactly
		if r.IntN(3) == 0 {
			limit = r.IntN(4)
		}
		var b strings.Builder
		for _, p := range curve(lines, limit) {
			fmt.Fprintf(&b, "%v %.9g %d %d:", p.Of, p.Extra, p.Permissions, p.Complexity())
			for _, role := range p.Roles {
				fmt.Fprintf(&b, " %v", permsOf(role))
			}
			b.WriteString("\n")
		}
		return fmt.Sprint(i), b.String()
	})
}

func permsOf(s access.Set) (out []int) {
	for p := range s.All() {
		out = append(out, p)
	}
	return out
}
