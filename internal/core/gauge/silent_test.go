package gauge_test

import (
	"strings"
	"testing"

	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
)

// TestSilentWhereSeen: whoever may only go on where no log shows it is judged by what logs would have shown: of a
// grant, and of a group whose members are all so.
func TestSilentWhereSeen(t *testing.T) {
	const grants = "grant g1 %s stow/item:read,muster/grant:give /m/**\nlog /m/berth:x/box:b3 off\n"
	for _, tt := range []struct {
		name, to, text, want string
		dark                 bool
	}{
		{"never used anything", "workload/a", "", "give x read o", true},
		{"made after the log began", "workload/a", "young workload/a 300", "give h read h", false},
		{"made as the log began", "workload/a", "young workload/a 400", "give x read o", true},
		{"worked here once", "workload/a", "used workload/a stow/item:read /m/berth:x/box:b1 120-300", "give x read o",
			true},
		{"a group of both", "group/g", "member workload/a group/g\nmember workload/b group/g", "give x read o", true},
		{"a group of one, and of a young one", "group/g",
			"member workload/a group/g\nmember workload/b group/g\nyoung workload/b 300", "give h read h", true},
		{"somebody unknown reads", "workload/a", "used person/zed stow/item:read /m/berth:x/box:b1 1-80",
			"give x read f", true},
		{"somebody unknown reads, and it has worked here", "workload/a", "used person/zed stow/item:read " +
			"/m/berth:x/box:b1 1-80\nused workload/a stow/item:read /m/berth:x/box:b1 120-300", "give x read f", true},
		{"somebody unknown does what nobody knows", "workload/a",
			"used person/zed odd/thing:do /m/berth:x/box:b1 1-80", "give h read h", false},
	} {
		in := scenario(t, strings.ReplaceAll(grants, "%s", tt.to)+tt.text)
		r := gauge.Run(in)
		s := r.Of(model.MustID("workload/a"))
		if s.State != gauge.Unproven || s.Dark != tt.dark {
			t.Errorf("%s: %s, dark %t", tt.name, s.State, s.Dark)
		}
		if got := classes(t, in, r.Grants[0]); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
		holder, judged := r.Of(model.MustID(tt.to)), tt.want != "give h read h"
		stays := gauge.DefaultWeights.Of(model.Read, 1) // at least
		if (holder.Removable > 0) != judged || holder.Removable > holder.Danger-stays {
			t.Errorf("%s: %.1f of %.1f can go", tt.name, holder.Removable, holder.Danger)
		}
		if judged && r.Grants[0].HeldBy != gauge.Unproven {
			t.Errorf("%s: held by %q", tt.name, r.Grants[0].HeldBy)
		}
	}
}

// TestUnknownWhoLeft: a caller whom nobody knows may be anybody who is silent, as long as it goes on calling. One that
// stopped for good keeps nobody: whoever it was is as silent as the others.
func TestUnknownWhoLeft(t *testing.T) {
	for _, tt := range []struct {
		when string
		want gauge.State
	}{
		{"1-80", gauge.Unproven}, {"95-110", gauge.Unproven}, {"150-390", gauge.Idle}, {"300-301", gauge.Unproven},
	} {
		in := scenario(t, "grant g1 workload/a stow/item:* /m/**\n"+
			"used person/zed stow/item:read /m/berth:x/box:b1 "+tt.when+"\n"+
			"used person/zed stow/item:find /m/berth:x/box:b1 150-150") // once, which may be a year's rhythm
		if got := gauge.Run(in).Of(model.MustID("workload/a")).State; got != tt.want {
			t.Errorf("somebody called %s days ago: %s, want %s", tt.when, got, tt.want)
		}
	}
}
