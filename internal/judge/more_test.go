package judge

import (
	"errors"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/access/plain"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/sandbox"
	"clipfence/internal/sandbox/generate"
	"clipfence/internal/work"
)

// lines are all single lines that could be written to allow a call: roles and patterns of
// permissions, on the place, below it, and on and below everything that it is in.
func (g *random) lines(p model.Permission, at model.Path) []fence.Allow {
	var where []model.PathPattern
	for on, ok := at, true; ok; on, ok = on.Parent() {
		where = append(where, on.Exactly(), on.Below())
	}
	service, rest, _ := strings.Cut(p.String(), "/")
	noun, verb, _ := strings.Cut(rest, ":")
	var out []fence.Allow
	for _, on := range where {
		for _, do := range []string{p.String(), service + "/" + noun + ":*", service + "/*:" + verb, service + "/*:*",
			"*"} {
			out = append(out, fence.Allow{Do: []model.PermissionPattern{model.MustPermissionPattern(do)},
				Where: []model.PathPattern{on}})
		}
		for _, r := range g.roles {
			out = append(out, fence.Allow{Role: r, Where: []model.PathPattern{on}})
		}
	}
	return out
}

// TestRefusals: what is drafted for a refused call allows it, in Mooring's own words; no single
// line that does is less dangerous; and what it is said to allow besides is what differs between
// the estates, for everybody.
func TestRefusals(t *testing.T) {
	want := 200
	if testing.Short() {
		want = 40
	}
	done, tried, compared := 0, 0, 0
	for seed := uint64(71000); done < want; seed++ {
		if seed > 73000 {
			t.Fatalf("only %d refused calls that a line helps on %d estates", done, seed-71000)
		}
		g := newRandom(seed)
		e := g.estate(t)
		x := built(t, e)
		for range 8 {
			q := g.question()
			v := g.world.Decide(q.who, q.permission, q.path, q.ctx)
			if v.Allowed {
				continue
			}
			who, p, at := model.MustID(q.who), model.MustPermission(q.permission), model.MustPath(q.path)
			call := draft.Refused{Permission: p, Path: at, Context: q.context(g.labels(q.path)), Count: 1, Days: 1,
				First: noon, Last: noon}
			f, answers := draft.ForRefused(x, who, []draft.Refused{call}, nil, "refused", noon)
			if v.Because != "nothing grants it" {
				if answers[0].Help != draft.Rule {
					t.Fatalf("seed %d: %+v: %s, and the answer is %d", seed, q, v.Because, answers[0].Help)
				}
				continue
			}
			if f == nil {
				if answers[0].Help != draft.Condition {
					t.Fatalf("seed %d: %+v: no line, and the answer is %d", seed, q, answers[0].Help)
				}
				continue
			}
			done++
			w := g.after(t, f)
			if v := w.Decide(q.who, q.permission, q.path, q.ctx); !v.Allowed {
				t.Fatalf("seed %d: %+v: still refused: %s", seed, q, v.Because)
			}
			danger := func(f *fence.Fence) (float64, *index.Index) {
				y, err := x.With(f.Edit("m"))
				if err != nil {
					t.Fatal(err)
				}
				d, _ := gauge.NewScale(y, gauge.DefaultWeights).Held(who)
				return d, y
			}
			ours, y := danger(f)
			for _, a := range g.lines(p, at) {
				d, z := danger(&fence.Fence{For: f.For, Allow: []fence.Allow{a}})
				if z.Decide(who, p, at, call.Context).Outcome != access.Allowed {
					continue
				}
				if tried++; d < ours-1e-9 {
					t.Fatalf("seed %d: %+v: %+v is danger %.2f, ours %.2f", seed, q, a, d, ours)
				}
			}
			gainsAre(t, seed, e, f, x, y)
			compared++
			for _, other := range g.people {
				for _, do := range g.perms {
					for _, on := range append(g.unknown, g.paths...) {
						was := g.world.Decide(other, do, on, q.ctx).Allowed
						is := w.Decide(other, do, on, q.ctx).Allowed
						same := other == q.who && do == q.permission && on == q.path
						if is != was && !same || was && !is {
							t.Fatalf("seed %d: %+v: besides, %s %s on %s was %t and is %t", seed, q, other, do, on,
								was, is)
						}
					}
				}
			}
		}
	}
	t.Logf("%d refused calls; %d other lines allow them; %d differences counted", done, tried, compared)
	if tried < 5*done {
		t.Error("too few other lines to say much")
	}
}

// gainsAre counts what a rehearsal says that a fence gives, one node after another.
func gainsAre(t *testing.T, seed uint64, e *model.Estate, f *fence.Fence, x, y *index.Index) {
	t.Helper()
	r, err := rehearse.Run(x, f, nil, nil, gauge.DefaultWeights)
	if err != nil {
		t.Fatal(err)
	}
	edit := f.Edit("m")
	one, two := plain.New(e), plain.New(edit.Apply(e))
	who := f.For.In("m")
	for _, c := range e.Catalogue {
		n := 0
		var first model.Path
		for _, node := range e.Nodes {
			if usable(c, node.Path) && one.Decide(who, c.Permission, node.Path,
				model.Context{}).Outcome == access.Denied &&
				two.Decide(who, c.Permission, node.Path, model.Context{}).Outcome != access.Denied {
				if n++; first.IsZero() || node.Path.Compare(first) < 0 {
					first = node.Path
				}
			}
		}
		i := slices.IndexFunc(r.Gains, func(g rehearse.Gain) bool {
			return g.Permission == c.Permission &&
				g.Nodes > 0
		})
		switch {
		case i < 0 && n > 0 || i >= 0 && (r.Gains[i].Nodes != n || r.Gains[i].First != first):
			t.Fatalf("seed %d: %s is gained on %d nodes, first %s; told: %+v", seed, c.Permission, n, first, r.Gains)
		}
	}
	if !r.OK() || len(r.Gives) != 1 {
		t.Fatalf("seed %d: rehearsal %+v", seed, r)
	}
}

// TestGivesNobodyElse: what a fence says it widens is for its own identity, by its lines.
func TestGivesNobodyElse(t *testing.T) {
	id := model.MustID
	all := []model.PathPattern{model.MustPathPattern("/s/**")}
	e := &model.Estate{Source: "s", Nodes: []model.Node{{Path: model.MustPath("/s/a:1")}},
		Catalogue:   model.Catalogue{{Permission: model.MustPermission("p/q:r")}},
		Identities:  []model.Identity{{ID: id("person/a")}, {ID: id("person/b")}, {ID: id("group/held")}},
		Memberships: []model.Membership{{Member: id("person/a"), Group: id("group/held")}},
		Denials:     []model.Denial{{ID: "d", To: []model.ID{id("group/held")}, Where: all}}}
	line := fence.Allow{Do: []model.PermissionPattern{model.MustPermissionPattern("p/q:r")}, Where: all}
	other := line
	other.To = id("person/b")
	member := line
	member.To = id("person/a")
	for name, tt := range map[string]struct {
		f  fence.Fence
		ok bool
	}{
		"as it says":        {fence.Fence{Widens: "w", Allow: []fence.Allow{line}}, true},
		"not said":          {fence.Fence{Allow: []fence.Allow{line}}, false},
		"somebody else":     {fence.Fence{Widens: "w", Allow: []fence.Allow{other}}, false},
		"out of a denial":   {fence.Fence{Widens: "w", Leaves: []model.ID{id("group/held")}}, false},
		"a member alone":    {fence.Fence{For: id("s:group/held"), Widens: "w", Allow: []fence.Allow{member}}, false},
		"its group":         {fence.Fence{For: id("s:group/held"), Widens: "w", Allow: []fence.Allow{line}}, true},
		"and what it needs": {fence.Fence{Widens: "w"}, true},
	} {
		if tt.f.For.IsZero() {
			tt.f.For = id("s:person/a")
		}
		r, err := rehearse.Run(built(t, e), &tt.f, nil, nil, gauge.DefaultWeights)
		if err != nil {
			t.Fatal(err)
		}
		if r.OK() != tt.ok {
			t.Errorf("%s: ok is %t: %+v", name, r.OK(), r.Widened)
		}
	}
}

// TestTasks drafts each task of the catalogue for a person and for a workload of the sample estate.
// Mooring then allows every call of it, and none beside it; and nothing of the draft can be taken out.
func TestTasks(t *testing.T) {
	ctx := t.Context()
	now := time.Now().UTC().Truncate(time.Second)
	f := generate.Estate(generate.Options{Seed: 5, Scale: 1, Days: 1, Until: now})
	dir := t.TempDir()
	if _, err := generate.Write(ctx, filepath.Join(dir, "mooring"), f, nil); err != nil {
		t.Fatal(err)
	}
	cloud, err := sandbox.Open(filepath.Join(dir, "mooring"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cloud.Close() }()
	srv := httptest.NewServer(cloud.Handler())
	defer srv.Close()
	put(t, dir, map[string]string{"ws/clipfence.yaml": "clipfence: 2\nsources:\n  - {name: mooring, kind: bridge, " +
		"url: \"" +
		srv.URL + "\", token: {file: read}}\n", "ws/read": f.Tokens["workload/clip-fence-survey"]})
	w, err := work.Open(ctx, work.Options{Folder: filepath.Join(dir, "ws"), Clock: time.Now})
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = w.Close() }()
	if err := w.Survey(ctx, false, func(work.SurveyResult) {}); err != nil {
		t.Fatal(err)
	}
	world, err := cloud.World()
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string][]string{}
	for _, p := range sandbox.Catalogue() {
		kinds[p.Permission] = p.Kinds
	}
	kindOf := func(path string) string {
		kind, _, _ := strings.Cut(path[strings.LastIndex(path, "/")+1:], ":")
		return kind
	}
	// Somebody with little access, so that there is something to draft.
	least := func(kind string) string {
		best, few := "", 1<<30
		for id, i := range world.Identities {
			if !strings.HasPrefix(id, kind+"/") || i.Disabled || strings.Contains(id, "clip-fence") {
				continue
			}
			n := 0
			for _, g := range world.Grants {
				if g.To == id {
					n++
				}
			}
			for _, c := range world.Ceilings {
				if c.Of == id {
					n += 100
				}
			}
			for _, m := range world.Memberships {
				if m.Member == id {
					n += 10
				}
			}
			if n < few || n == few && id < best {
				best, few = id, n
			}
		}
		return best
	}
	nodes := map[string][]string{} // by kind, in order
	for path := range world.Nodes {
		nodes[kindOf(path)] = append(nodes[kindOf(path)], path)
	}
	for _, list := range nodes {
		slices.Sort(list)
	}
	offered, err := w.Tasks(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if own := config.OwnTasks(); len(offered) != len(own) || len(own) < 15 {
		t.Fatalf("%d tasks of %d are offered on the sample estate", len(offered), len(own))
	}
	type call struct{ do, on string }
	probes, calls, cuts, has := 0, 0, 0, 0
	for _, who := range []string{least("person"), least("workload"), "workload/build-runner"} {
		capped := who == "workload/build-runner" // by a ceiling, against which no line helps
		for _, task := range offered {
			kind := "berth"
			if len(task.Kinds) > 0 {
				kind = task.Kinds[0]
			}
			at := nodes[kind][len(nodes[kind])/2]
			var takes []call // spelled out, by other means than the program's
			for i, s := range slices.Concat(task.Steps, task.Companions) {
				if s.For != "" && !strings.HasPrefix(who, s.For+"/") {
					continue
				}
				places := []string{at}
				switch up := at[:strings.LastIndex(at, "/")]; s.Spot {
				case "parent":
					places = []string{up}
				case "above":
					places = nil
					for ; strings.Count(up, "/") > 0; up = up[:strings.LastIndex(up, "/")] {
						places = append(places, up)
					}
				case "below":
					t.Fatalf("task %s, step %d: the test knows no calls below", task.Name, i)
				}
				for _, p := range s.Do {
					for _, on := range places {
						if slices.Contains(kinds[p.String()], kindOf(on)) {
							takes = append(takes, call{p.String(), on})
						}
					}
				}
			}
			m, err := w.DraftMore(ctx, work.MoreRequest{For: who, Task: task.Name,
				On:    []model.Path{model.MustPath(at)},
				Force: true})
			if capped {
				if len(m.Gap.Barred) != len(takes) || !errors.Is(err, work.ErrNoLine) {
					t.Errorf("%s for %s on %s: %d of %d told as refused by its ceiling; %v", task.Name, who, at,
						len(m.Gap.Barred), len(takes), err)
				}
				continue
			}
			if errors.Is(err, work.ErrNoLine) {
				if has++; has > 2 || slices.ContainsFunc(takes, func(c call) bool {
					return !world.Decide(who, c.do, c.on, sandbox.CallContext{Time: now}).Allowed
				}) {
					t.Errorf("%s for %s on %s: %v", task.Name, who, at, err)
				}
				continue
			}
			if err != nil {
				t.Fatalf("%s for %s on %s: %v", task.Name, who, at, err)
			}
			after := func(lines []fence.Allow) *sandbox.World {
				g := &random{world: world}
				x := *m.Fence
				x.Allow = lines
				x.For.Source = "m" // what after knows
				return g.after(t, &x)
			}
			then, at12 := after(m.Fence.Allow), sandbox.CallContext{Time: now}
			for _, c := range takes {
				calls++
				if v := then.Decide(who, c.do, c.on, at12); !v.Allowed {
					t.Errorf("task %s for %s: %s on %s is refused: %s", task.Name, who, c.do, c.on, v.Because)
				}
			}
			beside := 0
			for _, on := range []string{at, at[:strings.LastIndex(at, "/")], nodes[kind][0]} {
				for _, p := range sandbox.Catalogue() {
					if beside == 10 || slices.Contains(takes, call{p.Permission, on}) ||
						!slices.Contains(p.Kinds, kindOf(on)) ||
						world.Decide(who, p.Permission, on, at12).Allowed {
						continue
					}
					beside++
					if then.Decide(who, p.Permission, on, at12).Allowed {
						t.Errorf("task %s for %s allows %s on %s as well", task.Name, who, p.Permission, on)
					}
				}
			}
			if probes += beside; beside < 10 {
				t.Errorf("task %s: only %d probes beside it", task.Name, beside)
			}
			// Without any one permission, or any one place, of any line, something fails.
			for i, a := range m.Fence.Allow {
				cut := func(a fence.Allow) {
					cuts++
					lines := slices.Clone(m.Fence.Allow)
					lines[i] = a
					less := after(lines)
					if !slices.ContainsFunc(takes, func(c call) bool {
						return !less.Decide(who, c.do, c.on,
							at12).Allowed
					}) {
						t.Errorf("task %s for %s: line %d can be cut to %v on %v", task.Name, who, i+1, a.Do, a.Where)
					}
				}
				for j := range a.Do {
					b := a
					b.Do = slices.Delete(slices.Clone(a.Do), j, j+1)
					cut(b)
				}
				for j := range a.Where {
					b := a
					b.Where = slices.Delete(slices.Clone(a.Where), j, j+1)
					cut(b)
				}
			}
		}
	}
	t.Logf("%d calls of tasks, %d probes beside them, %d cuts", calls, probes, cuts)
}
