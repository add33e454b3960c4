package main

import (
	"testing"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
)

// TestTown: in a town everybody has what it has in the life that it is of, and does what it does there.
func TestTown(t *testing.T) {
	const first, lives = 3, 2
	town := joined(first, lives, world{})
	day := days[1]
	x, err := index.Build(town.at(day))
	if err != nil {
		t.Fatal(err)
	}
	var want, tried int
	for n := range lives {
		l := live(shapedAs(worldOf(first+n), world{}), uint64(first+n))
		want += len(l.calls)
		alone, err := index.Build(l.at(day))
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i < len(l.calls); i += 97 {
			c := l.calls[i]
			one := alone.Decide(l.who[c.who], l.perms[c.perm], c.path, model.Context{}).Outcome
			two := x.Decide(whose(l.who[c.who], n), town.perms[c.perm], there(c.path, n), model.Context{}).Outcome
			if one != two {
				t.Fatalf("life %d: %s %s %s: %s alone, %s in the town", n, l.who[c.who], l.perms[c.perm], c.path,
					one, two)
			}
			tried++
		}
	}
	if len(town.calls) != want || tried < 100 {
		t.Errorf("%d calls, want %d; %d tried", len(town.calls), want, tried)
	}
	for i := 1; i < len(town.calls); i++ {
		if town.calls[i-1].day > town.calls[i].day {
			t.Fatal("the days of a town are not in order")
		}
	}
}
