package gauge_test

import (
	"testing"

	"clipfence/internal/core/access"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
)

// TestBegins: what begins on a day is as new as that day, whenever it was written down; and somebody to whom
// something is granted from a day that is to come is not idle.
func TestBegins(t *testing.T) {
	for name, tt := range map[string]struct {
		from   int // in days from now
		used   string
		unused bool
		state  gauge.State
	}{
		"to come":          {20, "1-80", false, gauge.Active},
		"begun lately":     {-10, "1-80", false, gauge.Active},
		"begun long ago":   {-100, "1-80", true, gauge.Active},
		"expected":         {20, "250-399", false, gauge.New},
		"begun, and idle":  {-10, "250-399", false, gauge.Idle},
		"idle for long":    {-100, "250-399", true, gauge.Idle},
		"expected, unseen": {1, "", false, gauge.New},
	} {
		text := "grant old workload/a stow/item:read /m/**\ngrant g workload/a stow/item:change /m/**\n"
		if tt.used != "" {
			text += "used workload/a stow/item:read /m/berth:x/box:b1/x " + tt.used
		}
		in, err := gaugetest.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		n, _ := in.Index.GrantNamed("g")
		g := *in.Index.Grant(n)
		g.When.From = gaugetest.Now.AddDate(0, 0, tt.from)
		if in.Index, err = in.Index.With(access.Edit{Come: access.Come{Grants: []model.Grant{g}}}); err != nil {
			t.Fatal(err)
		}
		res := gauge.Run(in)
		n, _ = in.Index.GrantNamed("g")
		if got := res.Grants[n]; (got.Unused.Count() > 0) != tt.unused ||
			got.TooNew.Count()+got.Held.Count() > 0 == tt.unused ||
			tt.from > -90 && !got.Since.Equal(g.When.From) {
			t.Errorf("%s: %d not used, %d too new, %d held, since %s", name, got.Unused.Count(),
				got.TooNew.Count(), got.Held.Count(), got.Since)
		}
		if s := res.Of(model.MustID("workload/a")); s.State != tt.state {
			t.Errorf("%s: it is %s, want %s", name, s.State, tt.state)
		}
	}
}
