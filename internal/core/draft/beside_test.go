package draft

import (
	"fmt"
	"strings"
	"testing"

	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
	"clipfence/internal/core/risk"
)

// TestKeptIsNotMissed: what a member of a group keeps for itself further up does not go on the places below, and
// discounts nothing that is done there; what nobody keeps does.
func TestKeptIsNotMissed(t *testing.T) {
	text := "grant g group/g stow/item:* /m/** made-900\n"
	for i := range 6 {
		text += fmt.Sprintf("member person/m%d group/g\nused person/m%d stow/item:read /m/berth:y/box:b1 1-80\n", i, i)
	}
	in, err := gaugetest.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	r := gauge.Run(in)
	for i := range 6 {
		r.Grants[0].Holders = append(r.Grants[0].Holders, model.MustID(fmt.Sprintf("person/m%d", i)))
	}
	perm, _ := in.Index.PermNumber(model.MustPermission("stow/box:scrap"))
	mine := model.MustID("person/m0")
	for _, tt := range []struct {
		name  string
		worth float64
		want  string
	}{{"worth much", 1e4, ""}, {"worth little", 1, "/m/berth:x/box:b1/** /m/berth:x/box:b2/** /m/berth:x/**"}} {
		d := &drafter{in: in, r: r, x: in.Index, worth: NewWorth(in, r), known: map[[2]int][]*candidate{},
			lent: map[int]map[int]float64{}, lately: map[[2]int]map[model.PathPattern]int{},
			on: map[[2]int]map[model.Path]*gauge.PathUse{}}
		d.again()
		for i, on := range []string{"/m/berth:x/box:b1/**", "/m/berth:x/box:b2/**", "/m/berth:x/**"} {
			c := &candidate{class: risk.Used, where: []model.PathPattern{model.MustPathPattern(on)}, key: on,
				hazard: .9, most: .9, needs: 1, often: 1, by: map[model.ID]float64{mine: .9},
				users: map[model.ID]bool{mine: true}}
			if i == 2 {
				c.class, c.users = risk.Beside, map[model.ID]bool{}
			}
			c.region = in.Index.Region(c.where...)
			d.known[[2]int{0, perm}] = append(d.known[[2]int{0, perm}], c)
		}
		number(d.known[[2]int{0, perm}])
		kept := d.search(r.Grants[0], perm, tt.worth, true)
		for _, s := range kept {
			if s.to != mine || s.on.String() != "/m/berth:x/**" {
				t.Errorf("%s: kept on %s for %s", tt.name, s.on, s.to)
			}
		}
		var missed []string
		for _, c := range d.known[[2]int{0, perm}] {
			if d.missing[c.key][perm].hazard > 0 {
				missed = append(missed, c.key)
			}
		}
		if got := strings.Join(missed, " "); got != tt.want {
			t.Errorf("%s: it goes on %q, want %q", tt.name, got, tt.want)
		}
		if asked := d.lent[0][perm] > 0; asked != (tt.want != "") {
			t.Errorf("%s: to be asked for %t", tt.name, asked)
		}
	}
}

// TestGoesToo: another permission goes on some places as it was chosen in this round, and as in the last one where it
// was not chosen yet.
func TestGoesToo(t *testing.T) {
	d := &drafter{}
	d.again()
	if got := d.beside("a", 1).hazard; got != 0 {
		t.Errorf("%v of nothing", got)
	}
	for perm, hazard := range []float64{.2, .6, .5} {
		d.miss("a", perm, need{hazard: hazard / 2})
		d.miss("a", perm, need{hazard: hazard})
		d.miss("a", perm, need{hazard: hazard / 3})
	}
	want := func(name string, perm int, want float64) {
		t.Helper()
		if got := d.beside("a", perm).hazard; got != want {
			t.Errorf("%s: %v beside %d, want %v", name, got, perm, want)
		}
	}
	want("in the round itself", 0, .6)
	want("the likeliest besides itself", 1, .5)
	d.again()
	want("in the next one", 0, .6)
	d.chosen[1] = true
	want("when that stays now", 0, .5)
	d.miss("a", 1, need{hazard: .1})
	want("when little of it goes", 2, .2)
	d.chosen[0] = true
	want("when only that goes", 2, .1)
	d.again()
	want("what went in the last round alone", 2, .1)
	if got := d.beside("b", 1).hazard; got != 0 {
		t.Errorf("%v on other places", got)
	}
}

// TestGoes: what a member keeps for itself goes for the others alone.
func TestGoes(t *testing.T) {
	on := func(list ...string) (out []model.PathPattern) {
		for _, s := range list {
			out = append(out, model.MustPathPattern(s))
		}
		return out
	}
	a, b, none := model.MustID("person/a"), model.MustID("person/b"), model.ID{}
	line := func(to model.ID, where string) stays { return stays{on: model.MustPathPattern(where), to: to} }
	group := &candidate{where: on("/m/x/**", "/m/y/**"), hazard: .75, by: map[model.ID]float64{a: .5, b: .25}}
	open := &candidate{where: on("/m/x/**"), hazard: .75}
	for _, tt := range []struct {
		name  string
		of    *candidate
		lines []stays
		want  float64
	}{
		{"nobody keeps it", group, nil, .75},
		{"one of two places", group, []stays{line(a, "/m/x/**")}, .75},
		{"two lines", group, []stays{line(a, "/m/x/**"), line(a, "/m/y/**")}, .25},
		{"further up", group, []stays{line(b, "/m/**")}, .5},
		{"each keeps a half of it", group, []stays{line(a, "/m/x/**"), line(b, "/m/y/**")}, .75},
		{"both keep it", group, []stays{line(a, "/m/**"), line(b, "/m/**")}, 0},
		{"somebody who does not need it", group, []stays{line(model.MustID("person/c"), "/m/**")}, .75},
		{"nobody is told apart", open, []stays{line(a, "/m/**")}, .75},
		{"a line for all", group, []stays{line(none, "/m/**")}, .75},
	} {
		if got := tt.of.goes(tt.lines); got.hazard != tt.want {
			t.Errorf("%s: %v goes, want %v", tt.name, got.hazard, tt.want)
		}
	}
	if len(group.by) != 2 {
		t.Errorf("asking took something away: %v", group.by)
	}
}
