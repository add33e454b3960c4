package risk

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestLaid: what a past says does not hang on how much of it is in maps at a time.
func TestLaid(t *testing.T) {
	x := estate(t)
	uses := usage.ListOf(walk(rand.New(rand.NewPCG(6, 6)), .02)...)
	p, few := NewPast(x, nil, uses, now-399, now, allowed), NewPast(x, nil, uses, now-399, now, allowed)
	few.most = 1
	a, err := Learn(p, now, everything{x: x}, nil).Keep(p)
	if err != nil {
		t.Fatal(err)
	}
	b, err := Learn(few, now, everything{x: x}, nil).Keep(few)
	if err != nil || string(a) != string(b) {
		t.Errorf("other things were learned: %v", err)
	}
	if len(p.laid) < 30 || len(few.laid) != 1 {
		t.Errorf("of %d and %d there are maps", len(p.laid), len(few.laid))
	}
	for i := range 40 {
		id := model.MustID(fmt.Sprint("person/p", i))
		for perm := range x.Numbers() {
			if p.Used(id, perm) != few.Used(id, perm) || fmt.Sprint(p.Parts(id, perm, now, Old)) !=
				fmt.Sprint(few.Parts(id, perm, now, Old)) {
				t.Fatalf("%s, permission %d: other parts", id, perm)
			}
		}
	}
}

// TestKept: what was learned says the same after it was written down and read again, to the last
// digit, about a past that was not learned from anew.
func TestKept(t *testing.T) {
	x := estate(t)
	uses := usage.ListOf(walk(rand.New(rand.NewPCG(5, 5)), .02)...)
	p := NewPast(x, nil, uses, now-399, now, allowed)
	m := Learn(p, now, everything{x: x}, nil)
	data, err := m.Keep(p)
	if err != nil {
		t.Fatal(err)
	}
	again := NewPast(x, nil, uses, now-399, now, allowed)
	n, err := Recall(again, data)
	if err != nil {
		t.Fatal(err)
	}
	parts := 0
	for i := range 40 {
		id := model.MustID(fmt.Sprint("person/p", i))
		for perm := range x.Numbers() {
			if p.Shows(perm) != again.Shows(perm) {
				t.Errorf("permission %d is shown: %t, recalled %t", perm, p.Shows(perm), again.Shows(perm))
			}
			was, is := p.Parts(id, perm, now, Old), again.Parts(id, perm, now, Old)
			if fmt.Sprint(was) != fmt.Sprint(is) {
				t.Fatalf("%s: other parts", id)
			}
			for k, q := range was {
				parts++
				a, b, _ := m.Like(q)
				c, d, _ := n.Like(is[k])
				if m.Chance(q) != n.Chance(is[k]) || m.Soon(q) != n.Soon(is[k]) || a != c || b != d {
					t.Fatalf("%s, %s: %v and %v, recalled %v and %v", id, q.Class, m.Chance(q), m.Soon(q),
						n.Chance(is[k]), n.Soon(is[k]))
				}
			}
		}
	}
	if parts < 100 || n.KnowsUsed() != m.KnowsUsed() || n.KnowsDark(model.Read) != m.KnowsDark(model.Read) ||
		n.KnowsYoung() != m.KnowsYoung() {
		t.Errorf("%d parts; what is known differs", parts)
	}
	text := string(data)
	for _, bad := range []string{"", "{", "null x", `{"Late":{"Days":90,"Ahead":1}}`,
		strings.Replace(text, `"Days":30`, `"Days":31`, 1), strings.Replace(text, `"Ahead":1`, `"Ahead":0`, 1),
		strings.Replace(text, `:[`, `:[-`, 1), strings.Replace(text, `"Seen":[`, `"Seen":[-`, 1)} {
		if bad == text {
			t.Fatal("nothing is changed")
		}
		if _, err := Recall(NewPast(x, nil, uses, now-399, now, allowed), []byte(bad)); !errors.Is(err, ErrKept) {
			t.Errorf("%.40s: %v", bad, err)
		}
	}
}

// FuzzRecall: whatever is read is refused or holds counts that can be fitted.
func FuzzRecall(f *testing.F) {
	x := estate(f)
	uses := usage.ListOf(walk(rand.New(rand.NewPCG(6, 6)), .02)[:200]...)
	p := NewPast(x, nil, uses, now-399, now, allowed)
	if data, err := Learn(p, now, everything{x: x}, nil).Keep(p); err == nil {
		f.Add(data)
	}
	f.Add([]byte(`{"Late":{"Days":90,"Ahead":2,"Bins":[{"7":[3,1]}]},"Soon":{"Days":30,"Ahead":1}}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, _, err := readKept(data)
		if err != nil {
			return
		}
		for _, o := range []*outlook{&m.late, &m.soon} {
			for c, bins := range o.bins {
				for bin, t2 := range bins {
					if !(t2.n >= t2.k && t2.k >= 0 && t2.n <= mostKept) || !(o.ahead >= 1) {
						t.Fatalf("%s %d: %+v, %v ahead", Class(c), bin, t2, o.ahead)
					}
				}
			}
		}
	})
}
