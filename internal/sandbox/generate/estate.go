package generate

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"clipfence/internal/sandbox"
)

// Options say what to generate.
type Options struct {
	Seed  uint64
	Scale int       // 1 is Ternhaven as every example shows it; n is about n times as large
	Days  int       // of calls, ending at Until
	Until time.Time // the last moment of the calls
}

// A Plant is one planted fault.
type Plant struct {
	Kind     string `json:"kind"` // as the tool's findings are named
	Identity string `json:"identity"`
	Grant    string `json:"grant,omitempty"`
	Why      string `json:"why"`
}

// A Keep is something that must not be flagged for removal.
type Keep struct {
	Identity   string `json:"identity"`
	Grant      string `json:"grant,omitempty"`
	Permission string `json:"permission,omitempty"`
	Why        string `json:"why"`
}

// A Need is one thing that somebody will go on doing.
type Need struct {
	Identity   string `json:"identity"`
	Permission string `json:"permission"`
	Where      string `json:"where"`
}

// Truth is what the generator knows and the tool has to find out.
type Truth struct {
	Planted []Plant `json:"planted"`
	Keep    []Keep  `json:"keep"`
	Needs   []Need  `json:"needs"`
}

// A script is one thing that somebody does again and again.
type script struct {
	who, as string
	do      []string // one of them at each call
	on      []string // one of them at each call; {date} and {n} are filled in
	calls   func(day time.Time, r *rand.Rand) int
	from    int // first hour of the day
	hours   int // how many hours the calls spread over
	network string
	mfa     bool
}

// Founded is an estate with the scripts of its life.
type Founded struct {
	Docs    map[string][]any
	Tokens  map[string]string
	Truth   Truth
	Root    string
	World   *sandbox.World
	scripts []script
	outages []outage
	opts    Options
}

type builder struct {
	*Founded
	r       *rand.Rand
	grants  int
	started time.Time // day 0 of the calls
	teams   map[string][]string
	people  []string
}

// Estate founds the sample estate.
func Estate(opts Options) *Founded {
	opts.Scale = max(1, opts.Scale)
	b := &builder{
		Founded: &Founded{Docs: map[string][]any{}, Tokens: map[string]string{}, Root: "/mooring/harbour:ternhaven",
			World: sandbox.NewWorld(), opts: opts},
		r:       rand.New(rand.NewPCG(opts.Seed, 0x7e2a)),
		started: day(opts.Until).AddDate(0, 0, -opts.Days+1),
		teams:   map[string][]string{},
	}
	for _, p := range sandbox.Catalogue() {
		b.add(sandbox.KindPermission, p)
	}
	for _, r := range sandbox.BuiltinRoles() {
		b.add(sandbox.KindRole, r)
	}
	b.role("team-member", "What a berth's team does by hand", teamDuties...)
	b.tree()
	b.staff()
	b.planted()
	b.everydayWorkloads()
	b.logSettings()
	return b.Founded
}

func day(t time.Time) time.Time { return t.UTC().Truncate(24 * time.Hour) }

func (b *builder) add(kind string, v any) {
	b.Docs[kind] = append(b.Docs[kind], v)
	b.World.Add(v)
}

func (b *builder) role(name, title string, do ...string) {
	b.add(sandbox.KindRole, &sandbox.Role{Name: name, Title: title, Do: do})
}

// ago returns a time so many days before the end.
func (b *builder) ago(days int) time.Time {
	return b.opts.Until.UTC().AddDate(0, 0, -days).Truncate(time.Second)
}

func (b *builder) longAgo() time.Time { return b.ago(250 + b.r.IntN(700)) }

func (b *builder) node(path string, labels map[string]string) string {
	b.add(sandbox.KindNode, &sandbox.Node{Path: path, Labels: labels, Created: b.longAgo()})
	return path
}

func (b *builder) tree() {
	b.node(b.Root, nil)
	for _, u := range []string{"operations", "commercial", "corporate", "platform"} {
		b.node(b.Root+"/pier:"+u, nil)
	}
	for s := range b.opts.Scale {
		for _, p := range berths {
			path := b.node(berthPath(b.Root, p, s), map[string]string{"application": p.name})
			for _, x := range p.boxes {
				b.node(path+"/box:"+x, map[string]string{"data": []string{"internal", "confidential"}[b.r.IntN(2)]})
			}
			for _, leaf := range []string{"rack:events", "rack:alerts", "tray:events-in", "tray:alerts-in",
				"library:main", "rig:app-1", "rig:app-2",
				"helper:import", "helper:notify", "secret:db-password", "secret:api-key", "secret:signing",
				"errand:nightly", "errand:monthly", "net:main"} {
				b.node(path+"/"+leaf, nil)
			}
		}
	}
}

func berthPath(root string, p berthPlan, copy int) string {
	return fmt.Sprintf("%s/pier:%s/berth:%s", root, p.unit, copyName(p.name, copy))
}

func copyName(name string, n int) string {
	if n == 0 {
		return name
	}
	return fmt.Sprintf("%s-%d", name, n+1)
}

// scopes lists the harbour, its piers and its berths.
func (b *builder) scopes() []string {
	out := []string{b.Root}
	for _, n := range b.Docs[sandbox.KindNode] {
		p := n.(*sandbox.Node).Path
		if strings.Contains(p, "pier:") && strings.Count(p, "/") <= 4 {
			out = append(out, p)
		}
	}
	return out
}

// at returns a path in a berth of the first copy.
func (b *builder) at(berth, rest string) string {
	for _, p := range berths {
		if p.name == berth {
			return strings.TrimSuffix(berthPath(b.Root, p, 0)+"/"+rest, "/")
		}
	}
	panic("no berth " + berth)
}

func (b *builder) identity(id, title string, mend func(*sandbox.Identity)) string {
	i := &sandbox.Identity{ID: id, Title: title, Created: b.longAgo()}
	if kind, _, _ := strings.Cut(id, "/"); kind != "group" {
		i.LastSeen = b.ago(0)
	}
	if mend != nil {
		mend(i)
	}
	b.add(sandbox.KindIdentity, i)
	return id
}

func (b *builder) member(who, group string) {
	b.add(sandbox.KindMembership, &sandbox.Membership{Member: who, Group: group})
}

// grant gives a role (or, when it holds a ':', permissions) on places, long ago.
func (b *builder) grant(to, role string, on ...string) *sandbox.Grant {
	b.grants++
	g := &sandbox.Grant{ID: fmt.Sprintf("g-%04d", 400+b.grants), To: to, Where: on, Created: b.longAgo(),
		KeptWith: "holder"}
	if strings.Contains(role, ":") {
		g.Do = strings.Split(role, " ")
	} else {
		g.Role = role
	}
	b.add(sandbox.KindGrant, g)
	return g
}

func (b *builder) plant(kind, who string, g *sandbox.Grant, why string) {
	p := Plant{Kind: kind, Identity: who, Why: why}
	if g != nil {
		p.Grant = g.ID
	}
	b.Truth.Planted = append(b.Truth.Planted, p)
}

func (b *builder) keep(who string, g *sandbox.Grant, why string) {
	k := Keep{Identity: who, Why: why}
	if g != nil {
		k.Grant = g.ID
	}
	b.Truth.Keep = append(b.Truth.Keep, k)
}

func (b *builder) token(who string) {
	b.Tokens[who] = fmt.Sprintf("moor-%s-%016x", strings.ReplaceAll(who, "/", "-"), b.r.Uint64())
}

// does adds a script; alive scripts are needs.
func (b *builder) does(s script) {
	if s.hours == 0 {
		s.hours = 24
	}
	b.scripts = append(b.scripts, s)
}

// needs records that a script will go on.
func (b *builder) needs(s script) {
	b.does(s)
	who := s.who
	if s.as != "" {
		who = s.as
	}
	for _, p := range s.do {
		for _, on := range s.on {
			b.Truth.Needs = append(b.Truth.Needs, Need{who, p,
				strings.NewReplacer("{date}", "2030-01-01", "{n}", "7").Replace(on)})
		}
	}
}

// Schedules. Life is irregular: jobs fail to run, people are ill, nothing
// happens twice the same way.

func every(perDay, jitter int) func(time.Time, *rand.Rand) int {
	return func(_ time.Time, r *rand.Rand) int {
		if r.IntN(60) == 0 { // an outage, a deployment that went wrong
			return 0
		}
		return max(0, perDay+r.IntN(2*jitter+1)-jitter)
	}
}

func weekdays(perDay int, off func(time.Time) bool) func(time.Time, *rand.Rand) int {
	return func(d time.Time, r *rand.Rand) int {
		w := d.Weekday()
		if off != nil && off(d) || r.IntN(12) == 0 {
			return 0
		}
		if w == time.Saturday || w == time.Sunday {
			if r.IntN(20) == 0 {
				return 1 + r.IntN(3)
			}
			return 0
		}
		return 1 + r.IntN(2*perDay)
	}
}

func weekly(w time.Weekday, n int) func(time.Time, *rand.Rand) int {
	return func(d time.Time, r *rand.Rand) int {
		if d.Weekday() == w && r.IntN(15) > 0 {
			return n
		}
		return 0
	}
}

func monthEnd(n int) func(time.Time, *rand.Rand) int {
	return func(d time.Time, r *rand.Rand) int {
		if d.AddDate(0, 0, 1).Day() == 1 || d.Day() == 1 && r.IntN(2) == 0 {
			return n + r.IntN(5)
		}
		return 0
	}
}

func between(from, to time.Time, f func(time.Time, *rand.Rand) int) func(time.Time, *rand.Rand) int {
	return func(d time.Time, r *rand.Rand) int {
		if d.Before(from) || !d.Before(to) {
			return 0
		}
		return f(d, r)
	}
}

func (b *builder) staff() {
	b.identity("group/all-staff", "Everybody at Ternhaven Ferries", nil)
	b.grant("group/all-staff", "look-into-boxes", b.at("people", "box:handbook/**"))
	for _, g := range []string{"security-leads", "platform-oncall", "auditors", "finance-closing", "release-managers",
		"analysts", "support-desk", "harbour-watch", "engineering", "contractors", "gate-approvers", "night-shift"} {
		b.identity("group/"+g, strings.ReplaceAll(g, "-", " "), nil)
	}
	b.grant("group/auditors", "muster/grant:find muster/role:find muster/roll:find muster/question:review", b.Root+
		"/**")
	b.grant("group/analysts", "ask-the-tables", b.at("data", "library:main/**"))
	b.grant("group/support-desk", "look-into-boxes", b.at("ticketing", "box:receipts/**"))
	b.grant("group/harbour-watch", "look-into-boxes", b.at("cameras", "box:quay-1/**"),
		b.at("cameras", "box:quay-2/**"))
	b.grant("group/release-managers", "run-errands", b.at("shared", "**"))
	for s := range b.opts.Scale {
		for _, p := range berths {
			team := "group/" + copyName(p.name, s) + "-team"
			b.identity(team, "Team "+copyName(p.name, s), nil)
			b.member(team, "group/engineering")
			b.grant(team, "team-member", berthPath(b.Root, p, s)+"/**")
		}
	}
	b.member("group/engineering", "group/all-staff")
	functional := map[string][]script{
		"group/auditors": {{do: []string{"muster/grant:find", "muster/role:find", "muster/roll:find",
			"muster/question:review"}, on: b.scopes(), calls: weekdays(4, nil)}},
		"group/analysts": {{do: []string{"tables/library:enter", "tables/table:find", "tables/table:read",
			"tables/question:ask"},
			on: []string{b.at("data", "library:main/shelf:marts/table:sailings"),
				b.at("data", "library:main/shelf:marts/table:sales")}, calls: weekdays(8, nil)}},
		"group/support-desk": {{do: []string{"stow/item:find", "stow/item:read", "stow/item:inspect"},
			on: []string{b.at("ticketing", "box:receipts/{date}/{n}.pdf")}, calls: weekdays(9, nil)}},
		"group/harbour-watch": {{do: []string{"stow/item:find", "stow/item:read", "stow/item:inspect"},
			on:    []string{b.at("cameras", "box:quay-1/{date}.img"), b.at("cameras", "box:quay-2/{date}.img")},
			calls: weekdays(6, nil)}},
		"group/release-managers": {{do: []string{"engine/errand:find", "engine/errand:describe", "engine/errand:run",
			"engine/errand:call-off"}, on: []string{b.at("shared", "errand:nightly"),
			b.at("shared", "errand:monthly")}, calls: weekdays(3, nil)}},
	}
	groups := []string{"group/auditors", "group/analysts", "group/support-desk", "group/harbour-watch",
		"group/release-managers"}
	n := 52 * b.opts.Scale
	for i := range n {
		first, last := firstNames[i%len(firstNames)], lastNames[(i*7+i/len(firstNames))%len(lastNames)]
		name := first + "." + last
		if b.World.Identities["person/"+name] != nil {
			name = fmt.Sprintf("%s.%s%d", first, last, i)
		}
		joined := 0
		if i%17 == 16 { // somebody new
			joined = 100 + b.r.IntN(60)
		}
		who := b.identity("person/"+name, title(first)+" "+title(last), func(id *sandbox.Identity) {
			if joined > 0 {
				id.Created = b.ago(joined)
			}
		})
		b.people = append(b.people, who)
		b.member(who, "group/all-staff")
		p := berths[i%len(berths)]
		team := copyName(p.name, i/len(berths)%b.opts.Scale)
		b.member(who, "group/"+team+"-team")
		from := b.started
		if joined > 0 {
			from = b.ago(joined)
		}
		holiday := b.started.AddDate(0, 0, b.r.IntN(max(1, b.opts.Days-30)))
		off := func(d time.Time) bool { return d.After(holiday) && d.Before(holiday.AddDate(0, 0, 14+i%8)) }
		network := fmt.Sprintf("10.40.%d.%d", i%6, 10+i%200)
		root := berthPath(b.Root, p, i/len(berths)%b.opts.Scale)
		box := root + "/box:" + p.boxes[b.r.IntN(len(p.boxes))]
		for _, d := range []struct {
			do, on []string
			n      int
		}{
			{teamDuties[0:5], []string{box + "/{date}/{n}", box + "/notes/{n}"}, 3},
			{teamDuties[5:10], []string{root + "/rig:app-1", root + "/errand:nightly"}, 1},
			{teamDuties[10:13], []string{root + "/library:main"}, 1},
			{teamDuties[13:18], []string{root}, 1},
		} {
			s := script{who: who, do: d.do, on: d.on, calls: between(from, farFuture, weekdays(d.n, off)), from: 6,
				hours: 10, network: network, mfa: i%9 > 0}
			b.needs(s)
		}
		b.needs(script{who: who, do: []string{"stow/item:read", "stow/item:find", "stow/item:inspect"},
			on: []string{b.at("people", "box:handbook/pages/{n}")}, calls: weekly(time.Weekday(1+i%5), 3), from: 7,
			hours: 9, network: network, mfa: true})
		if i%2 == 0 {
			g := groups[i/2%len(groups)]
			b.member(who, g)
			for _, s := range functional[g] {
				s.who, s.network, s.mfa, s.from, s.hours = who, network, true, 6, 11
				s.calls = between(from, farFuture, s.calls)
				b.needs(s)
			}
		}
	}
	for i, who := range b.people[:4] {
		b.member(who, []string{"group/security-leads", "group/security-leads", "group/platform-oncall",
			"group/platform-oncall"}[i])
	}
	b.member(b.people[5], "group/platform-oncall")
	// Two people administer the organisation, every day and for ever.
	for i, who := range b.people[:2] {
		g := b.grant(who, "skipper", b.Root+"/**")
		b.plant("standing-admin", who, g, "administers the whole harbour, standing")
		b.plant("over-broad-role", who, g, "of all permissions it uses a few")
		b.plant("over-broad-place", who, g, "works on a few places, administers all")
		b.needs(script{who: who, do: []string{"muster/grant:find", "muster/grant:give", "muster/grant:take-back",
			"muster/somebody:find", "muster/roll:let-in"}, on: []string{b.Root},
			calls: weekdays(2+i, nil), from: 7, hours: 8, network: "10.40.0.9", mfa: true})
		b.token(who)
	}
}

var farFuture = time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC)

func title(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// everydayWorkloads fills the estate with workloads whose access fits.
func (b *builder) everydayWorkloads() {
	kinds := []struct {
		suffix, role, place string
		do                  []string
		on                  []string
		perDay              int
	}{
		{"loader", "fill-boxes", "box:%s/**", []string{"stow/item:put", "stow/item:put", "stow/delivery:begin",
			"stow/delivery:finish", "stow/delivery:abandon"}, []string{"box:%s/runs/{date}/{n}"}, 7},
		{"reader", "look-into-boxes", "box:%s/**", []string{"stow/item:find", "stow/item:read", "stow/item:inspect"},
			[]string{"box:%s/runs/{date}/{n}", "box:%s/index"}, 6},
		{"writer", "keep-the-tables", "library:main/**",
			[]string{"tables/library:enter", "tables/table:find", "tables/table:read", "tables/table:add-rows",
				"tables/table:mend-rows", "tables/question:ask"},
			[]string{"library:main/shelf:app/table:events", "library:main/shelf:app/table:state"}, 9},
		{"publisher", "send-letters", "rack:events/**", []string{"post/letter:send"}, []string{"rack:events"}, 11},
		{"consumer", "collect-letters", "tray:events-in/**",
			[]string{"post/letter:collect", "post/letter:tick-off", "post/tray:describe"}, []string{"tray:events-in"},
			9},
		{"notifier", "call-helpers", "helper:notify/**", []string{"engine/helper:call"}, []string{"helper:notify"}, 4},
		{"vault", "open-secrets", "secret:db-password/**", []string{"locker/secret:describe", "locker/secret:reveal"},
			[]string{"secret:db-password"}, 4},
		{"runner", "run-errands", "errand:nightly/**",
			[]string{"engine/errand:find", "engine/errand:describe", "engine/errand:run", "engine/errand:call-off"},
			[]string{"errand:nightly"}, 5},
	}
	target := 90 * b.opts.Scale
	have := 0
	for id := range b.World.Identities {
		if strings.HasPrefix(id, "workload/") {
			have++
		}
	}
	for i := 0; have < target; i++ {
		p := berths[i%len(berths)]
		copy := i / len(berths) % b.opts.Scale
		k := kinds[(i/len(berths)/b.opts.Scale+i)%len(kinds)]
		name := fmt.Sprintf("workload/%s-%s", copyName(p.name, copy), k.suffix)
		if b.World.Identities[name] != nil {
			name = fmt.Sprintf("%s-%d", name, i)
		}
		who := b.identity(name, "", nil)
		have++
		root := berthPath(b.Root, p, copy)
		box := p.boxes[(i/2)%len(p.boxes)]
		fill := func(s string) string {
			if strings.Contains(s, "%s") {
				s = fmt.Sprintf(s, box)
			}
			return root + "/" + s
		}
		b.grant(who, k.role, fill(k.place))
		on := slices.Clone(k.on)
		for j := range on {
			on[j] = fill(on[j])
		}
		calls := every(k.perDay, k.perDay/2)
		switch i % 11 {
		case 7:
			calls = weekly(time.Weekday(i%7), 6)
		case 9:
			calls = monthEnd(8)
		}
		s := script{who: who, do: k.do, on: on, calls: calls, network: fmt.Sprintf("10.20.%d.%d", i%8, 5+i%200)}
		b.needs(s)
		if i%5 == 0 { // the odd attempt at something it may not do
			b.does(script{who: who, do: []string{"stow/box:describe", "locker/secret:reveal",
				"tables/table:carry-out"}, on: []string{root + "/box:" + p.boxes[0], root + "/secret:signing"},
				calls: func(_ time.Time, r *rand.Rand) int { return max(0, r.IntN(40)-38) }, network: s.network})
		}
	}
	b.does(script{who: "external/someone", do: []string{"stow/item:find"},
		on:    []string{b.at("website", "box:images/{n}")},
		calls: func(_ time.Time, r *rand.Rand) int { return max(0, r.IntN(6)-4) }, network: "203.0.113.9"})
}

// logSettings switches logs on and off, berth by berth.
func (b *builder) logSettings() {
	writer := b.identity("workload/log-writer", "Writes the audit log", nil)
	b.grant(writer, "write-the-logbook", b.Root+"/**")
	b.needs(script{who: writer, do: []string{"watch/logbook:write"}, on: b.scopes(), calls: every(6, 2),
		network: "10.20.0.2"})
	setting := func(node string, except map[string]time.Time) {
		s := &sandbox.LogSetting{Node: node, Writer: writer, Keep: 400}
		for _, svc := range sandbox.Services {
			for _, class := range sandbox.Classes {
				l := sandbox.LogSwitch{Service: svc, LogClass: class, Written: true}
				if since, ok := except[svc+"/"+class]; ok {
					l.Since = since
					l.Written = !since.IsZero()
				}
				s.Logs = append(s.Logs, l)
			}
		}
		b.add(sandbox.KindLogSetting, s)
	}
	setting(b.Root, nil)
	for s := range b.opts.Scale {
		for _, p := range berths {
			var except map[string]time.Time
			switch p.name {
			case "telemetry": // reading is not logged: the default nobody changed
				except = map[string]time.Time{"tables/looking": {}, "stow/looking": {}}
			case "crew":
				except = map[string]time.Time{"stow/looking": {}, "locker/looking": {}}
			case "website": // switched on only a month ago
				except = map[string]time.Time{"stow/looking": b.ago(30)}
			}
			if p.name == "tides" { // the log did not arrive for three days, and nobody noticed
				b.outages = append(b.outages, outage{berthPath(b.Root, p, s), day(b.ago(47)), day(b.ago(44))})
			}
			setting(berthPath(b.Root, p, s), except)
		}
	}
}
