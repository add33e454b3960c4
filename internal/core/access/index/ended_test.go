package index_test

import (
	"fmt"
	"testing"
	"time"

	"clipfence/internal/core/model"
)

// BenchmarkInForce leaves a tenth of a hundred thousand grants on one node out, which are over.
func BenchmarkInForce(b *testing.B) {
	now := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	e := &model.Estate{Source: "m", Catalogue: model.Catalogue{{Permission: model.MustPermission("a/b:c"),
		Level: model.Read}}, Nodes: []model.Node{{Path: path("/m")}}}
	for i := range 100_000 {
		who := id(fmt.Sprintf("person/p%d", i/5))
		if i%5 == 0 {
			e.Identities = append(e.Identities, model.Identity{ID: who})
		}
		g := model.Grant{ID: fmt.Sprint(i), To: who, Rights: perms("a/b:c"), Where: on("/m/**")}
		if i%10 == 0 {
			g.Until = now.AddDate(0, 0, -1-i%100)
		}
		e.Grants = append(e.Grants, g)
	}
	x := build(b, e)
	over := 0
	for range x.Ended(now) {
		over++
	}
	for b.Loop() {
		if y := x.InForce(now); y == x || over != 10_000 {
			b.Fatalf("%d are over, and nothing is left out", over)
		}
	}
}

// TestEndsInTheSecond: what is over is told to the nanosecond, and at any time that can be written down.
func TestEndsInTheSecond(t *testing.T) {
	at := func(s string) time.Time {
		out, err := time.Parse(time.RFC3339Nano, s)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	for _, tt := range []struct {
		until, now string
		over       bool
	}{
		{"2026-11-24T12:00:00Z", "2026-11-24T12:00:00Z", true},
		{"2026-11-24T12:00:00.5Z", "2026-11-24T12:00:00.4Z", false},
		{"2026-11-24T12:00:00.5Z", "2026-11-24T12:00:00.5Z", true},
		{"2026-11-24T12:00:01Z", "2026-11-24T12:00:00.9Z", false},
		{"1960-01-01T00:00:00Z", "1950-01-01T00:00:00Z", false},
		{"1960-01-01T00:00:00Z", "1960-01-01T00:00:00Z", true},
		{"1960-01-01T00:00:00Z", "2026-01-01T00:00:00Z", true},
		{"9999-01-01T00:00:00Z", "2026-01-01T00:00:00Z", false},
		{"9999-01-01T00:00:00Z", "2200-01-01T00:00:00Z", false},
		{"2150-01-01T00:00:00Z", "2200-01-01T00:00:00Z", true},
	} {
		e := harbour()
		e.Grants[0].Until = at(tt.until)
		x := build(t, e)
		in := x.InForce(at(tt.now))
		if n, ok := in.GrantNamed(e.Grants[0].ID); in.Over(n) != tt.over || !ok || (in == x) == tt.over {
			t.Errorf("what ends at %s is over at %s: %v, want %v", tt.until, tt.now, in.Over(n), tt.over)
		}
	}
}

// TestNextTurn: the next time at which a grant, a denial or an act-as edge begins or ends is found, whichever it is,
// and what is over is none.
func TestNextTurn(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 1, n, 12, 0, 0, 0, time.UTC) }
	when := func(from, until int) (c model.Condition) {
		if from > 0 {
			c.From = day(from)
		}
		if until > 0 {
			c.Until = day(until)
		}
		return c
	}
	e := &model.Estate{Source: "m", Catalogue: model.Catalogue{{Permission: model.MustPermission("a/b:c"),
		Level: model.Read}}, Nodes: []model.Node{{Path: path("/m")}},
		Identities: []model.Identity{{ID: id("person/a")}, {ID: id("person/b")}},
		Grants: []model.Grant{
			{ID: "1", To: id("person/a"), Rights: perms("a/b:c"), Where: on("/m/**")},
			{ID: "2", To: id("person/a"), Rights: perms("a/b:c"), Where: on("/m/**"), Until: day(20)},
			{ID: "3", To: id("person/a"), Rights: perms("a/b:c"), Where: on("/m/**"), When: when(4, 18)},
			{ID: "4", To: id("person/a"), Rights: perms("a/b:c"), Where: on("/m/**"), When: when(0, 2)}},
		Denials: []model.Denial{{ID: "d", To: []model.ID{id("person/a")}, Rights: perms("a/b:c"), Where: on("/m/**"),
			When: when(6, 16)}},
		ActAs: []model.ActAs{{ID: "s", From: id("person/a"), To: id("person/b"), When: when(8, 14)}}}
	x := build(t, e)
	at := day(1)
	for _, want := range []int{2, 4, 6, 8, 14, 16, 18, 20} {
		if got := x.NextTurn(at); !got.Equal(day(want)) {
			t.Fatalf("after %s it is %s, want %s", at, got, day(want))
		}
		at = day(want)
	}
	if got := x.NextTurn(at); !got.IsZero() {
		t.Errorf("after all it is %s", got)
	}
}
