package draft

import (
	"fmt"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// TestAgainst: what is wanted is missing where it is not granted, or only under a condition or until
// a time; what is granted and not wanted is more than was asked for.
func TestAgainst(t *testing.T) {
	now := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
	for _, tt := range []struct {
		when  model.Condition
		until time.Time
		where string
		want  string // missing, granted, in excess
	}{
		{model.Condition{}, time.Time{}, "/m/**", "0 1 1"},
		{model.Condition{}, time.Time{}, "/m/box:a/**", "0 1 0"},
		{model.Condition{}, time.Time{}, "/m/box:b/**", "1 0 1"},
		{model.Condition{SecondFactor: true}, time.Time{}, "/m/**", "1 0 1"},
		{model.Condition{}, now.AddDate(0, 1, 0), "/m/**", "1 0 1"},
	} {
		who := model.MustID("person/p")
		read := []model.PermissionPattern{model.MustPermissionPattern("s/box:read")}
		x, err := index.Build(&model.Estate{Source: "m",
			Catalogue:  []model.CatalogueEntry{{Permission: model.MustPermission("s/box:read"), Level: model.Read}},
			Nodes:      []model.Node{{Path: model.MustPath("/m")}, {Path: model.MustPath("/m/box:a")}},
			Identities: []model.Identity{{ID: who}},
			Grants: []model.Grant{{ID: "g", To: who, Rights: model.Rights{Do: read}, When: tt.when, Until: tt.until,
				Where: []model.PathPattern{model.MustPathPattern(tt.where)}}}})
		if err != nil {
			t.Fatal(err)
		}
		g := Against(x, who, []Want{{Do: read, Where: []model.PathPattern{model.MustPathPattern("/m/box:a/**")}}})
		if got := fmt.Sprint(len(g.Missing), len(g.Granted), len(g.Excess)); got != tt.want {
			t.Errorf("%v until %v on %s: %s, want %s", tt.when, tt.until, tt.where, got, tt.want)
		}
	}
}
