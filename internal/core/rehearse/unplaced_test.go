package rehearse_test

import (
	"fmt"
	"testing"

	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/rehearse"
)

// TestUnplaced: a call that cannot be placed fails a fence that takes away what it may have
// been a use of, and no other; whoever accepts the risk takes it.
func TestUnplaced(t *testing.T) {
	const grant = "inventory\n" +
		"grant g1 workload/a stow/item:change,stow/item:find,stow/item:read,stow/box:scrap,muster/grant:give /m/**\n" +
		"used workload/a stow/item:read /m/berth:x/box:b1/1 1-80\n"
	for _, tt := range []struct{ name, used, fence, want string }{
		{"all is placed", "", "-g1; stow/item:read /m/**", "ok true, 0 not placed"},
		{"on a place that is not there, and its permission goes",
			"used workload/a stow/item:change /m/berth:z/box:b1 1-9", "-g1; stow/item:read /m/**",
			"ok false, 1 not placed"},
		{"on a place that is not there, and its permission stays",
			"used workload/a stow/item:change /m/berth:z/box:b1 1-9", "-g1; stow/item:read,stow/item:change /m/**",
			"ok true, 0 not placed"},
		{"an operation that nothing maps, of a service of which something goes",
			"used workload/a stow/item:fly /m/berth:x/box:b1 1-9", "-g1; stow/item:read,muster/grant:give /m/**",
			"ok false, 1 not placed"},
		{"an operation that nothing maps, where a grant beside the one that goes reaches",
			"grant g2 workload/a stow/item:find /m/berth:x/box:b5/**\n" +
				"used workload/a stow/item:fly /m/berth:x/box:b5 1-9",
			"-g2; stow/item:find /m/berth:x/box:b5/**", "ok true, 0 not placed"},
		{"an operation that nothing maps, of a service that stays whole",
			"used workload/a muster/roll:call /m/berth:x 1-9", "-g1; stow/item:read,muster/grant:give /m/**",
			"ok true, 0 not placed"},
		{"an operation that nothing maps, where nothing reaches, of a service of which something goes",
			"used workload/a stow/item:fly /elsewhere/box:b1 1-9", "-g1; stow/item:read,muster/grant:give /m/**",
			"ok false, 1 not placed"},
		{"the same, of a service that stays whole",
			"used workload/a muster/roll:call /elsewhere/box:b1 1-9", "-g1; stow/item:read,muster/grant:give /m/**",
			"ok true, 0 not placed"},
		{"an operation of no service that is known", "used workload/a mystery/box:open /m/berth:x/box:b1 1-9",
			"-g1; stow/item:read /m/**", "ok false, 1 not placed"},
		{"so long ago that its habit is over", "used workload/a stow/item:fly /m/berth:x/box:b1 300-390",
			"-g1; stow/item:read,muster/grant:give /m/**", "ok true, 0 not placed"},
		{"of one who cannot sign in any more",
			"used workload/a stow/item:fly /m/berth:x/box:b1 1-9\ndisabled workload/a",
			"-g1; stow/item:read /m/**", "ok true, 0 not placed"},
		{"another's", "used workload/b stow/item:fly /m/berth:x/box:b1 1-9", "-g1; stow/item:read /m/**",
			"ok true, 0 not placed"},
	} {
		in, err := gaugetest.Parse(grant + tt.used)
		if err != nil {
			t.Fatal(err)
		}
		p := gauge.Place(in.Index, in.Uses, in.Span(), in.Place)
		r, err := rehearse.Run(in.Index, hand("workload/a", tt.fence), in.Uses, p, gauge.DefaultWeights)
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprintf("ok %t, %d not placed", r.OK(), len(r.Unplaced)); got != tt.want {
			t.Errorf("%s: %s, want %s; broken %v, widened %v", tt.name, got, tt.want, r.Broken, r.Widened)
		}
		if r.Accepted = true; !r.OK() {
			t.Errorf("%s: accepted, and it does not hold", tt.name)
		}
		if r.Cannot = []string{"a line"}; r.OK() {
			t.Errorf("%s: it holds, and the source cannot say it", tt.name)
		}
	}
}
