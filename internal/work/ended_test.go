package work

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/model"
)

// TestOver: what is over counts as what was granted once; it was held when a past day is asked about, and by
// nobody today, whatever is edited besides.
func TestOver(t *testing.T) {
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	end := now.AddDate(0, 0, -10)
	estate := fmt.Sprintf(`estate: 2
source: m
catalogue: [{permission: "s/box:put", level: change, log_class: all}]
nodes: [{path: "/m"}, {path: "/m/box:a"}, {path: "/m/box:b"}]
identities: [{id: person/ash, created: 2024-01-01T00:00:00Z}, {id: person/bo, created: 2024-01-01T00:00:00Z}]
grants:
  - {id: lent, to: person/ash, do: ["s/box:put"], where: ["/m/**"], created: 2025-01-01T00:00:00Z, until: %s}
  - {id: lasts, to: person/bo, do: ["s/box:put"], where: ["/m/**"], created: 2025-01-01T00:00:00Z, until: 2027-01-01T00:00:00Z}
coverage: [{node: "/m", written: true}]
`, end.Format(time.RFC3339))
	var log strings.Builder
	for d := range 200 {
		at := now.AddDate(0, 0, -d-1)
		who := "ash"
		if at.After(end) {
			who = "bo"
		}
		fmt.Fprintf(&log, `{"t":%d,"n":"c%d","who":%q,"do":"s/box:put","on":"/m/box:a"}`+"\n", at.Unix(), d, who)
	}
	fmt.Fprintf(&log, `{"t":%d,"n":"late","who":"ash","do":"s/box:put","on":"/m/box:b"}`+"\n",
		now.AddDate(0, 0, -2).Unix()) // which nothing explains: something else lets it through
	w := madeUp(t, t.TempDir(), now, estate, log.String())
	if err := w.Survey(t.Context(), false, func(SurveyResult) {}); err != nil {
		t.Fatal(err)
	}
	s, in, res, err := w.gauged(t.Context(), w.Sources[0], 0, noPaths)
	if err != nil {
		t.Fatal(err)
	}
	ash, do, on := model.MustID("person/ash"), model.MustPermission("s/box:put"), model.MustPath("/m/box:a")
	held := func(s *Source) bool { return s.Decide(ash, do, on, model.Context{}).Outcome != access.Denied }
	if held(s) || len(s.GrantsTo(ash)) > 0 ||
		res.Of(ash).Danger != 0 || res.Placement.Calls != 201 || res.Placement.Placed != 200 {
		t.Errorf("what is over is held: %v, by %v; danger %.1f; %d of %d calls are placed", held(s),
			s.GrantsTo(ash), res.Of(ash).Danger, res.Placement.Placed, res.Placement.Calls)
	}
	if over := s.OverFor(ash); len(over) != 1 || over[0] != (Ending{"lent", ash, end}) {
		t.Errorf("over is %v", over)
	}
	if b, _, err := w.before(t.Context(), s); err != nil || b == nil || len(b.Gone) != 1 || !b.Gone[0].To.Equal(end) ||
		b.Gone[0].Grant.To != ash {
		t.Errorf("what was there before is %+v, %v", b, err)
	}
	// As of a day on which it was in force.
	day := end.AddDate(0, 0, -20)
	old, _, err := w.estateOf(t.Context(), s, res, day, nil)
	if err != nil || !held(old) {
		t.Errorf("as of %s it was not held: %v", day, err)
	}
	w.AsOf = day
	if s, err := w.Surveyed(t.Context(), w.Sources[0]); err != nil || !held(s) || len(s.OverFor(ash)) > 0 {
		t.Errorf("asked about %s it is over: %v, %v", day, s.OverFor(ash), err)
	}
	// An edited source has no more of it than before; what an edit gives, it has.
	edited, err := s.as(access.Edit{Gone: access.Gone{Grants: []string{"lasts"}}})
	if err != nil || held(edited) || len(edited.OverFor(ash)) != 1 {
		t.Errorf("without another grant it is held: %v", err)
	}
	if edited, err = s.as(access.Edit{Gone: access.Gone{Grants: []string{"lent"}}}); err != nil ||
		len(edited.OverFor(ash)) > 0 {
		t.Errorf("what is taken out is still listed: %v", err)
	}
	if in.Index != s.Index {
		t.Error("the comparison is of something else")
	}
}
