package gauge_test

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

func scenario(t *testing.T, text string) *gauge.Input {
	t.Helper()
	in, err := gaugetest.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return in
}

// TestClasses: into which class each permission of grant g1 falls: u used, r rare, n
// too new, o unobservable, x unused.
func TestClasses(t *testing.T) {
	for _, tt := range []struct{ name, text, want string }{
		{"used and not", "grant g1 workload/a stow/item:* /m/**\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/1 1-80", "change x find x read u"},
		{"a refused call is no use",
			"grant g1 workload/a stow/item:* /m/**\nrefused workload/a stow/item:read /m/berth:x/box:b1/1 " +
				"1-80\nused workload/a stow/item:find /m/berth:x/box:b1 1-9", "change x find u read x"},
		{"too new", "grant g1 workload/a stow/item:* /m/** new\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/1 1-5", "change n find n read u"},
		{"no log", "grant g1 workload/a stow/item:* /m/**\nlog off\nused workload/a muster/grant:give /m/berth:x 1-9",
			"change o find o read o"},
		{"a log that began inside the window",
			"grant g1 workload/a stow/item:* /m/**\nlog since-30\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/1 1-20", "change o find o read u"},
		{"a log that began a day late",
			"grant g1 workload/a stow/item:* /m/**\nlog since-89\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/1 1-20", "change x find x read u"},
		{"off above, on in the only berth",
			"grant g1 workload/a stow/item:read,stow/item:find /m/**\nlog off\nlog /m/berth:x on\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/1 1-20", "find x read u"},
		{"off above, on in one berth of two",
			"grant g1 workload/a stow/item:read,stow/item:find /m/**\nnode /m/berth:y\nnode /m/berth:y/box:c\nlog " +
				"off\nlog /m/berth:x on\nused workload/a stow/item:read /m/berth:x/box:b1/1 1-20", "find o read u"},
		{"off above, the other berth has nothing to use it on",
			"grant g1 workload/a stow/item:read,stow/item:find /m/**\nnode /m/berth:y\nlog off\n" +
				"log /m/berth:x on\nused workload/a stow/item:read /m/berth:x/box:b1/1 1-20", "find x read u"},
		{"on above, off in one box",
			"grant g1 workload/a stow/item:read,stow/item:find /m/**\nlog /m/berth:x/box:b3 off\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/1 1-20", "find o read u"},
		{"off in a box beside",
			"grant g1 workload/a stow/item:read,stow/item:find /m/berth:x/box:b1/**\n" +
				"log /m/berth:x/box:b3 off\nused workload/a stow/item:read /m/berth:x/box:b1/1 1-20", "find x read u"},
		{"monthly", "grant g1 workload/a stow/item:read,stow/item:find /m/**\nused workload/a stow/item:read " +
			"/m/berth:x/box:b1/1 100-380/30\nused workload/a stow/item:find /m/berth:x/box:b1 1-200", "find u read x"},
		{"a season that may be yearly",
			"grant g1 workload/a stow/item:read,stow/item:find /m/**\nused workload/a stow/item:read " +
				"/m/berth:x/box:b1/1 200-203\nused workload/a stow/item:find /m/berth:x/box:b1 1-200",
			"find u read r"},
		{"quarterly", "grant g1 workload/a stow/item:read,stow/item:find /m/**\nused workload/a stow/item:read " +
			"/m/berth:x/box:b1/1 100-380/91\nused workload/a stow/item:find /m/berth:x/box:b1 1-200", "find u read r"},
		{"through a group", "grant g1 group/g stow/item:* /m/**\nmember person/p group/g\n" +
			"used person/p stow/item:change /m/berth:x/box:b0/2 3-60", "change u find x read x"},
		{"elsewhere", "grant g1 workload/a stow/item:read /m/berth:x/box:b1/**\ngrant g2 workload/a stow/item:read " +
			"/m/berth:x/box:b2/**\nused workload/a stow/item:read /m/berth:x/box:b2/1 1-80", "read x"},
		{"never logged", "grant g1 workload/a quiet/*:*,stow/item:read /m/**\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/1 1-80", "do o read u"},
		{"an operation that nothing maps",
			"grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:fly /m/berth:x/box:b1/1 1-80",
			"change f find f read f"},
		{"one that nothing maps, beside the grant",
			"grant g1 workload/a stow/item:* /m/berth:x/box:b1/**\ngrant g2 workload/a stow/item:find " +
				"/m/berth:x/box:b2/**\nused workload/a stow/item:fly /m/berth:x/box:b2/1 1-80\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/1 1-80", "change x find x read u"},
		{"of a service that nothing maps",
			"grant g1 workload/a stow/item:find,quiet/*:* /m/**\n" +
				"used workload/a unmapped/Fly:call /m/berth:x/box:b1/1 1-80", "do f find f"},
		{"one that nothing maps, of somebody in an open crowd",
			"grant g1 signed-in stow/item:find,stow/item:read /m/**\nused workload/a stow/item:fly " +
				"/m/berth:x/box:b1/1 1-80\nused workload/b stow/item:read /m/berth:x/box:b1/1 1-80", "find f read u"},
		{"of a whole crowd, and of another place",
			"grant g1 everyone stow/item:find,stow/item:read /m/berth:x/box:b1/**\n" +
				"grant g2 workload/a stow/item:find /m/berth:x/box:b2/**\n" +
				"used workload/a stow/item:fly /m/berth:x/box:b2/1 1-80\n" +
				"used workload/b stow/item:read /m/berth:x/box:b1/1 1-80", "find x read u"},
		{"one that nothing maps, where nothing reaches",
			"grant g1 workload/a stow/item:find,stow/item:read /m/berth:x/box:b1/**\nused workload/a stow/item:fly " +
				"/m/berth:x/box:b2/1 1-80\nused workload/a stow/item:read /m/berth:x/box:b1/1 1-80", "find f read u"},
		{"of a member that nobody lists",
			"grant g1 group/g stow/item:find,stow/item:read /m/**\nmember workload/a group/g\n" +
				"member workload/stray group/g\n" +
				"used workload/stray stow/item:find /m/berth:x/box:b1/1 1-80\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/1 1-80", "find f read u"},
		{"of somebody unknown, and of the group nobody is listed",
			"grant g1 group/g stow/item:change,stow/item:find,stow/item:read /m/**\n" +
				"used workload/stray stow/item:find /m/berth:x/box:b1/1 1-80\n" +
				"used workload/b stow/item:read /m/berth:x/box:b1/1 1-80", "change x find f read f"},
		{"of somebody unknown whose groups the log tells",
			"grant g1 group/g stow/item:find,stow/item:read /m/**\ngrouped workload/stray\n" +
				"used workload/stray stow/item:find /m/berth:x/box:b1/1 1-80", "find x read x"},
		{"and of which only a group is, that is as empty",
			"grant g1 group/g stow/item:find,stow/item:read /m/**\nmember group/h group/g\n" +
				"used workload/stray stow/item:find /m/berth:x/box:b1/1 1-80", "find f read x"},
		{"and of which somebody was listed, who left it",
			"grant g1 group/g stow/item:find,stow/item:read /m/**\nemptied group/g\n" +
				"used workload/stray stow/item:find /m/berth:x/box:b1/1 1-80", "find x read x"},
		{"and of which somebody is listed",
			"grant g1 group/g stow/item:find,stow/item:read /m/**\nmember workload/b group/g\n" +
				"used workload/stray stow/item:find /m/berth:x/box:b1/1 1-80\n" +
				"used workload/b stow/item:read /m/berth:x/box:b1/1 1-80", "find x read u"},
		{"long ago, and of the group nobody is listed",
			"grant g1 group/g stow/item:find,stow/item:read /m/**\n" +
				"used workload/stray stow/item:find /m/berth:x/box:b1/1 300-390", "find x read x"},
		{"a refused one freezes nothing",
			"grant g1 workload/a stow/item:find,stow/item:read /m/**\nrefused workload/a stow/item:fly " +
				"/m/berth:x/box:b1/1 1-80\nused workload/a stow/item:read /m/berth:x/box:b1/1 1-80", "find x read u"},
		{"nor one of long ago",
			"grant g1 workload/a stow/item:find,stow/item:read /m/**\nused workload/a stow/item:fly " +
				"/m/berth:x/box:b1/1 300-390\nused workload/a stow/item:read /m/berth:x/box:b1/1 1-80",
			"find x read u"},
		{"a grant that nothing explains",
			"grant g1 workload/a stow/item:find,stow/item:read /m/berth:x/box:b1/**\nused workload/a " +
				"stow/item:find /m/berth:x/box:b2/1 1-80\nused workload/a stow/item:read /m/berth:x/box:b1/1 1-80",
			"find f read u"},
		{"the same, of one whom every check lets through",
			"bypass workload/a\ngrant g1 workload/a stow/item:find,stow/item:read /m/berth:x/box:b1/**\n" +
				"used workload/a stow/item:find /m/berth:x/box:b2/1 1-80\n" +
				"used workload/a stow/item:read /m/berth:x/box:b1/1 1-80", "find x read u"},
		{"one rare member of two",
			"grant g1 group/g stow/item:find,stow/item:read /m/**\nmember workload/a group/g\nmember workload/b " +
				"group/g\nseen workload/a 200\nused workload/b stow/item:read /m/berth:x/box:b1/1 1-80",
			"find x read u"},
		{"what the rare one of two used",
			"grant g1 group/g stow/item:change,stow/item:find,stow/item:read /m/**\nmember workload/a " +
				"group/g\nmember workload/b group/g\nused workload/a stow/item:find /m/berth:x/box:b1 " +
				"200-203\nused workload/b stow/item:read /m/berth:x/box:b1/1 1-80", "change x find r read u"},
		{"whom the others would hide",
			"grant g1 group/g stow/item:find,stow/item:read /m/**\nmember workload/a group/g\nmember workload/b " +
				"group/g\nused workload/a stow/item:find /m/berth:x/box:b1 200-203\nused workload/b stow/item:find " +
				"/m/berth:x/box:b1 210-390\nused workload/b stow/item:read /m/berth:x/box:b1/1 1-80", "find r read u"},
		{"members of whom none can be judged",
			"grant g1 group/g stow/item:find /m/**\nmember workload/a group/g\nmember workload/b group/g\n" +
				"seen workload/a 200\nyoung workload/b", "find h"},
		{"the holder is rare", "grant g1 workload/a stow/item:* /m/**\nseen workload/a 200", "change h find h read h"},
		{"protected", "grant g1 workload/a stow/item:* /m/**\nprotected workload/a\n" +
			"used workload/b stow/item:read /m/berth:x/box:b1/1 1-80", "change h find h read h"},
	} {
		in := scenario(t, tt.text)
		r := gauge.Run(in)
		if got := classes(t, in, r.Grants[0]); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
}

// classes tells into which class each permission of a grant falls, as [TestClasses] does.
func classes(t *testing.T, in *gauge.Input, g *gauge.GrantResult) string {
	t.Helper()
	var got []string
	for i := range g.Perms.All() {
		c, n := in.Index.Permission(i), 0
		for class, b := range map[string]access.Few{"u": g.Used, "r": g.Rare, "n": g.TooNew, "o": g.Unobservable,
			"x": g.Unused, "h": g.Held, "f": g.Undecidable} {
			if b.Has(i) {
				s := c.Permission.String()
				got = append(got, s[strings.LastIndexByte(s, ':')+1:]+" "+class)
				n++
			}
		}
		if n != 1 {
			t.Errorf("%s is in %d classes", c.Permission, n)
		}
	}
	slices.Sort(got)
	return strings.Join(got, " ")
}

// TestStates: how an identity stands as a whole.
func TestStates(t *testing.T) {
	for _, tt := range []struct {
		name, text string
		want       gauge.State
	}{
		{"active", "used workload/a stow/item:read /m/berth:x/box:b1 5-9", gauge.Active},
		{"daily, silent for long", "used workload/a stow/item:read /m/berth:x/box:b1 120-300", gauge.Idle},
		{"daily, silent for a month", "used workload/a stow/item:read /m/berth:x/box:b1 95-300", gauge.Idle},
		{"one season half a year ago", "used workload/a stow/item:read /m/berth:x/box:b1 180-182", gauge.Rare},
		{"never, and the source remembers nothing", "", gauge.Idle},
		{"never, seen eight months ago", "seen workload/a 240", gauge.Rare},
		{"never, seen two years ago", "seen workload/a 700", gauge.Idle},
		{"never, and no log would have shown it", "log off", gauge.Unproven},
		{"never seen, and no log would have shown it", "log off\nseen workload/a 700\nseen workload/b 1", gauge.Idle},
		{"never seen, and nobody was for some days", "log off\nseen workload/a 700\nseen workload/b 6",
			gauge.Unproven},
		{"never seen, and nobody for less than a twentieth of the window",
			"log off\nseen workload/a 700\nseen workload/b 4", gauge.Idle},
		{"never seen, and somebody is, after the day in question", "log off\nseen workload/a 700\nseen workload/b -9",
			gauge.Idle},
		{"never seen, and nobody ever was", "log off\nseen workload/a 700", gauge.Unproven},
		{"daily, until its log was off",
			"used workload/a stow/item:read /m/berth:x/box:b1 120-300\nlog /m/berth:x off", gauge.Unproven},
		{"daily, until its log was off, and not seen since",
			"used workload/a stow/item:read /m/berth:x/box:b1 120-300\nlog /m/berth:x off\nseen workload/a 120\n" +
				"seen workload/b 1", gauge.Idle},
		{"daily, until its log was off, and nobody was seen since",
			"used workload/a stow/item:read /m/berth:x/box:b1 120-300\nlog /m/berth:x off\nseen workload/a 120\n" +
				"seen workload/b 119", gauge.Unproven},
		{"daily without signing in, until its log was off",
			"used workload/a stow/item:read /m/berth:x/box:b1 120-300\nlog /m/berth:x off\nseen workload/a 122\n" +
				"seen workload/b 1", gauge.Unproven},
		{"and where the log is on, it is silent all the same",
			"used workload/a stow/item:read /m/berth:x/box:b1 120-300\nseen workload/a 122\nseen workload/b 119",
			gauge.Idle},
		{"daily, and a log that it never wrote is off",
			"used workload/a stow/item:read /m/berth:x/box:b1 120-300\nlog /m/berth:x/box:b2 off", gauge.Unproven},
		{"used by another in its name, until the log was off",
			"acted workload/a stow/item:read /m/berth:x/box:b1 120-300\nlog /m/berth:x off", gauge.Unproven},
		{"used by another in its name, for long", "acted workload/a stow/item:read /m/berth:x/box:b1 120-300",
			gauge.Idle},
		{"signs in, and nothing shows", "seen workload/a 3", gauge.Unproven},
		{"young", "young workload/a", gauge.New},
		{"closed", "disabled workload/a\nused workload/a stow/item:read /m/berth:x/box:b1 5-9", gauge.Disabled},
		{"protected wins", "protected workload/a\ndisabled workload/a", gauge.Protected},
	} {
		in := scenario(t, "grant g1 workload/a stow/item:* /m/**\n"+tt.text)
		if got := gauge.Run(in).Of(model.MustID("workload/a")).State; got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
}

// TestGaps: of a log that lacks 45 days, 95 to 51 days ago, it takes the days since 131 days ago to say
// what is unused: what is younger is too new, what was used since stays, and silences are as long as they were
// seen.
func TestGaps(t *testing.T) {
	const read = "used workload/a stow/item:read /m/berth:x/box:b1/1 "
	for _, tt := range []struct {
		name, text, want string
		state            gauge.State
	}{
		{"goes on", "grant g1 workload/a stow/item:read,stow/item:find /m/**\n" + read + "5-9", "find x read u",
			gauge.Active},
		{"nothing", "grant g1 workload/a stow/item:read /m/**", "read x", gauge.Idle},
		{"younger than the gap", "grant g1 workload/a stow/item:read /m/** made-20\nyoung workload/a 20", "read h",
			gauge.New},
		{"as young as the gap", "grant g1 workload/a stow/item:read /m/** made-100\nyoung workload/a 100", "read h",
			gauge.New},
		{"a grant as young as the gap to somebody else", "grant g1 workload/a stow/item:read /m/** made-100", "read n",
			gauge.Idle},
		{"older", "grant g1 workload/a stow/item:read /m/** made-140\nyoung workload/a 140", "read x", gauge.Idle},
		{"to shortly before the gap", "grant g1 workload/a stow/item:read /m/**\n" + read + "128-300", "read r",
			gauge.Rare},
		{"to long before", "grant g1 workload/a stow/item:read /m/**\n" + read + "135-300", "read x", gauge.Idle},
		{"seldom", "grant g1 workload/a stow/item:read /m/**\n" + read + "135-395/40", "read r", gauge.Rare},
		{"less seldom", "grant g1 workload/a stow/item:read /m/**\n" + read + "135-395/20", "read x", gauge.Idle},
		{"another log lacks nothing",
			"grant g1 workload/a muster/grant:give /m/**\nused workload/a muster/grant:give /m/berth:x 128-300",
			"give x", gauge.Idle},
	} {
		in := scenario(t, tt.text+"\nused workload/b stow/item:read /m/berth:x/box:b2 0-50/5\n"+
			"used workload/b stow/item:read /m/berth:x/box:b2 96-399/5\n"+
			"used workload/b muster/grant:give /m/berth:x 0-399/5\n")
		records := slices.Clone(in.Index.Coverage())
		for i := range records {
			if records[i].Service == "stow" {
				records[i].Keep = 30
			}
		}
		day := func(ago int) time.Time { return gaugetest.Now.AddDate(0, 0, -ago) }
		in.Coverage = usage.NewCoverage(records, usage.Read{First: in.History,
			Ends: []time.Time{day(96), day(20), day(0)}})
		in.Coverage.Observe(in.Uses, func(model.Permission) string { return "read" }, nil, nil)
		res := gauge.Run(in)
		if got := classes(t, in, res.Grants[0]); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
		if got := res.Of(model.MustID("workload/a")).State; got != tt.state {
			t.Errorf("%s: it is %s, want %s", tt.name, got, tt.state)
		}
	}
}

// TestFindings: what is found, most dangerous first, as kind and grant.
func TestFindings(t *testing.T) {
	busy := "used workload/a stow/item:read /m/berth:x/box:b1/1 1-80\n"
	for _, tt := range []struct{ name, text, want string }{
		{"fits", "grant g1 workload/a stow/item:read /m/berth:x/box:b1/**\n" + busy, ""},
		{"a role that is too broad", "grant g1 workload/a stow/*:* /m/berth:x/box:b1/**\n" + busy,
			"over-broad-role g1"},
		{"places that are too many", "grant g1 workload/a stow/item:read /m/**\n" + busy, "over-broad-place g1"},
		{"standing right to hand out",
			"grant g1 workload/a muster/grant:give /m/**\nused workload/a muster/grant:give /m/berth:x 1-80",
			"standing-admin g1"},
		{"one that ends", "grant g1 workload/a muster/grant:give /m/** until\n" +
			"used workload/a muster/grant:give /m/berth:x 1-80", "ending-access g1"},
		{"one by day", "grant g1 workload/a muster/grant:give /m/** by-day\nused workload/a muster/grant:give " +
			"/m/berth:x 1-80", ""},
		{"places that are too many, and something rare",
			"grant g1 workload/a stow/item:read,stow/item:change /m/**\n" + busy +
				"used workload/a stow/item:change /m/berth:x/box:b1/1 300-302", "over-broad-place g1"},
		{"open to everybody", "grant g1 everyone stow/item:read /m/berth:x/box:b1/**", "public-access g1"},
		{"never through this one",
			"grant g1 workload/a stow/item:change /m/berth:x/box:b2/**\n" +
				"grant g2 workload/a stow/item:read /m/berth:x/box:b1/**\n" + busy, "unused-grant g1"},
		{"given by the group too",
			"grant g1 person/p stow/item:read /m/berth:x/box:b1/**\ngrant g2 group/g stow/item:* " +
				"/m/berth:x/box:b1/**\nmember person/p group/g\nused person/p stow/item:read /m/berth:x/box:b1/1 " +
				"1-80\nused person/p stow/item:change /m/berth:x/box:b1/1 1-80\n" +
				"used person/p stow/item:find /m/berth:x/box:b1 1-80", "redundant-grant g1"},
		{"given by three others together",
			"grant g1 person/p stow/item:* /m/berth:x/box:b1/**\ngrant g2 group/g stow/item:read " +
				"/m/berth:x/box:b1/**\ngrant g3 group/g stow/item:change /m/berth:x/box:b1/**\ngrant g4 person/p " +
				"stow/item:find /m/berth:x/box:b1/**\nmember person/p group/g\nused person/p stow/item:read " +
				"/m/berth:x/box:b1/1 1-80\nused person/p stow/item:change /m/berth:x/box:b1/1 1-80\n" +
				"used person/p stow/item:find /m/berth:x/box:b1 1-80", "redundant-grant g1"},
		{"of two that give each other's, one stays",
			"grant g1 person/p stow/item:* /m/berth:x/box:b1/**\ngrant g2 group/g stow/item:* " +
				"/m/berth:x/box:b1/**\nmember person/p group/g\nused person/p stow/item:read /m/berth:x/box:b1/1 " +
				"1-80\nused person/p stow/item:change /m/berth:x/box:b1/1 1-80\n" +
				"used person/p stow/item:find /m/berth:x/box:b1 1-80", "redundant-grant g1"},
		{"given by the group under a condition only",
			"grant g1 person/p stow/item:read /m/berth:x/box:b1/**\n" +
				"grant g2 group/g stow/item:read /m/berth:x/box:b1/** second-factor\nmember person/p group/g\n" +
				"used person/p stow/item:read /m/berth:x/box:b1/1 1-80", ""},
		{"idle", "grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1 150-300",
			"idle-identity "},
		{"too new", "grant g1 workload/a stow/*:* /m/berth:x/box:b1/** new\n" + busy, ""},
		{"cannot be judged", "grant g1 workload/a stow/*:* /m/berth:x/box:b1/**\nlog off\n" +
			"used workload/a muster/grant:give /m/berth:x 1-9", ""},
		{"protected", "grant g1 workload/a */*:* /m/**\nprotected workload/a", ""},
	} {
		in := scenario(t, tt.text)
		var got []string
		ids := map[string]bool{}
		for _, f := range gauge.Findings(in, gauge.Run(in)) {
			if f.Identity == model.MustID("workload/b") || f.Kind == gauge.IdleIdentity &&
				f.Identity.Kind != model.Workload {
				continue // the others of the estate do nothing
			}
			s := string(f.Kind) + " "
			if f.Grant != nil {
				s += f.Grant.Grant.ID
			}
			got = append(got, s)
			if ids[f.ID] {
				t.Errorf("%s: two findings are called %s", tt.name, f.ID)
			}
			ids[f.ID] = true
		}
		if s := strings.Join(got, ", "); s != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, s, tt.want)
		}
	}
}

// TestBlindDanger: what no log would have shown has a danger of its own: all of it, a part, or none.
func TestBlindDanger(t *testing.T) {
	const read = "used workload/a stow/item:read /m/berth:x/box:b1/1 1-80"
	for _, tt := range []struct {
		text      string
		some, all bool
	}{
		{"grant g1 workload/a stow/item:* /m/**\nlog off\nused workload/a muster/grant:give /m/berth:x 1-9", true,
			true},
		{"grant g1 workload/a quiet/*:*,stow/item:read /m/**\n" + read, true, false},
		{"grant g1 workload/a stow/item:* /m/**\n" + read, false, false},
	} {
		g := gauge.Run(scenario(t, tt.text)).Grants[0]
		if (g.Blind > 0) != tt.some || (g.Blind == g.Danger) != tt.all || g.Blind > g.Danger {
			t.Errorf("%s: %g of %g", tt.text, g.Blind, g.Danger)
		}
	}
}

// TestGivenByTheFirst: what one grant gives altogether is told by that one, be it the first of all, and not by
// several that do so together.
func TestGivenByTheFirst(t *testing.T) {
	in := scenario(t, "grant g1 person/p stow/item:* /m/berth:x/**\ngrant g2 person/p stow/item:read,stow/item:find "+
		"/m/berth:x/box:b1/**\ngrant g3 person/p stow/item:read /m/berth:x/box:b1/**\n"+
		"used person/p stow/item:read /m/berth:x/box:b1/1 1-80")
	if by := gauge.Run(in).Redundant(in); !slices.Equal(by[2], []int{0}) || !slices.Equal(by[1], []int{0}) {
		t.Errorf("given by %v", by)
	}
}

// TestNeededTwice: of what two grants give, and is used, what is used is not said to be needless.
func TestNeededTwice(t *testing.T) {
	in := scenario(t, "grant g1 workload/a stow/item:read /m/**\ngrant g2 workload/a stow/item:read /m/**\n"+
		"used workload/a stow/item:read /m/berth:x/box:b1/1 1-80")
	s := gauge.Run(in).Of(model.MustID("workload/a"))
	if want := 2*math.Log2(7) - 2; math.Abs(s.Removable-want) > 1e-9 { // on six boxes, less the one of use
		t.Errorf("%g of %g can go, want %g", s.Removable, s.Danger, want)
	}
}

// TestNothingGranted: where nothing is granted no evidence is lacking.
func TestNothingGranted(t *testing.T) {
	in := scenario(t, "used workload/a stow/item:read /m/berth:x/box:b1 1-80")
	if r := gauge.Run(in); r.Observable != 1 || len(r.Standings) == 0 {
		t.Errorf("%g is observable, of %d identities", r.Observable, len(r.Standings))
	}
}

// TestAtLeast: of a path of use that a log counts as at least so many, before the window, that is kept.
func TestAtLeast(t *testing.T) {
	in := scenario(t, "grant g1 workload/a stow/item:* /m/**\nused workload/a stow/item:read /m/berth:x/box:b1/1 "+
		"200-210\nused workload/a stow/item:find /m/berth:x/box:b1 200-210")
	uses := slices.Collect(maps.Values(maps.Collect(in.Uses.All())))
	for i := range uses {
		uses[i].AtLeast = uses[i].Permission == model.MustPermission("stow/item:read")
	}
	in.Uses, in.Paths = usage.ListOf(uses...), func(*model.Grant) bool { return true }
	g := gauge.Run(in).Grants[0]
	for _, u := range uses {
		p, _ := in.Index.PermNumber(u.Permission)
		if on := in.PathsOf(g.UseOf(p))[u.Path]; on == nil || on.AtLeast != u.AtLeast || on.InWindow != 0 {
			t.Errorf("%s is told as %+v, want at least: %t", u.Permission, on, u.AtLeast)
		}
	}
}

// TestDanger: it never falls when access grows, and what two grants give counts once.
func TestDanger(t *testing.T) {
	in := scenario(t, "grant g1 workload/a stow/item:* /m/**\ngrant g2 workload/a stow/item:read /m/berth:x/box:b1/**")
	scale := gauge.NewScale(in.Index, gauge.DefaultWeights)
	part := func(i int) gauge.Part {
		return gauge.Part{Perms: in.Index.GrantPerms(i), Where: in.Index.Grant(i).Where}
	}
	both, one := scale.Union([]gauge.Part{part(0), part(1)}), scale.Union([]gauge.Part{part(0)})
	small := scale.Union([]gauge.Part{part(1)})
	if both != one || small >= one || small <= 0 {
		t.Errorf("both %g, the broad one %g, the narrow one %g", both, one, small)
	}
	if s := fmt.Sprintf("%.2f", small); s != "2.00" { // read weighs 2, one place: 2*log2(2)
		t.Errorf("one permission on one node weighs %s", s)
	}
	if s := fmt.Sprintf("%.2f", one); s != "25.27" { // find, read and change on six boxes: (1+2+6)*log2(7)
		t.Errorf("three permissions on six nodes weigh %s", s)
	}
}

// TestGroups: a group is judged by what its members use of its own grants, and not by
// whatever else they do; nobody in it, or nobody who uses it, is said.
func TestGroups(t *testing.T) {
	const grants = "grant g1 group/g stow/item:find,stow/item:read /m/**\n" +
		"grant g2 workload/a stow/item:change /m/**\ngrant g3 everyone stow/box:scrap /m/**\n"
	for _, tt := range []struct{ name, text, want string }{
		{"nobody is in it", grants, "0 members, 0 silent, 0 used of 3"},
		{"one, and it is silent", grants +
			"member workload/a group/g\nused workload/a stow/item:change /m/berth:x/box:b1 1-80",
			"1 members, 1 silent, 0 used of 3"},
		{"one of two uses it", grants +
			"member workload/a group/g\nmember workload/b group/g\nused workload/a stow/item:change " +
			"/m/berth:x/box:b1 1-80\nused workload/b stow/item:read /m/berth:x/box:b1 1-80",
			"2 members, 1 silent, 1 used of 3"},
		{"what anybody has is no use of it", grants +
			"member workload/a group/g\nused workload/a stow/box:scrap /m/berth:x/box:b1 1-80",
			"1 members, 1 silent, 0 used of 3"},
		{"used before the window", grants +
			"member workload/a group/g\nused workload/a stow/item:read /m/berth:x/box:b1 200-300",
			"1 members, 1 silent, 0 used of 3"},
		{"who cannot sign in does not count", grants +
			"member workload/a group/g\nmember workload/b group/g\ndisabled workload/b\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1 1-80", "1 members, 0 silent, 1 used of 3"},
	} {
		s := gauge.Run(scenario(t, tt.text)).Of(model.MustID("group/g"))
		if got := fmt.Sprintf("%d members, %d silent, %d used of %d", s.Members, s.Silent, s.Used,
			s.Granted); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
	res := gauge.Run(scenario(t, grants+"member workload/a group/g"))
	s := res.Of(model.MustID("workload/a"))
	sum := res.Sums([]*gauge.Standing{s})[0]
	if got := fmt.Sprintf("%d by name, %d through groups, %d to anybody, %d in all", sum.ByName, sum.ByGroups,
		sum.ByCrowds, s.Granted); got != "1 by name, 2 through groups, 1 to anybody, 4 in all" {
		t.Error(got)
	}
}

// TestSeverity: where one severity ends and the next begins, and that a finding's own is
// never lowered.
func TestSeverity(t *testing.T) {
	for _, tt := range []struct {
		danger float64
		own    gauge.Severity
		want   gauge.Severity
	}{
		{0, gauge.Low, gauge.Low}, {59.9, gauge.Low, gauge.Low}, {60, gauge.Low, gauge.Medium},
		{249.9, gauge.Low, gauge.Medium},
		{250, gauge.Low, gauge.High}, {999.9, gauge.Low, gauge.High}, {1000, gauge.Low, gauge.Critical},
		{1, gauge.High, gauge.High}, {5000, gauge.High, gauge.Critical},
	} {
		f := gauge.Finding{Danger: tt.danger, Severity: tt.own}
		if f.Settle("x"); f.Severity != tt.want {
			t.Errorf("danger %g, at least %s: %s, want %s", tt.danger, tt.own, f.Severity, tt.want)
		}
	}
}

// TestHeldBy: what it is about its holders that keeps a grant from being judged is said.
func TestHeldBy(t *testing.T) {
	for text, want := range map[string]gauge.State{
		"grant g1 workload/a stow/item:* /m/**\nprotected workload/a": gauge.Protected,
		"grant g1 workload/a stow/item:* /m/**\nseen workload/a 200":  gauge.Rare,
		"grant g1 workload/a stow/item:* /m/**\nyoung workload/a":     gauge.New,
		"grant g1 workload/a stow/item:read /m/**\n" +
			"used workload/a stow/item:read /m/berth:x/box:b1/1 1-80": "",
	} {
		if got := gauge.Run(scenario(t, text)).Grants[0].HeldBy; got != want {
			t.Errorf("%s: held by %q, want %q", text, got, want)
		}
	}
}

// TestUnlistedGroup: who has what is granted to a group that the estate does not list, though it
// has members, and what it is about them that holds the grant.
func TestUnlistedGroup(t *testing.T) {
	in, err := gaugetest.Parse(`grant g1 group/ghosts stow/item:read /m/**
grant g2 person/nobody stow/item:read /m/**
member workload/a group/ghosts
member person/p group/ghosts
protected workload/a`)
	if err != nil {
		t.Fatal(err)
	}
	res := gauge.Run(in)
	for n, want := range []string{"[person/p workload/a] protected", "[] "} {
		g := res.Grants[n]
		ids := slices.SortedFunc(slices.Values(g.Holders), model.ID.Compare)
		if got := fmt.Sprint(ids, " ", g.HeldBy); got != want {
			t.Errorf("%s is had by %q, want %q", g.Grant.ID, got, want)
		}
	}
}

// TestUnrecorded: what no record of logs says anything of is dark by itself, and does not darken
// what lies beside it.
func TestUnrecorded(t *testing.T) {
	for _, tt := range []struct{ text, want string }{
		{"", "[]"},
		{"node /m/berth:y\nnode /m/berth:y/box:c\nnode /m/berth:y/box:d", "[/m/berth:y/**]"},
		{"node /m/berth:y\nnode /m/berth:y/box:c\nnode /m/berth:z\nnode /m/berth:z/box:c",
			"[/m/berth:y/** /m/berth:z/**]"},
		{"node /m/berth:y\nnode /m/berth:y/box:c\nnode /m/berth:y/box:d\nlog /m/berth:y/box:c on",
			"[/m/berth:y/box:d/**]"},
		{"node /m/berth:y\nnode /m/berth:y/box:c\nlog /m/berth:y/box:c off\nnode /m/box:e",
			"[/m/berth:y/box:c/** /m/box:e/**]"},
		{"node /m/berth:y", "[]"},         // nothing is in it that could be found
		{"log /m/berth:x off", "[/m/**]"}, // nothing of all is seen
		{"node /m/berth:y\nnode /m/berth:y/box:c\nlog /m/berth:x off\nlog /m/berth:y off", "[/m/**]"},
		{"node /m/berth:y\nnode /m/berth:y/box:c\nlog on\nlog /m/berth:x off", "[/m/berth:x/**]"},
		{"node /m/berth:y\nlog on\nlog /m/berth:x off", "[/m/**]"}, // and of the rest there is nothing
	} {
		in, err := gaugetest.Parse("grant g1 workload/a stow/item:find /m/**\nlog off\nlog /m/berth:x on\n" + tt.text)
		if err != nil {
			t.Fatal(err)
		}
		g := gauge.Run(in).Grants[0]
		find, _ := in.Index.PermNumber(model.MustPermission("stow/item:find"))
		if got := fmt.Sprint(g.DarkAt(find)); got != tt.want {
			t.Errorf("%q: dark on %s, want %s", tt.text, got, tt.want)
		}
	}
}

// TestIdleDanger: all that reaches whoever does nothing can go, by name or by a group, and nothing
// of anybody else's.
func TestIdleDanger(t *testing.T) {
	for _, tt := range []struct {
		text string
		some bool
	}{
		{"", true}, {"disabled workload/a", true},
		{"disabled workload/a\nused workload/a stow/item:find /m/berth:x/box:b1 1-80", true},
		{"used workload/a stow/item:find /m/berth:x/box:b1 1-80", false},
		{"protected workload/a", false},
	} {
		in := scenario(t, "grant g1 workload/a stow/item:* /m/**\ngrant g2 group/g stow/box:scrap /m/**\n"+
			"member workload/a group/g\nused workload/b stow/item:find /m/berth:x/box:b1 1-80\n"+tt.text)
		res := gauge.Run(in)
		s := res.Of(model.MustID("workload/a"))
		if got := res.IdleDanger(in, s); tt.some && math.Abs(got-s.Danger) > 1e-9 || !tt.some && got != 0 {
			t.Errorf("%q: %s may lose %.1f of %.1f", tt.text, s.State, got, s.Danger)
		}
	}
}

// TestStrangers: callers that the estate does not list are told, each once, in order; who it lists, and
// whoever makes no name for itself, is not.
func TestStrangers(t *testing.T) {
	in := scenario(t, "grant g1 workload/a stow/item:* /m/**\n"+
		"used workload/a stow/item:read /m/berth:x/box:b1 5-9\n"+
		"used workload/zed stow/item:read /m/berth:x/box:b1 5-9\n"+
		"used person/eve stow/item:find /m/berth:x/box:b1 1-2\n"+
		"used person/eve stow/item:read /m/berth:x/box:b1 200-210\nused everyone stow/item:read /m/berth:x/box:b1 5-9")
	if got := fmt.Sprint(gauge.Run(in).Strangers); got != "[person/eve workload/zed]" {
		t.Error(got)
	}
}

// TestOnlyTried: a refused call is a call, and no use: when both were last is told apart.
func TestOnlyTried(t *testing.T) {
	in, err := gaugetest.Parse("grant g workload/a stow/item:read /m/**\ngrant h workload/b stow/item:read /m/**\n" +
		"grant i group/g stow/item:read /m/**\nmember workload/b group/g\n" +
		"refused workload/a stow/item:throw-out /m/berth:x/box:b1/x 3-40\n" +
		"refused workload/b stow/item:throw-out /m/berth:x/box:b1/x 3-40\n" +
		"used workload/b stow/item:read /m/berth:x/box:b1/x 20-30")
	if err != nil {
		t.Fatal(err)
	}
	res := gauge.Run(in)
	day := func(t time.Time) int {
		if t.IsZero() {
			return 0
		}
		return int(gaugetest.Now.Sub(t).Hours() / 24)
	}
	for who, want := range map[string][2]int{"workload/a": {3, 0}, "workload/b": {3, 20}, "group/g": {20, 20}} {
		s := res.Of(model.MustID(who))
		if got := [2]int{day(s.LastUse), day(s.LastDone)}; got != want || s.State != gauge.Active {
			t.Errorf("%s: last call and last one let through %v days ago, want %v; %s", who, got, want, s.State)
		}
	}
}
