package usage_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestMoved: where a path lies now, and where it may have lain.
func TestMoved(t *testing.T) {
	at := model.MustPath
	moves := usage.Moves{{From: at("/m/unit:a/box:x"), To: at("/m/unit:b/box:x")},
		{From: at("/m/unit:b"), To: at("/m/unit:c")},
		{From: at("/m/unit:a"), To: at("/m/unit:z")}, {From: at("/m/ring:1"), To: at("/m/ring:2")},
		{From: at("/m/ring:2"), To: at("/m/ring:1")}}
	for _, tt := range []struct{ path, now, before string }{
		{"/m/unit:a/box:x/item:1", "/m/unit:c/box:x/item:1", ""}, // in two steps
		{"/m/unit:a/box:xx", "/m/unit:z/box:xx", ""},             // a name that begins alike
		{"/m/unit:b", "/m/unit:c", ""},
		{"/m/unit:c/box:x/item:1", "/m/unit:c/box:x/item:1", "/m/unit:b/box:x/item:1 /m/unit:a/box:x/item:1"},
		{"/m/unit:z/y", "/m/unit:z/y", "/m/unit:a/y"},
		{"/m/unit:d", "/m/unit:d", ""},
		{"/m", "/m", ""},
		{"/m/ring:1", "/m/ring:2", "/m/ring:2"}, // it ends
	} {
		p := at(tt.path)
		before := ""
		for _, b := range moves.Before(p) {
			before += " " + b.String()
		}
		if got := moves.Now(p).String(); got != tt.now ||
			strings.TrimSpace(before) != tt.before {
			t.Errorf("%s: now %s, before%s; want %s, %s", tt.path, got, before, tt.now, tt.before)
		}
	}
}

// TestMovedUses: calls on a former path are calls on the node, and are put together with those on it.
func TestMovedUses(t *testing.T) {
	x, err := index.Build(&model.Estate{Source: "m", Catalogue: model.Catalogue{{
		Permission: model.MustPermission("s/item:read")}}, Nodes: []model.Node{{Path: model.MustPath("/m/b")}}})
	if err != nil {
		t.Fatal(err)
	}
	r := usage.NewResolver(x, nil, nil, usage.Moves{{From: model.MustPath("/m/a"), To: model.MustPath("/m/b")}})
	got := ""
	for _, u := range r.Uses(did(t, "person/p s/item:read /m/a/i 1-3; person/p s/item:read /m/b/i 3-4")).All() {
		got += fmt.Sprintf("%s %d on %d days;", u.Path, u.Count, u.Days.Count())
	}
	if want := "/m/b/i 5 on 4 days;"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

// did makes uses of lines "who permission path days", the days counted from the first of 2026, one call each.
func did(t *testing.T, text string) *usage.Uses {
	t.Helper()
	f := usage.Fold{}
	for line := range strings.SplitSeq(text, ";") {
		var who, perm, path, days string
		if n, _ := fmt.Sscan(line, &who, &perm, &path, &days); n == 0 {
			continue
		}
		outcome := usage.Done
		if rest, refused := strings.CutPrefix(days, "refused:"); refused {
			outcome, days = usage.Refused, rest
		}
		from, to := 0, 0
		if n, _ := fmt.Sscanf(days, "%d-%d", &from, &to); n == 1 {
			to = from
		}
		for d := from; d <= to; d++ {
			f.Add(usage.Call{Time: time.Date(2026, 1, d, 9, 0, 0, 0, time.UTC), Identity: model.MustID(who),
				Permission: model.MustPermission(perm), Path: model.MustPath(path), Outcome: outcome})
		}
	}
	return usage.ListOf(f.Uses()...)
}

// TestGuessMoves: a node that no survey knows is guessed to be one that is called since by those who called it,
// and by nobody before; where two may be it, or too few went, none is guessed.
func TestGuessMoves(t *testing.T) {
	e := &model.Estate{Source: "m"}
	for _, p := range []string{"/m", "/m/unit:a", "/m/unit:b", "/m/unit:a/desk:one", "/m/unit:b/desk:news",
		"/m/unit:a/desk:three", "/m/unit:c", "/m/unit:c/desk:news"} {
		e.Nodes = append(e.Nodes, model.Node{Path: model.MustPath(p)})
	}
	x, err := index.Build(e)
	if err != nil {
		t.Fatal(err)
	}
	const read = " s/text:read "
	calls := func(path, days string, who ...string) (out string) {
		for _, w := range who {
			out += "person/" + w + read + path + " " + days + ";"
		}
		return out
	}
	for _, tt := range []struct{ name, uses, want string }{
		{"moved", calls("/m/unit:old/desk:news/t", "1-60", "p", "q", "r") +
			calls("/m/unit:b/desk:news/t", "61-90", "p", "q"),
			"/m/unit:old/desk:news -> /m/unit:b/desk:news 2 of 3, 2026-03-01 2026-03-02"},
		{"moved, and one person alone", calls("/m/unit:old/desk:news", "1-60", "p") +
			calls("/m/unit:b/desk:news", "62", "p"),
			"/m/unit:old/desk:news -> /m/unit:b/desk:news 1 of 1, 2026-03-01 2026-03-03"},
		{"moved on its last day", calls("/m/unit:old/desk:news", "1-60", "p") +
			calls("/m/unit:b/desk:news", "60", "p"),
			"/m/unit:old/desk:news -> /m/unit:b/desk:news 1 of 1, 2026-03-01 2026-03-01"},
		{"one of three went", calls("/m/unit:old/desk:news", "1-60", "p", "q", "r") +
			calls("/m/unit:b/desk:news", "61-90", "p"),
			""},
		{"called before", calls("/m/unit:old/desk:news", "1-60", "p", "q") +
			calls("/m/unit:b/desk:news", "50-90", "p", "q"),
			""},
		{"somebody else called it before", calls("/m/unit:old/desk:news", "1-60", "p", "q") +
			calls("/m/unit:b/desk:news", "61-90", "p", "q") + calls("/m/unit:b/desk:news", "3", "z"), ""},
		{"only refused before", calls("/m/unit:old/desk:news", "1-60", "p", "q") +
			calls("/m/unit:b/desk:news", "61-90", "p", "q") + calls("/m/unit:b/desk:news", "refused:3", "z"),
			"/m/unit:old/desk:news -> /m/unit:b/desk:news 2 of 2, 2026-03-01 2026-03-02"},
		{"long after", calls("/m/unit:old/desk:news", "1-60", "p", "q") +
			calls("/m/unit:b/desk:news", "95-99", "p", "q"),
			""},
		{"two of the same name", calls("/m/unit:old/desk:news", "1-60", "p", "q") +
			calls("/m/unit:b/desk:news", "61-90", "p", "q") + calls("/m/unit:c/desk:news", "61-90", "p", "q"), ""},
		{"two of the same name, and two others, as often as each other",
			calls("/m/unit:old/desk:news", "1-60", "p", "q", "r") +
				calls("/m/unit:b/desk:news", "61-90", "p", "q", "r") +
				calls("/m/unit:c/desk:news", "61-90", "p", "q", "r"), ""},
		{"two of the same name, and more went to one", calls("/m/unit:old/desk:news", "1-60", "p", "q", "r") +
			calls("/m/unit:b/desk:news", "61-90", "p", "q") + calls("/m/unit:c/desk:news", "61-90", "p", "q", "r"),
			"/m/unit:old -> /m/unit:c 3 of 3, 2026-03-01 2026-03-02"}, // and with it all that was in it
		{"renamed beside", calls("/m/unit:a/desk:two", "1-60", "p", "q", "r") +
			calls("/m/unit:a/desk:three", "61-90", "p", "q", "r"),
			"/m/unit:a/desk:two -> /m/unit:a/desk:three 3 of 3, 2026-03-01 2026-03-02"},
		{"two may be anybody", calls("/m/unit:a/desk:two", "1-60", "p", "q") +
			calls("/m/unit:a/desk:three", "61-90", "p", "q"),
			""},
		{"several of its kind are gone", calls("/m/unit:a/desk:two", "1-60", "p", "q", "r") +
			calls("/m/unit:a/desk:four", "1-20", "p") + calls("/m/unit:a/desk:five", "1-20", "p") +
			calls("/m/unit:a/desk:three", "61-90", "p", "q", "r"), ""},
		{"two of its kind are", calls("/m/unit:a/desk:two", "1-60", "p", "q", "r") +
			calls("/m/unit:a/desk:four", "1-20", "p") + calls("/m/unit:a/desk:three", "61-90", "p", "q", "r"),
			"/m/unit:a/desk:two -> /m/unit:a/desk:three 3 of 3, 2026-03-01 2026-03-02"},
		{"the unit was renamed", calls("/m/unit:old/desk:one", "1-60", "p", "q", "r") +
			calls("/m/unit:a/desk:one", "61-90", "p", "q", "r"),
			"/m/unit:old -> /m/unit:a 3 of 3, 2026-03-01 2026-03-02"},
		{"who left long ago does not count", calls("/m/unit:old/desk:news", "1-20", "w", "v", "u") +
			calls("/m/unit:old/desk:news", "1-60", "p") + calls("/m/unit:b/desk:news", "61-90", "p"),
			"/m/unit:old/desk:news -> /m/unit:b/desk:news 1 of 1, 2026-03-01 2026-03-02"},
		{"nothing is gone", calls("/m/unit:b/desk:news", "61-90", "p", "q"), ""},
	} {
		got := ""
		for _, m := range usage.GuessMoves(did(t, tt.uses), x, usage.InventoryOf(x, nil, nil).Unknown) {
			got += fmt.Sprintf("%s -> %s %d of %d, %s %s", m.From, m.To, m.Went, m.Of,
				m.Last.Time().Format("2006-01-02"), m.First.Time().Format("2006-01-02"))
		}
		if got != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
}

// TestGuessNames: a caller whom nobody lists is guessed to go on as one who begins as it ends and does the same.
func TestGuessNames(t *testing.T) {
	acts := func(who, days string, what ...string) (out string) {
		for _, w := range what {
			out += who + " s/" + w + ":do /m/a " + days + ";"
		}
		return out
	}
	for _, tt := range []struct{ name, uses, want string }{
		{"the same work", acts("person/x", "1-60", "a", "b", "c", "d") + acts("person/one", "61-90", "a", "b", "c"),
			"person/x -> person/one 3 of 3"},
		{"a week of both", acts("person/x", "1-60", "a", "b", "c") + acts("person/one", "53-90", "a", "b", "c"),
			"person/x -> person/one 3 of 3"},
		{"more than a week of both", acts("person/x", "1-60", "a", "b", "c") +
			acts("person/one", "52-90", "a", "b", "c"), ""},
		{"a month later", acts("person/x", "1-60", "a", "b", "c") + acts("person/one", "91-99", "a", "b", "c"),
			"person/x -> person/one 3 of 3"},
		{"more than a month later", acts("person/x", "1-60", "a", "b", "c") +
			acts("person/one", "92-99", "a", "b", "c"), ""},
		{"too little in common", acts("person/x", "1-60", "a", "b") + acts("person/one", "61-90", "a", "b"), ""},
		{"three in five", acts("person/x", "1-60", "a", "b", "c") +
			acts("person/one", "61-90", "a", "b", "c", "d", "e"),
			"person/x -> person/one 3 of 5"},
		{"half", acts("person/x", "1-60", "a", "b", "c") +
			acts("person/one", "61-90", "a", "b", "c", "d", "e", "f"), ""},
		{"what it did long ago", acts("person/x", "1-60", "a", "b") + acts("person/x", "1-30", "c") +
			acts("person/one", "61-90", "a", "b", "c"), ""},
		{"of another kind", acts("person/x", "1-60", "a", "b", "c") + acts("workload/w", "61-90", "a", "b", "c"), ""},
		{"of a kind that no log gives", acts("unknown/x", "1-60", "a", "b", "c") +
			acts("workload/w", "61-90", "a", "b", "c"),
			"unknown/x -> workload/w 3 of 3"},
		{"two alike", acts("person/x", "1-60", "a", "b", "c") + acts("person/one", "61-90", "a", "b", "c") +
			acts("person/two", "61-90", "a", "b", "c"), ""},
		{"one of two is nearer", acts("person/x", "1-60", "a", "b", "c", "d") +
			acts("person/one", "61-90", "a", "b", "c") +
			acts("person/two", "61-90", "a", "b", "c", "d"), "person/x -> person/two 4 of 4"},
		{"nobody lists either", acts("person/x", "1-60", "a", "b", "c") +
			acts("person/y", "61-90", "a", "b", "c"), ""},
	} {
		known := func(id model.ID) bool { return slices.Contains([]string{"one", "two", "w"}, id.Name) }
		got := ""
		for id, r := range usage.GuessNames(did(t, tt.uses), known, func(p model.Path) model.Path { return p }) {
			got += fmt.Sprintf("%s -> %s %d of %d", id, r.To, r.Same, r.Of)
		}
		if got != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
}
