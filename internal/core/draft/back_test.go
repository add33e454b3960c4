package draft_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
)

// TestBackAt: a line that is given back stands in for the very place of a call that it allows, the narrowest of
// several, and never one that asks for something, gives something else or is that place with what is below.
func TestBackAt(t *testing.T) {
	e := &model.Estate{Source: "m", Nodes: []model.Node{{Path: model.MustPath("/m")}},
		Identities: []model.Identity{{ID: model.MustID("person/p")}}}
	for _, p := range []string{"s/box:put", "s/box:get"} {
		e.Catalogue = append(e.Catalogue, model.CatalogueEntry{Permission: model.MustPermission(p),
			Level: model.Change})
	}
	for i := range 9 {
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(fmt.Sprintf("/m/box:run-%d", i))})
	}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	line := func(do string, when model.Condition, chance float64, where ...string) fence.Allow {
		a := fence.Allow{Do: []model.PermissionPattern{model.MustPermissionPattern(do)}, When: when,
			Evidence: fence.Evidence{Chance: chance}}
		for _, on := range where {
			a.Where = append(a.Where, model.MustPathPattern(on))
		}
		return a
	}
	factor := model.Condition{SecondFactor: true}
	calls := []draft.Refused{
		{Permission: model.MustPermission("s/box:put"), Path: model.MustPath("/m/box:run-1"), Count: 3, Days: 2},
		{Permission: model.MustPermission("s/box:put"), Path: model.MustPath("/m/box:run-2"), Count: 1, Days: 1}}
	for _, tt := range []struct {
		name string
		back []fence.Allow
		want []string
		part float64
	}{
		{"nothing is", nil, []string{"/m/box:run-1", "/m/box:run-2"}, 0},
		{"all of a kind of name", []fence.Allow{line("s/box:put", model.Condition{}, .2, "/m/box:run-*")},
			[]string{"/m/box:run-*"}, .2},
		{"the narrowest", []fence.Allow{line("s/*:*", model.Condition{}, .5, "/m/**"),
			line("s/box:*", model.Condition{}, .2, "/m/box:x", "/m/box:run-*"),
			line("s/box:put", model.Condition{}, .4, "/m/*")}, []string{"/m/box:run-*"}, .2},
		{"one with what is below", []fence.Allow{line("s/box:put", model.Condition{}, .2, "/m/box:run-1/**")},
			[]string{"/m/box:run-1", "/m/box:run-2"}, 0},
		{"another permission", []fence.Allow{line("s/box:get", model.Condition{}, .2, "/m/**")},
			[]string{"/m/box:run-1", "/m/box:run-2"}, 0},
		{"under a condition", []fence.Allow{line("s/box:put", factor, .2, "/m/**")},
			[]string{"/m/box:run-1", "/m/box:run-2"}, 0},
		{"elsewhere", []fence.Allow{line("s/box:put", model.Condition{}, .2, "/m/box:x*")},
			[]string{"/m/box:run-1", "/m/box:run-2"}, 0},
	} {
		f, answers := draft.ForRefused(x, model.MustID("person/p"), calls, tt.back, "why", time.Time{})
		var got []string
		for _, on := range f.Allow[0].Where {
			got = append(got, on.String())
		}
		if len(f.Allow) != 1 || !slices.Equal(got, tt.want) || f.Allow[0].Evidence.Chance != tt.part ||
			len(f.Allow[0].Do) != 1 || f.Allow[0].Evidence.Count != 4 {
			t.Errorf("%s: %d lines, on %v with %v, want %v", tt.name, len(f.Allow), got, f.Allow[0].Evidence, tt.want)
		}
		for _, a := range answers {
			if wider := len(tt.want) == 1; a.Where.IsZero() == wider {
				t.Errorf("%s: it is said to be given on %q", tt.name, a.Where)
			}
		}
	}
}

// TestProbing: many permissions that were refused on one day each look like somebody who tries; the same ones day
// after day do not, nor do few.
func TestProbing(t *testing.T) {
	call := func(do string, days int) draft.Refused {
		return draft.Refused{Permission: model.MustPermission("s/box:" + do), Path: model.MustPath("/m"), Count: 1,
			Days: days}
	}
	for _, tt := range []struct {
		calls []draft.Refused
		want  int
	}{
		{nil, 0},
		{[]draft.Refused{call("a", 1), call("b", 1), call("c", 1), call("d", 1)}, 0},
		{[]draft.Refused{call("a", 1), call("b", 1), call("c", 1), call("d", 1), call("e", 1)}, 5},
		{[]draft.Refused{call("a", 1), call("b", 1), call("c", 1), call("d", 1), call("e", 2)}, 0},
		{[]draft.Refused{call("a", 1), call("b", 1), call("c", 1), call("d", 1), call("e", 1), call("e", 3)}, 0},
		{[]draft.Refused{call("a", 1), call("b", 1), call("c", 1), call("d", 1), call("e", 2), call("e", 1)}, 0},
		{[]draft.Refused{call("a", 1), call("a", 1), call("a", 1), call("a", 1), call("a", 1)}, 0},
	} {
		if got := draft.Probing(tt.calls); got != tt.want {
			t.Errorf("%d calls: %d, want %d", len(tt.calls), got, tt.want)
		}
	}
}
