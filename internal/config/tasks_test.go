package config

import (
	"slices"
	"strings"
	"testing"

	"clipfence/internal/core/model"
)

// TestWhere: which nodes a step is on, seen from its place, and for whom.
func TestWhere(t *testing.T) {
	place := model.MustPath("/m/a:1/b:2/box:x")
	for _, tt := range []struct {
		step Step
		who  string
		want string
	}{
		{Step{}, "person/p", "/m/a:1/b:2/box:x"},
		{Step{Spot: AtPlace}, "person/p", "/m/a:1/b:2/box:x"},
		{Step{Spot: AtBelow}, "person/p", "/m/a:1/b:2/box:x/**"},
		{Step{Spot: AtParent}, "person/p", "/m/a:1/b:2"},
		{Step{Spot: AtAbove}, "person/p", "/m/a:1/b:2 /m/a:1 /m"},
		{Step{For: "person"}, "person/p", "/m/a:1/b:2/box:x"},
		{Step{For: "person"}, "workload/w", ""},
		{Step{For: "workload", Spot: AtAbove}, "person/p", ""},
	} {
		var got []string
		for _, on := range tt.step.Where(place, model.MustID(tt.who)) {
			got = append(got, on.String())
		}
		if s := strings.Join(got, " "); s != tt.want {
			t.Errorf("%+v for %s: %q, want %q", tt.step, tt.who, s, tt.want)
		}
	}
	top := model.MustPath("/m")
	for _, spot := range []string{AtParent, AtAbove} {
		s := Step{Spot: spot}
		if got := s.Where(top, model.MustID("person/p")); got != nil {
			t.Errorf("%s of the top node: %v", spot, got)
		}
	}
}

// TestOwnTasks: the program's own tasks can be read, and each says what it takes.
func TestOwnTasks(t *testing.T) {
	seen := map[string]bool{}
	for _, task := range OwnTasks() {
		if task.Title == "" || seen[task.Name] {
			t.Errorf("%+v", task)
		}
		seen[task.Name] = true
		for _, s := range task.Companions {
			if s.Why == "" {
				t.Errorf("task %s: a companion does not say what it is for", task.Name)
			}
		}
	}
}

const goodNeeds = "needs: 1\nproduct: P\nplaces: {p: where}\nfeatures:\n  - {name: a, always: true, needs: [{do: " +
	"[\"a/b:c\"], " +
	"place: p}]}\n"

// TestParseNeeds says what is wrong with a needs file, and where.
func TestParseNeeds(t *testing.T) {
	if n, err := ParseNeeds("n.yaml", []byte(goodNeeds)); err != nil || n.Features[0].Needs[0].Place != "p" {
		t.Fatalf("%+v, %v", n, err)
	}
	for _, tt := range []struct{ was, is, want string }{
		{"needs: 1", "needs: 2", "format 2"},
		{"product: P", "product: ''", "product: say what it is"},
		{"place: p", "place: q", `n.yaml:5:37: place: "q" is not one of the names`},
		{"name: a", "name: ''", "a feature needs a name"},
		{"do: [\"a/b:c\"]", "do: []", "no permission is named"},
		{"place: p}", "place: p, at: over}", "none of place, below, parent, above"},
		{"place: p}", "place: p, for: cat}", "none of person, workload, group"},
		{"features:", "features: []\nx:", "not known here"},
		{"always: true", "sometimes: true", "not known here"},
	} {
		text := strings.Replace(goodNeeds, tt.was, tt.is, 1)
		if _, err := ParseNeeds("n.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: error %v, want one that says %q", text, err, tt.want)
		}
	}
	twice := goodNeeds + "  - {name: a, needs: []}\n"
	if _, err := ParseNeeds("n.yaml", []byte(twice)); err == nil || !strings.Contains(err.Error(), "two features") {
		t.Errorf("two of a name: %v", err)
	}
}

// FuzzTasks: what is read is well formed, whatever is read.
func FuzzTasks(f *testing.F) {
	f.Add("tasks: 1\nlist:\n  - {name: a, title: t, kinds: [box], steps: [{do: [\"a/b:c\"], at: below}]}\n")
	f.Add(string(ownTasks))
	f.Fuzz(func(t *testing.T, text string) {
		list, err := ParseTasks("t.yaml", []byte(text))
		if err != nil {
			return
		}
		for _, task := range list {
			if task.Name == "" || len(task.Steps) == 0 {
				t.Errorf("%q is read as %+v", text, task)
			}
			wellFormed(t, text, slices.Concat(task.Steps, task.Companions))
		}
	})
}

// FuzzNeeds is FuzzTasks for needs.
func FuzzNeeds(f *testing.F) {
	f.Add(goodNeeds)
	f.Fuzz(func(t *testing.T, text string) {
		n, err := ParseNeeds("n.yaml", []byte(text))
		if err != nil {
			return
		}
		if n.Product == "" || len(n.Features) == 0 {
			t.Errorf("%q is read as %+v", text, n)
		}
		for _, x := range n.Features {
			wellFormed(t, text, x.Needs)
			for _, s := range x.Needs {
				if _, ok := n.Places[s.Place]; !ok {
					t.Errorf("%q: place %q is none", text, s.Place)
				}
			}
		}
	})
}

func wellFormed(t *testing.T, text string, steps []Step) {
	for _, s := range steps {
		if len(s.Do) == 0 || len(s.Where(model.MustPath("/m/a:1"), model.MustID("person/p"))) == 0 && s.For == "" {
			t.Errorf("%q holds step %+v", text, s)
		}
	}
}
