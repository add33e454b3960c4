package gauge_test

import (
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
)

// TestEndingAccess: what is used and ends within thirty days is told; not what is lent for a time, ends
// later, is over, or is not used.
func TestEndingAccess(t *testing.T) {
	for name, tt := range map[string]struct {
		created, until int // in days from now; 0: never
		used           string
		want           int
	}{
		"soon":                 {-300, 20, "1-80", 1},
		"on the last day":      {-300, 30, "1-80", 1},
		"a day later":          {-300, 31, "1-80", 0},
		"over":                 {-300, -1, "1-80", 0},
		"for good":             {-300, 0, "1-80", 0},
		"not used":             {-300, 20, "200-300", 0},
		"lent":                 {-5, 20, "1-4", 0},
		"for longer":           {-11, 20, "1-4", 1},
		"nobody knows so long": {0, 20, "1-80", 1},
	} {
		in, err := gaugetest.Parse("grant g workload/a stow/item:read /m/**\nused workload/a stow/item:read " +
			"/m/berth:x/box:b1/x " + tt.used)
		if err != nil {
			t.Fatal(err)
		}
		n, _ := in.Index.GrantNamed("g")
		g := *in.Index.Grant(n)
		if g.Created = gaugetest.Now.AddDate(0, 0, tt.created); tt.created == 0 {
			g.Created = time.Time{}
		}
		if tt.until != 0 {
			g.Until = gaugetest.Now.AddDate(0, 0, tt.until)
		}
		if in.Index, err = in.Index.With(access.Edit{Come: access.Come{Grants: []model.Grant{g}}}); err != nil {
			t.Fatal(err)
		}
		found := 0
		for _, f := range gauge.Findings(in, gauge.Run(in)) {
			if f.Kind == gauge.EndingAccess {
				found++
				if f.Severity != gauge.Medium || f.Danger != 0 || f.Grant.Grant.ID != "g" {
					t.Errorf("%s: %+v", name, f)
				}
			}
		}
		if found != tt.want {
			t.Errorf("%s: told %d times, want %d", name, found, tt.want)
		}
	}
}
