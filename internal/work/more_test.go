package work

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/review"
	"clipfence/internal/fencefile"
)

// brewery is an estate for needs: a workload with grants, and calls of it.
const brewery = `estate: 2
source: b
catalogue:
  - {permission: "vat/beer:look", level: see, log_class: l}
  - {permission: "vat/beer:taste", level: read, log_class: l}
  - {permission: "vat/beer:pour", level: change, log_class: l}
  - {permission: "vat/beer:tip-out", level: administer, log_class: l}
  - {permission: "post/note:read", level: read, log_class: l}
  - {permission: "post/note:send", level: change, log_class: l}
nodes:
  - {path: "/b/hall:a"}
  - {path: "/b/hall:a/vat:1"}
  - {path: "/b/hall:a/vat:2"}
  - {path: "/b/hall:b"}
  - {path: "/b/hall:b/vat:3"}
identities:
  - {id: workload/pump}
  - {id: group/pumps}
memberships:
  - {member: workload/pump, group: group/pumps}
coverage:
  - {node: "/b", service: vat, log_class: l, written: true}
grants:
  - {id: own, to: workload/pump, do: ["vat/beer:*"], where: ["/b/hall:a/vat:1/**", "/b/hall:a/vat:2/**"], created: 2020-01-01T00:00:00Z}
  - {id: crowd, to: group/pumps, do: ["post/note:read"], where: ["/b/**"]}
`

// needing opens a workspace on the brewery; calls are "permission path" at noon of yesterday, or so
// many days ago, and with a fourth word they were refused.
func needing(t *testing.T, now time.Time, calls ...string) *Workspace {
	t.Helper()
	t.Setenv("CLIPFENCE_HOME", t.TempDir())
	dir := t.TempDir()
	var log strings.Builder
	for i, c := range calls {
		words := append(strings.Fields(c), "1")
		do, on, code := words[0], words[1], 200
		ago, err := strconv.Atoi(words[2])
		if err != nil {
			t.Fatal(err)
		}
		if len(words) > 4 {
			code = 403
		}
		fmt.Fprintf(&log,
			`{"activity_id":2,"category_uid":6,"class_uid":6003,"type_uid":600302,"time":%d,"severity_id":1,`+
				`"status_id":1,"metadata":{"version":"1.3.0","uid":"u%d","product":{"name":"B","vendor_name":"B"}},`+
				`"actor":{"user":{"uid":"workload/pump","type_id":3}},"api":{"operation":%q,"response":{"code":%d}},`+
				`"resources":[{"uid":%q}]}`+"\n", now.AddDate(0, 0, -ago).UnixMilli()+int64(i), i, do, code, on)
	}
	w := opened(t, dir, now, map[string]string{"estate.yaml": brewery, "log.jsonl": log.String(),
		"clipfence.yaml": "clipfence: 2\nsources: [{name: b, kind: files, estate: estate.yaml, logs: " +
			"[log.jsonl]}]\n"})
	if err := w.Survey(t.Context(), false, func(SurveyResult) {}); err != nil {
		t.Fatal(err)
	}
	return w
}

// TestNeeds holds products' needs against what the pump has: counts made by hand, and a draft that
// gives just the features that are on.
func TestNeeds(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	w := needing(t, now, "vat/beer:look /b/hall:a/vat:1", "vat/beer:taste /b/hall:a/vat:1", "post/note:read /b/hall:b")
	const v1, v2, v3 = "/b/hall:a/vat:1", "/b/hall:a/vat:2", "/b/hall:b/vat:3"
	for _, tt := range []struct {
		product  string
		features string // each "name[!]: at permission..., ..." ; ! is always on
		with     []string
		at       map[string]string
		// missing, excess, never used, used beyond: by hand. In excess are entries of grants,
		// four permissions on two places of own, and one on one place of crowd.
		missing, excess, never, beyond int
		lines                          []string // of the draft, "permissions @ places"; nil: it fits
	}{
		{"looks", "base!: below vat/beer:look", nil, map[string]string{"p": v1}, 0, 8, 0, 2,
			[]string{"vat/beer:look @ /b/hall:a/vat:1/**"}},
		{"looks and tastes", "base!: below vat/beer:look vat/beer:taste", nil, map[string]string{"p": v1}, 0, 7, 0, 1,
			[]string{"vat/beer:look vat/beer:taste @ /b/hall:a/vat:1/**"}},
		{"pours, off", "base!: below vat/beer:look, pour: below vat/beer:pour", nil, map[string]string{"p": v1}, 0, 8,
			0, 2,
			[]string{"vat/beer:look @ /b/hall:a/vat:1/**"}},
		{"pours, on", "base!: below vat/beer:look, pour: below vat/beer:pour", []string{"pour"},
			map[string]string{"p": v1}, 0, 7, 1, 2,
			[]string{"vat/beer:look @ /b/hall:a/vat:1/**", "vat/beer:pour @ /b/hall:a/vat:1/**"}},
		{"elsewhere", "base!: below vat/beer:look vat/beer:pour", nil, map[string]string{"p": v3}, 2, 9, 0, 3,
			[]string{"vat/beer:look vat/beer:pour @ /b/hall:b/vat:3/**"}},
		{"sends", "base!: place post/note:send post/note:read", nil, map[string]string{"p": "/b/hall:b"}, 1, 9, 0, 2,
			[]string{"post/note:read post/note:send @ /b/hall:b"}},
		{"reads, by its group", "base!: place post/note:read", nil, map[string]string{"p": "/b/hall:a"}, 0, 9, 1, 3,
			[]string{"post/note:read @ /b/hall:a"}},
		{"exactly there", "base!: place vat/beer:look", nil, map[string]string{"p": v1}, 0, 9, 0, 2,
			[]string{"vat/beer:look @ /b/hall:a/vat:1"}},
		{"all of a vat", "base!: below vat/beer:*", nil, map[string]string{"p": v2}, 0, 5, 4, 3,
			[]string{"vat/beer:look vat/beer:taste vat/beer:pour vat/beer:tip-out @ /b/hall:a/vat:2/**"}},
		{"two features, one need", "base!: below vat/beer:look, more: below vat/beer:look vat/beer:taste",
			[]string{"more"},
			map[string]string{"p": v1}, 0, 7, 0, 1,
			[]string{"vat/beer:look @ /b/hall:a/vat:1/**", "vat/beer:taste @ /b/hall:a/vat:1/**"}},
		{"inside and all of it", "base!: place vat/beer:look, more: below vat/beer:look", []string{"more"},
			map[string]string{"p": v1}, 0, 8, 0, 2, []string{"vat/beer:look @ /b/hall:a/vat:1/**"}},
		{"nothing of it", "base!: below vat/beer:tip-out", nil, map[string]string{"p": v3}, 1, 9, 0, 3,
			[]string{"vat/beer:tip-out @ /b/hall:b/vat:3/**"}},
	} {
		t.Run(tt.product, func(t *testing.T) {
			var b strings.Builder
			fmt.Fprintf(&b, "needs: 1\nproduct: %q\nplaces: {p: where it works}\nfeatures:\n", tt.product)
			for f := range strings.SplitSeq(tt.features, ", ") {
				name, rest, _ := strings.Cut(f, ": ")
				words := strings.Fields(rest)
				name, always := strings.CutSuffix(name, "!")
				fmt.Fprintf(&b, "  - {name: %s, always: %t, needs: [{place: p, at: %s, do: [\"%s\"]}]}\n", name,
					always, words[0],
					strings.Join(words[1:], `", "`))
			}
			file := filepath.Join(t.TempDir(), "needs.yaml")
			if err := os.WriteFile(file, []byte(b.String()), 0o600); err != nil {
				t.Fatal(err)
			}
			at := map[string]model.Path{}
			for k, v := range tt.at {
				at[k] = model.MustPath(v)
			}
			m, err := w.DraftMore(t.Context(), MoreRequest{For: "workload/pump", Needs: file, With: tt.with, At: at,
				Force: true})
			if err != nil && !errors.Is(err, ErrNoLine) {
				t.Fatal(err)
			}
			got := []int{len(m.Gap.Missing), len(m.Gap.Excess), len(m.NeverUsed), len(m.Beyond)}
			if want := []int{tt.missing, tt.excess, tt.never, tt.beyond}; !slices.Equal(got, want) {
				t.Errorf("missing, excess, never used, beyond: %v, by hand %v\n%+v", got, want, m.Gap)
			}
			var lines []string
			for _, a := range m.Fence.Allow {
				var do, on []string
				for _, p := range a.Do {
					do = append(do, p.String())
				}
				for _, p := range a.Where {
					on = append(on, p.String())
				}
				lines = append(lines, strings.Join(do, " ")+" @ "+strings.Join(on, " "))
			}
			if !slices.Equal(lines, tt.lines) || !slices.Equal(m.Fence.Replaces, []string{"own"}) {
				t.Errorf("replaces %v by\n%s\nwant\n%s", m.Fence.Replaces, strings.Join(lines, "\n"),
					strings.Join(tt.lines, "\n"))
			}
			_, f, s, err := w.ReadFence(t.Context(), m.File)
			if err != nil {
				t.Fatalf("what was written cannot be read: %v", err)
			}
			r, _, err := w.Rehearse(t.Context(), f, s, false)
			if err != nil {
				t.Fatal(err)
			}
			// What it uses of its own grant and does not need breaks; what its group gives stays.
			breaks := tt.beyond > 0 && slices.ContainsFunc(m.Beyond, func(u Beyond) bool {
				return u.Permission.Service() == "vat"
			})
			if r.OK() == breaks {
				t.Errorf("the rehearsal holds: %t, and it uses more: %t (%+v)", r.OK(), breaks, r.Broken)
			}
		})
	}
}

// TestMoreIsRefused: what is asked for wrongly is said so, and nothing is written.
func TestMoreIsRefused(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	w := needing(t, now, "vat/beer:look /b/hall:a/vat:1")
	task := filepath.Join(w.Dir, "tasks.yaml")
	w.Config.Tasks = []string{"tasks.yaml"}
	write := func(text string) {
		if err := os.WriteFile(task, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	const good = "tasks: 1\nlist:\n  - {name: sip, title: taste it, kinds: [vat], steps: [{do: " +
		"[\"vat/beer:taste\"]}]}\n"
	vat, hall := model.MustPath("/b/hall:b/vat:3"), model.MustPath("/b/hall:b")
	for name, tt := range map[string]struct {
		file, want string
		q          MoreRequest
	}{
		"no such task": {good, "no task \"gulp\"", MoreRequest{Task: "gulp", On: []model.Path{vat}}},
		"another kind": {good, "is done on vat", MoreRequest{Task: "sip", On: []model.Path{hall}}},
		"no place":     {good, "--on PATH", MoreRequest{Task: "sip"}},
		"unknown place": {good, "shows no /b/hall:b/vat:9; it does show", MoreRequest{Task: "sip",
			On: []model.Path{hall.Child("vat", "9")}}},
		"unlisted": {strings.ReplaceAll(good, ":taste", ":smell"), "not in the catalogue",
			MoreRequest{Task: "sip", On: []model.Path{vat}}},
		"two of a name": {good + "  - {name: sip, title: x, steps: [{do: [a/b:c]}]}\n", "two tasks \"sip\"",
			MoreRequest{Task: "sip", On: []model.Path{vat}}},
		"no steps": {"tasks: 1\nlist: [{name: x, title: y, steps: []}]\n", "takes nothing",
			MoreRequest{Task: "sip", On: []model.Path{vat}}},
		"a bad spot": {strings.ReplaceAll(good, "{do:", "{at: over, do:"), "none of place, below, parent, above",
			MoreRequest{Task: "sip", On: []model.Path{vat}}},
		"another format": {strings.Replace(good, "tasks: 1", "tasks: 7", 1), "format 7",
			MoreRequest{Task: "sip", On: []model.Path{vat}}},
		"lent to a workload": {good, "only people sign",
			MoreRequest{Task: "sip", On: []model.Path{vat}, Lend: model.Duration(time.Hour)}},
	} {
		t.Run(name, func(t *testing.T) {
			write(tt.file)
			tt.q.For = "workload/pump"
			_, err := w.DraftMore(t.Context(), tt.q)
			if err == nil || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("error %v, want one that says %q", err, tt.want)
			}
			if n := w.DraftNames(t.Context()); len(n) > 0 {
				t.Errorf("written all the same: %v", n)
			}
		})
	}
	write(good)
	if _, err := w.DraftMore(t.Context(), MoreRequest{For: "workload/pump", Task: "sip",
		On: []model.Path{vat}}); err != nil {
		t.Error(err)
	}
}

// TestRefusedInWindow: refused calls of the window count, with their days; what is older does not.
func TestRefusedInWindow(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	const on = "/b/hall:b/vat:3"
	w := needing(t, now, "vat/beer:look /b/hall:a/vat:1", "vat/beer:pour "+on+" 3 refused",
		"vat/beer:pour "+on+" 3 refused",
		"vat/beer:pour "+on+" 80 refused", "vat/beer:pour "+on+" 200 refused", "vat/beer:tip-out "+on+" 91 refused",
		"vat/beer:taste "+on+" 90 refused", "vat/beer:look /b/hall:a/vat:2 5 refused")
	m, err := w.DraftMore(t.Context(), MoreRequest{For: "workload/pump", Refused: true})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, a := range m.Answers {
		got = append(got, fmt.Sprintf("%s %d %d %s %d", a.Permission, a.Count, a.Days, a.Last.Format(time.DateOnly),
			a.Help))
	}
	want := []string{"vat/beer:pour 3 2 2026-11-17 0", "vat/beer:look 1 1 2026-11-15 1",
		"vat/beer:taste 1 1 2026-08-22 0"}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
	if len(m.Fence.Allow) != 1 || len(m.Fence.Allow[0].Do) != 2 {
		t.Errorf("%+v", m.Fence.Allow)
	}
	// The same for its group: what its members were refused.
	g, err := w.DraftMore(t.Context(), MoreRequest{For: "group/pumps", Refused: true})
	if err != nil || len(g.Answers) != 3 || g.Members != 1 {
		t.Errorf("for the group: %+v, %v", g, err)
	}
	// Beside it the lines of a draft, with how they were used in the window.
	if _, err := w.Draft(t.Context(), DraftRequest{For: "workload/pump"}); err != nil {
		t.Fatal(err)
	}
	all, err := w.Review(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range all {
		if r.Bad != nil || !r.Holds {
			t.Errorf("%+v", r)
		}
		if !r.Widens && (r.Lines[0].Calls != 1 || r.Lines[0].Days != 1) {
			t.Errorf("%+v", r.Lines)
		}
	}
}

// TestLessonsAreTold: what reviews taught is said of a draft: for the one who needs it, and for others.
func TestLessonsAreTold(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	look, pour := model.MustPermission("vat/beer:look"), model.MustPermission("vat/beer:pour")
	one, two := model.MustID("b:workload/pump"), model.MustID("b:workload/other")
	l := review.Learn([]review.Decision{
		{Digest: "1", For: one, Verdict: review.Needed, At: now, Reason: "at night", Goes: []model.Permission{look,
			pour}},
		{Digest: "2", For: two, Verdict: review.Accepted, At: now, Goes: []model.Permission{pour}}}, now)
	kept := func(class string, do ...model.Permission) fence.Allow {
		a := fence.Allow{Evidence: fence.Evidence{Class: class}}
		for _, p := range do {
			a.Do = append(a.Do, p.Pattern())
		}
		return a
	}
	for _, tt := range []struct {
		f    fence.Fence
		want []string
	}{
		{fence.Fence{For: one, Allow: []fence.Allow{kept("decided", look)}},
			[]string{"vat/beer:look: kept, since it is needed, somebody said on 2026-11-20: at night"}},
		{fence.Fence{For: two, Allow: []fence.Allow{kept("used", pour, look), kept("likely", pour)}},
			[]string{"vat/beer:pour is kept more readily: of 2 cuts of it that were decided on, 1 were refused as " +
				"needed",
				"vat/beer:look is kept more readily: of 1 cuts of it that were decided on, 1 were refused as needed"}},
		{fence.Fence{For: two, Allow: []fence.Allow{kept("used", model.MustPermission("post/note:read"))}}, nil},
	} {
		if got := LessonsOf(&tt.f, l); !slices.Equal(got, tt.want) {
			t.Errorf("%q, want %q", got, tt.want)
		}
	}
	if got := LessonsOf(&fence.Fence{For: one}, nil); got != nil {
		t.Errorf("nothing was taught: %q", got)
	}
}

// TestLend writes a gate in place of a fence, which can be read, and nothing else.
func TestLend(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	const on = "/b/hall:b/vat:3"
	w := needing(t, now, "vat/beer:look /b/hall:a/vat:1", "vat/beer:pour "+on+" 3 refused")
	boss := model.MustID("group/pumps")
	q := MoreRequest{For: "group/pumps", Refused: true, Lend: model.Duration(4 * time.Hour),
		Approvers: []model.ID{boss}}
	m, err := w.DraftMore(t.Context(), q)
	if err != nil || len(m.Gates) != 1 || m.File != "" || len(w.DraftNames(t.Context())) > 0 {
		t.Fatalf("%+v, %v", m, err)
	}
	data, err := os.ReadFile(m.Gates[0])
	if err != nil {
		t.Fatal(err)
	}
	p, err := fencefile.ReadGate(m.Gates[0], data)
	if err != nil {
		t.Fatalf("%v\n%s", err, data)
	}
	if p.Longest != q.Lend || !slices.Equal(p.MayAsk, []model.ID{boss}) || !slices.Equal(p.Approvers,
		[]model.ID{boss}) ||
		p.Opens.Do[0].String() != "vat/beer:pour" || p.Opens.Where[0].String() != on || p.Source != "b" {
		t.Errorf("%s", data)
	}
	if _, err := w.DraftMore(t.Context(), q); !errors.Is(err, ErrThere) {
		t.Errorf("over one that is there: %v", err)
	}
}
