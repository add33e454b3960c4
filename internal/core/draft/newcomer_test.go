package draft

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestNewcomer: who is new and silent is left alone until enough newcomers were seen to tell what such a one
// will need; then what it hardly will goes, once it had a week.
func TestNewcomer(t *testing.T) {
	for _, tt := range []struct {
		before int // newcomers that were seen
		ago    int // that it came, in days
		works  bool
		drafts bool
	}{{0, 30, false, false}, {60, 30, false, true}, {60, 7, false, true}, {60, 6, false, false}, {60, 0, false, false},
		{60, 7, true, true}, {60, 6, true, false}} {
		now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
		e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}},
			Coverage: []model.CoverageRecord{{Node: model.MustPath("/m"), Service: "s", LogClass: "all",
				Written: true}}}
		for i := range 6 {
			level := model.Change
			if i == 5 {
				level = model.Administer
			}
			e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: verb(i), Level: level,
				Kinds: []string{"box"}, LogClass: "all"})
		}
		for p := range 8 {
			e.Nodes = append(e.Nodes, model.Node{Path: in(p)})
			for b := range 4 {
				e.Nodes = append(e.Nodes, model.Node{Path: in(p).Child("box", word(b))})
			}
		}
		f := usage.Fold{}
		comes := func(name string, ago int, works bool) {
			id := model.MustID(name)
			e.Identities = append(e.Identities, model.Identity{ID: id, Created: now.AddDate(0, 0, -ago)})
			g := grantOf("g-"+id.Name, name, "/m/**")
			g.Created = now.AddDate(0, 0, -ago)
			e.Grants = append(e.Grants, g)
			for day := ago - 2; works && day >= 0; day-- {
				f.Add(usage.Call{Time: now.AddDate(0, 0, -day), Path: in(0).Child("box", word(ago%4)),
					Outcome: usage.Done, Identity: id, Permission: verb(ago % 2)})
			}
		}
		comes("person/old", 900, false)
		for day := range 398 {
			f.Add(usage.Call{Time: now.AddDate(0, 0, -day), Path: in(0).Child("box", word(0)), Outcome: usage.Done,
				Identity: model.MustID("person/old"), Permission: verb(0)})
		}
		for i := range tt.before {
			comes(fmt.Sprint("person/p", i), 370-4*i, true)
		}
		comes("person/new", tt.ago, tt.works)
		life := lived(t, e, f, now)
		res := gauge.Run(life)
		worth := NewWorth(life, res)
		state := res.Of(model.MustID("person/new")).State
		if worth.model.KnowsYoung() != (tt.before > 0) || !tt.works && state != gauge.New {
			t.Fatalf("%d newcomers: known %t, %s", tt.before, worth.model.KnowsYoung(), state)
		}
		got, err := FromUse(life, res, model.MustID("person/new"), Options{Worth: worth, Caution: Normal})
		if tt.drafts != (err == nil) || err != nil && !errors.Is(err, ErrNothing) {
			t.Errorf("%+v: %+v, %v", tt, got, err)
		}
		if err != nil && !tt.works && !strings.Contains(err.Error(), "its silence proves nothing yet (new)") {
			t.Errorf("%+v: %v", tt, err)
		}
	}
}
