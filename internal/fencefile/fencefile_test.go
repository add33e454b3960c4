package fencefile_test

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/fencefile"
)

// names that a careless writer would get wrong.
var names = []string{"a", "yes", "on", "null", "-x", "a: b", "#", "it's", `q"q`, "1e3", "0x1", "a,b", "[x]", "x:",
	"\u2028", "naïve", "%", "a\nb", "\x1b[31m", "*", "~", ""}

func random(r *rand.Rand) *fence.Fence {
	pick := func() string { return names[r.IntN(len(names)-1)] }
	f := &fence.Fence{Version: 2, For: model.ID{Source: "m", Kind: model.Workload, Name: pick()},
		Drafted: time.Unix(r.Int64N(2e9), 0).UTC(), Window: "90d", Survey: r.Int64N(3)}
	if r.IntN(2) == 0 {
		x := float64(r.IntN(5000)) / 1000
		f.Proven = fence.Proven{Until: time.UnixMilli(r.Int64N(2e12)).UTC(), Expects: &x,
			Rights: []fence.Rights{{Grant: pick(), Digest: "1234567890123456"}, {Role: pick(), Digest: "12e4"}}}
		if r.IntN(2) == 0 {
			f.Proven.Refuses = fence.Refuses{Lines: "0123456789012345", Grants: []string{"01234567", "1234e567"}}
		}
	}
	for range r.IntN(3) {
		f.Replaces = append(f.Replaces, pick())
		f.Leaves = append(f.Leaves, model.ID{Kind: model.Group, Name: pick()})
		f.GivesUp = append(f.GivesUp, fence.GiveUp{Do: []model.PermissionPattern{model.MustPermissionPattern("a/" +
			string(model.AppendEscaped(nil, []byte(pick()))) + ":b")},
			Where:  []model.PathPattern{model.Path{}.Child("", "m").Child("box", pick()).Below()},
			Unseen: r.IntN(2) == 0})
		if r.IntN(2) == 0 {
			f.GivesUp[len(f.GivesUp)-1].From = time.Unix(r.Int64N(2e9), 0).UTC()
		}
	}
	for range r.IntN(3) {
		d := fence.Deny{Do: []model.PermissionPattern{model.MustPermissionPattern("a/b%3A:c")},
			Where: []model.PathPattern{model.Path{}.Child("", "m").Child("box", pick()).Below()}}
		for range r.IntN(3) {
			d.Unless = append(d.Unless, model.ID{Kind: model.Group, Name: pick()})
		}
		f.Denies = append(f.Denies, d)
	}
	for range r.IntN(3) {
		a := fence.Allow{Where: []model.PathPattern{model.Path{}.Child("", "m").Child("bucket", pick()).Below()},
			Evidence: fence.Evidence{Class: "used", Count: 3, Days: 2}}
		if r.IntN(2) == 0 {
			a.Role = "r" + pick()
		} else {
			a.Do = []model.PermissionPattern{model.MustPermissionPattern("stow/item:*"),
				model.MustPermissionPattern("a/b%3A:c")}
		}
		if r.IntN(2) == 0 {
			a.To = model.ID{Kind: model.Person, Name: pick()}
		}
		if r.IntN(2) == 0 {
			a.When = model.Condition{SecondFactor: true, Networks: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")},
				Labels: map[string]string{pick() + "k": pick()}, Opaque: []string{pick()},
				Hours: &model.Hours{Days: []string{"mon"}, From: "08:00", To: "17:00", Zone: "Europe/Oslo"}}
			a.Until = time.Unix(r.Int64N(2e9), 0).UTC()
		}
		f.Allow = append(f.Allow, a)
	}
	return f
}

// TestRoundTrip: what is written is read back as it was, whatever the names.
func TestRoundTrip(t *testing.T) {
	for seed := range uint64(2000) {
		f := random(rand.New(rand.NewPCG(seed, 7)))
		text := fencefile.Write(f, "evidence \n complete")
		back, err := fencefile.Read("x", text)
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, text)
		}
		for i := range back.Allow {
			back.Allow[i].At, back.Allow[i].Evidence = model.Position{}, f.Allow[i].Evidence
		}
		a, _ := json.Marshal(f)
		b, _ := json.Marshal(back)
		if bytes.ContainsAny(text, "\x1b") || strings.ReplaceAll(string(a), "null",
			"[]") != strings.ReplaceAll(string(b), "null", "[]") {
			t.Fatalf("seed %d:\n%s\n%s\n%s", seed, a, b, text)
		}
	}
}

// TestEvidence: the comment beside a line says what the line rests on, and what of it is a guess.
func TestEvidence(t *testing.T) {
	last := time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)
	for _, tt := range []struct {
		e    fence.Evidence
		want string
	}{
		{fence.Evidence{Class: "used", Count: 1, Days: 1, Places: 1}, "# 1 call on 1 day, last 2026-11-24"},
		{fence.Evidence{Class: "used", Count: 7, Days: 3, AtLeast: true},
			"# at least 7 calls on 3 days, last 2026-11-24"},
		{fence.Evidence{Class: "used", Count: 7, Days: 3, Places: 2, Chance: .314},
			"# 7 calls on 3 days, last 2026-11-24; " +
				"on 2 places, the others are a guess: 31 % that one is needed within 90 days"},
		{fence.Evidence{Class: "used", Count: 7, Days: 3, Places: 1, Chance: .001},
			"# 7 calls on 3 days, last 2026-11-24; " +
				"on 1 place, the others are a guess: 1 % that one is needed within 90 days"},
		{fence.Evidence{Class: "used", Count: 7, Days: 3, Earlier: true}, "# 7 calls on 3 days, last 2026-11-24: " +
			"before the window; it was used elsewhere since"},
		{fence.Evidence{Class: "rare", Count: 2, Days: 2}, "# 2 calls on 2 days, last 2026-11-24: " +
			"outside the window, but its habit is not over"},
		{fence.Evidence{Class: "past", Count: 2, Days: 1, Chance: .24}, "# kept: a guess: 2 calls on 1 day, last " +
			"2026-11-24, its habit is over; 24 % that it comes back within 90 days"},
		{fence.Evidence{Class: "likely", Chance: .06}, "# kept: a guess, it was not used here: 6 % that it is " +
			"needed within 90 days"},
		{fence.Evidence{Class: "used", Count: 7, Days: 3, Places: 2, Chance: .314, Short: true},
			"# 7 calls on 3 days, last 2026-11-24; on 2 places, the others are a guess: 31 % that one is needed " +
				"within 90 days; as wide as this so that the fence stays short"},
		{fence.Evidence{Class: "likely", Chance: .06, Short: true}, "# kept: a guess, it was not used here: 6 % " +
			"that it is needed within 90 days; as wide as this so that the fence stays short"},
		{fence.Evidence{Class: "last"}, "# kept: nobody else could hand out rights here"},
		{fence.Evidence{Class: "unobservable"}, "# kept: no log would have shown its use here"},
		{fence.Evidence{Class: "undecidable"}, "# kept: a call that could not be placed may have used it " +
			"(clipfence uses --unplaced)"},
	} {
		tt.e.Last = last
		f := &fence.Fence{Version: 2, Allow: []fence.Allow{{Role: "reader", Evidence: tt.e}}}
		lines := strings.Split(string(fencefile.Write(f, "")), "\n")
		i := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, "  - role: reader") })
		if i < 0 || !strings.HasSuffix(lines[i], " "+tt.want) || strings.Count(lines[i], "#") != 1 {
			t.Errorf("%+v: %q, want %q", tt.e, lines, tt.want)
		}
	}
}

func TestRead(t *testing.T) {
	for _, tt := range []struct{ in, want string }{
		{"fence: 3\nfor: m:workload/x\ndrafted: 2026-11-24T08:00:00Z\nwindow: 90d\nallow: []",
			"format 3 is not known"},
		{"fence: 2\nfor: workload/x\ndrafted: 2026-11-24T08:00:00Z\nwindow: 90d\nallow: []", "want source:kind/name"},
		{"fence: 2\nfor: nobody\nallow: []", `x:2:6: for: identity "nobody"`},
		{"fence: 2\nfor: m:workload/x\nallow: [{do: [store], where: [/m]}]",
			`x:3:15: allow[0].do[0]: permission pattern "store": missing '/'`},
		{"fence: 2\nfor: m:workload/x\nallow: [{do: ['*'], where: [/m/**/x]}]", "'**' before its last segment"},
	} {
		if _, err := fencefile.Read("x", []byte(tt.in)); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%q: %v, want %q", tt.in, err, tt.want)
		}
	}
	p, err := fencefile.ReadGate("g",
		[]byte("gate: 2\nname: night\nsource: m\nopens: {role: admin, where: [/m/**]}\n"+
			"may_ask: [group/a]\nlongest: 1h\napprovals: 0"))
	if err != nil || time.Duration(p.Longest) != time.Hour {
		t.Errorf("gate: %v %v", p, err)
	}
	if _, err = fencefile.ReadGate("g",
		[]byte("gate: 2\nname: a b\nsource: m\nopens: {where: []}\n"+
			"may_ask: []\nlongest: 1h\napprovals: 2")); err == nil ||
		strings.Count(err.Error(), ";") != 4 {
		t.Errorf("a gate with five faults: %v", err)
	}
}

func FuzzRead(f *testing.F) {
	for seed := range uint64(5) {
		f.Add(fencefile.Write(random(rand.New(rand.NewPCG(seed, 7))), ""))
	}
	f.Fuzz(func(t *testing.T, in []byte) {
		a, err := fencefile.Read("x", in)
		if err != nil {
			return
		}
		text := fencefile.Write(a, "")
		b, err := fencefile.Read("x", text)
		if err != nil {
			t.Fatalf("%q is written as %q, which is not read again: %v", in, text, err)
		}
		if again := fencefile.Write(b, ""); !bytes.Equal(text, again) {
			t.Fatalf("%q\n%q", text, again)
		}
	})
}

// FuzzGate: whatever stands in a gate file, it is an error or a policy that closes, that
// somebody may ask for, and that says how many must approve.
func FuzzGate(f *testing.F) {
	f.Add([]byte("gate: 2\nname: night\nsource: m\nopens: {role: admin, where: [/m/**]}\n" +
		"may_ask: [group/a]\nlongest: 1h\napprovers: [person/b]"))
	f.Add([]byte("gate: 2\nname: x\nopens: {do: ['*'], where: ['*']}\nlongest: 99999999999d\napprovals: -1"))
	f.Fuzz(func(t *testing.T, in []byte) {
		p, err := fencefile.ReadGate("g", in)
		if err != nil {
			return
		}
		if p.Longest <= 0 || len(p.MayAsk) == 0 || len(p.Opens.Where) == 0 || p.Need() < 0 ||
			(p.Need() == 0) != (len(p.Approvers) == 0) || len(p.Digest) != 64 {
			t.Errorf("taken: %+v", p)
		}
	})
}

// TestConditions: a condition is written on one line, without quotes where none are needed, and read back as it
// was.
func TestConditions(t *testing.T) {
	until := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	for _, tt := range []struct {
		when model.Condition
		text string
	}{
		{model.Condition{Hours: &model.Hours{Days: []string{"mon", "fri"}, From: "06:00", To: "20:00", Zone: "UTC"}},
			`{hours: {days: [mon, fri], from: "06:00", to: "20:00", zone: UTC}}`},
		{model.Condition{SecondFactor: true, Until: until}, `{second_factor: true, until: "2026-12-01T00:00:00Z"}`},
		{model.Condition{Networks: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}},
			`{networks: ["10.0.0.0/8"]}`},
		{model.Condition{Labels: map[string]string{"a: b": "{yes}", "on": "no", "team": "red,blue #1"}},
			`{labels: {"a: b": "{yes}", "on": "no", team: "red,blue #1"}}`},
		{model.Condition{Opaque: []string{"x == \"y\"\n- z: {1}"}}, `{opaque: ["x == \"y\"\n- z: {1}"]}`},
	} {
		f := &fence.Fence{Version: fence.FormatVersion, For: model.MustID("m:person/p"), Allow: []fence.Allow{{
			Do:    []model.PermissionPattern{model.MustPermissionPattern("s/x:y")},
			Where: []model.PathPattern{model.MustPathPattern("/m/a")}, When: tt.when}}}
		text := fencefile.Write(f, "")
		if !strings.Contains(string(text), "    when: "+tt.text+"\n") {
			t.Errorf("%+v is written as\n%s\nwant %s", tt.when, text, tt.text)
		}
		got, err := fencefile.Read("x.fence.yaml", text)
		if err != nil || !reflect.DeepEqual(got.Allow[0].When, tt.when) {
			t.Errorf("%+v is read back as %+v, %v", tt.when, got, err)
		}
	}
}
