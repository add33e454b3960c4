package draft_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/draft"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
)

// TestLimits: what was not used in the window ends by itself where that is asked for: a guess with the
// 90 days that it is about, an older habit when it would be over. What was used does not, nor what no
// log shows, and nothing ends later than the grant did. The fence says what goes then, and holds.
func TestLimits(t *testing.T) {
	const box = "/m/project:p1/box:a"
	for name, tt := range map[string]struct {
		days  []int
		until int // days until the grant ends; 0: never
		dark  bool
		want  string // of each line that gives putting: in how many days it ends
	}{
		"used":                        {span(-300, -1), 0, false, "never"},
		"a yearly job":                {[]int{-362, -361, -360, -359}, 0, false, "91"},
		"a yearly job of last spring": {[]int{-202, -201, -200, -199}, 0, false, "202"}, // 400 days after the last
		"a grant that ends before":    {[]int{-202, -201, -200, -199}, 30, false, "30"},
		"a grant that ends after":     {[]int{-202, -201, -200, -199}, 900, false, "202"},
		"every 70 days, lately not":   {every(70, -399, -100), 0, false, "91"},
		"no log shows it":             {nil, 0, true, "never"},
	} {
		for _, ask := range []bool{true, false} {
			c := newPlain(t)
			who := c.who("workload/w")
			c.uses(who, "read", box, span(-399, -1)...)
			c.uses(who, "put", box, tt.days...)
			c.grant(who, "/m/**", 900, "s/item:read", "s/item:put", "s/item:scrap")
			if tt.until != 0 {
				c.e.Grants[len(c.e.Grants)-1].Until = asOf.AddDate(0, 0, tt.until)
			}
			if tt.dark {
				c.e.Coverage = slices.DeleteFunc(c.e.Coverage, func(r model.CoverageRecord) bool {
					return r.Service == "s" && r.LogClass == "change"
				})
			}
			in := c.input()
			x := in.Index
			res := gauge.Run(in)
			f, err := draft.FromUse(in, res, who, draft.Options{Limits: ask, Caution: draft.Careful,
				KeepUnobservable: true})
			if err != nil {
				t.Fatal(name, err)
			}
			put := model.MustPermissionPattern("s/item:put")
			var ends []string
			for _, a := range f.Allow {
				if slices.Contains(a.Do, put) {
					end := "never"
					if !a.Until.IsZero() {
						end = fmt.Sprint(int(a.Until.Sub(asOf).Hours()/24 + .5))
					}
					if !slices.Contains(ends, end) {
						ends = append(ends, end)
					}
				} else if a.Evidence.Class == "used" && !a.Until.IsZero() && tt.until == 0 {
					t.Errorf("%s: what is used ends: %+v", name, a)
				}
			}
			want := tt.want
			if !ask {
				want = "never"
				if tt.until != 0 {
					want = fmt.Sprint(tt.until)
				}
			}
			if got := strings.Join(ends, " "); got != want {
				t.Errorf("%s, asked %t: ends in %q days, want %q", name, ask, got, want)
			}
			r, err := rehearse.Run(x, f, in.Uses, res.Placement, gauge.DefaultWeights)
			if err != nil {
				t.Fatal(err)
			}
			// What the draft ends is told, and nothing else.
			limited := ask && want != "never" && tt.until == 0 // of one that ends anyway, either end is open
			if !r.OK() || len(r.Broken) > 0 || limited != (len(r.Ending) > 0) ||
				rehearse.Often(r.Ending, in.Span()) > 0 {
				t.Errorf("%s, asked %t: %+v, %d end", name, ask, r.Broken, len(r.Ending))
			}
			for _, b := range r.Ending {
				if got := fmt.Sprint(int(b.Until.Sub(asOf).Hours()/24 + .5)); got != want {
					t.Errorf("%s: a use goes on for %s days, want %s", name, got, want)
				}
			}
		}
	}
}

// TestForEnds: the end of what is used and ends soon, or ended lately, is put off, as it was otherwise;
// nothing else is.
func TestForEnds(t *testing.T) {
	for name, tt := range map[string]struct {
		end   int // in days
		used  string
		until int // to be put off to, in days
		want  string
	}{
		"soon, and used":          {20, "1-80", 365, "g1: stow/item:read until +365"},
		"soon, and not used":      {20, "", 365, ""},
		"soon, used long ago":     {20, "100-180", 365, ""},
		"later, and used":         {31, "1-80", 365, ""},
		"lately, and used":        {-20, "30-80", 365, "g1: stow/item:read until +365"},
		"long ago":                {-100, "110-180", 365, ""},
		"it is no putting off":    {20, "1-80", 20, ""},
		"it is, by a day":         {20, "1-80", 21, "g1: stow/item:read until +21"},
		"it does not end":         {0, "1-80", 365, ""},
		"used by another as well": {20, "1-80", 365, "g1: stow/item:read until +365"},
	} {
		text := "grant g1 workload/a stow/item:read /m/**\ngrant g2 workload/a stow/item:find /m/**"
		if tt.used != "" {
			text += "\nused workload/a stow/item:read /m/berth:x/box:b1/x " + tt.used
		}
		in, err := gaugetest.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		if tt.end != 0 {
			g := *in.Index.Grant(must(in.Index.GrantNamed("g1")))
			g.Until = gaugetest.Now.AddDate(0, 0, tt.end)
			if in.Index, err = in.Index.With(access.Edit{Come: access.Come{Grants: []model.Grant{g}}}); err != nil {
				t.Fatal(err)
			}
		}
		f := draft.ForEnds(in, gauge.Run(in), model.MustID("workload/a"), gaugetest.Now.AddDate(0, 0, tt.until))
		got := ""
		if f != nil {
			for i, a := range f.Allow {
				got += fmt.Sprintf("%s: %s until +%d", f.Replaces[i], joined(a.Do),
					int(a.Until.Sub(gaugetest.Now).Hours()/24))
			}
			r, err := rehearse.Run(in.Index, f, in.Uses, nil, gauge.DefaultWeights)
			if err != nil || !r.OK() || len(r.Gives) != 1 || f.Validate(in.Index) != nil {
				t.Errorf("%s: %v, %+v", name, err, r)
			}
		}
		if got != tt.want {
			t.Errorf("%s: %q, want %q", name, got, tt.want)
		}
	}
}

func must(n int, ok bool) int {
	if !ok {
		panic("no such grant")
	}
	return n
}

// TestGiveUpFrom: what a fence says to go from some time on may be used until then by a line that ends
// then, and breaks where none gives it; the earliest time of several counts.
func TestGiveUpFrom(t *testing.T) {
	later, latest := gaugetest.Now.AddDate(0, 0, 100), gaugetest.Now.AddDate(0, 0, 200)
	over := gaugetest.Now.AddDate(0, 0, -9)
	const goes = "0 broken, 1 ends +100, 1 often"
	read := []model.PermissionPattern{model.MustPermissionPattern("stow/item:read")}
	all := []model.PathPattern{model.MustPathPattern("/m/**")}
	for name, tt := range map[string]struct {
		line, from []time.Time
		want       string
	}{
		"both say the same":            {[]time.Time{later}, []time.Time{later}, goes},
		"the line ends before":         {[]time.Time{later}, []time.Time{latest}, "1 broken, 0 ends"},
		"the line ends after":          {[]time.Time{latest}, []time.Time{later}, goes},
		"nothing is said":              {[]time.Time{later}, nil, "1 broken, 0 ends"},
		"no line":                      {nil, []time.Time{later}, "1 broken, 0 ends"},
		"it goes at once":              {[]time.Time{later}, []time.Time{{}}, "1 given up, 0 ends"},
		"at once, and from some time":  {[]time.Time{later}, []time.Time{later, {}}, "1 given up, 0 ends"},
		"two times":                    {[]time.Time{latest}, []time.Time{latest, later}, goes},
		"one line stays":               {[]time.Time{later, {}}, []time.Time{later}, "0 broken, 0 ends"},
		"a time that is over":          {[]time.Time{over}, []time.Time{over}, "1 broken, 0 ends"},
		"a line that is over, but one": {[]time.Time{over, later}, []time.Time{later}, goes},
	} {
		in, err := gaugetest.Parse("grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read " +
			"/m/berth:x/box:b1/x 1-80")
		if err != nil {
			t.Fatal(err)
		}
		f := &fence.Fence{Version: fence.FormatVersion, For: model.MustID("m:workload/a"), Replaces: []string{"g1"}}
		for _, at := range tt.line {
			f.Allow = append(f.Allow, fence.Allow{Do: read, Where: all, Until: at})
		}
		for _, at := range tt.from {
			f.GivesUp = append(f.GivesUp, fence.GiveUp{Do: read, Where: all, From: at})
		}
		r, err := rehearse.Run(in.Index, f, in.Uses, nil, gauge.DefaultWeights)
		if err != nil {
			t.Fatal(err)
		}
		j, err := rehearse.Together(in.Index, []*fence.Fence{f}, in.Uses, nil, gauge.DefaultWeights)
		if err != nil {
			t.Fatal(err)
		}
		word := "broken"
		if len(r.Broken) > 0 && r.Broken[0].GivenUp {
			word = "given up"
		}
		got := fmt.Sprintf("%d %s, %d ends", len(r.Broken), word, len(r.Ending))
		for _, b := range r.Ending {
			got += fmt.Sprintf(" +%d, %d often", int(b.Until.Sub(gaugetest.Now).Hours()/24), rehearse.Often(r.Ending,
				in.Span()))
		}
		if got != tt.want || len(j.Ending) != len(r.Ending) || len(j.Broken) != len(r.Broken) {
			t.Errorf("%s: %s, want %s; together %d broken, %d end", name, got, tt.want, len(j.Broken), len(j.Ending))
		}
	}
}
