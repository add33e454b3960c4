package generate

import (
	"time"

	"clipfence/internal/sandbox"
)

// planted adds one of each thing that goes wrong, and one of each thing that
// only looks wrong.
func (b *builder) planted() {
	b.idle()
	b.overBroad()
	b.handOuts()
	b.looksWrong()
	b.own()
}

func (b *builder) idle() {
	// Two people who moved to other work and kept what they had, and a leaver
	// whose account was closed and whose grants were not.
	for i, name := range []string{"person/sverre.holmgard", "person/tuva.elvestad"} {
		who := b.identity(name, "", func(id *sandbox.Identity) { id.LastSeen = b.ago(115 + 10*i) })
		b.grant(who, "work-the-library", b.at("loyalty", "library:main/**"))
		b.member(who, "group/all-staff")
		b.member(who, "group/loyalty-team")
		b.does(script{who: who, do: []string{"tables/library:enter", "tables/table:read", "tables/table:mend-rows"},
			on:    []string{b.at("loyalty", "library:main/shelf:app/table:members")},
			calls: between(b.started, b.ago(115+10*i), weekdays(5, nil)), from: 7, hours: 9, network: "10.40.3.7",
			mfa: true})
		b.plant("idle-identity", who, nil, "moved to other work; last use over 115 days ago, daily before")
	}
	leaver := b.identity("person/knut.avgard", "",
		func(id *sandbox.Identity) { id.Disabled, id.LastSeen = true, b.ago(47) })
	b.grant(leaver, "work-the-hold", b.at("finance", "**"))
	b.member(leaver, "group/all-staff")
	b.does(script{who: leaver, do: []string{"stow/item:read", "stow/item:put"},
		on:    []string{b.at("finance", "box:invoices/{date}/{n}")},
		calls: between(b.started, b.ago(47), weekdays(4, nil)), from: 7, hours: 9, network: "10.40.2.8", mfa: true})
	b.plant("idle-identity", leaver, nil, "left 47 days ago; the account is closed, the grants are not")
	never := b.identity("person/aksel.nyborg", "",
		func(id *sandbox.Identity) { id.LastSeen = time.Time{}; id.Created = b.ago(300) })
	b.grant(never, "look-round", b.at("ticketing", "**"))
	b.plant("idle-identity", never, nil, "never signed in")

	for i, w := range []struct{ name, role, place, do string }{
		{"fare-import", "pack-and-unpack", "box:fares/**", "stow/item:put"},
		{"kiosk-sync", "keep-the-tables", "library:main/**", "tables/table:add-rows"},
		{"promo-mailer", "call-helpers", "helper:notify/**", "engine/helper:call"},
	} {
		who := b.identity("workload/"+w.name, "", func(id *sandbox.Identity) { id.LastSeen = b.ago(105 + 20*i) })
		b.grant(who, w.role, b.at("ticketing", w.place))
		b.does(script{who: who, do: []string{w.do}, on: []string{b.at("ticketing", w.place[:len(w.place)-3])},
			calls: between(b.started, b.ago(105+20*i), every(9, 3)), network: "10.20.3.9"})
		b.plant("idle-identity", who, nil, "daily until 105 days ago or more, then nothing")
	}
}

func (b *builder) overBroad() {
	export := b.identity("workload/ticket-export", "Nightly export of ticket sales", nil)
	g := b.grant(export, "skipper", b.at("ticketing", "**"))
	b.needs(script{who: export, do: []string{"stow/item:read"},
		on: []string{b.at("ticketing", "box:sales/{date}/{n}.csv")}, calls: every(9, 3), from: 1, hours: 3,
		network: "10.20.1.14"})
	for _, k := range []string{"over-broad-role", "over-broad-place", "standing-admin"} {
		b.plant(k, export, g, "administers a berth, reads one box")
	}
	b.token(export)

	sync := b.identity("workload/camera-sync", "Copies harbour camera pictures", nil)
	g = b.grant(sync, "pack-and-unpack", b.at("cameras", "**"))
	b.needs(script{who: sync, do: []string{"stow/item:find", "stow/item:read", "stow/item:inspect", "stow/item:put",
		"stow/item:replace", "stow/item:throw-out", "stow/item:tag",
		"stow/item:duplicate", "stow/item:bring-back", "stow/item:whose", "stow/delivery:follow",
		"stow/delivery:begin", "stow/delivery:finish", "stow/delivery:abandon"},
		on: []string{b.at("cameras", "box:quay-1/{date}/{n}.img")}, calls: every(20, 9), network: "10.20.2.40"})
	b.plant("over-broad-place", sync, g, "the right permissions on 24 boxes, uses one")
	b.token(sync)

	report := b.identity("workload/crew-report", "", nil)
	g = b.grant(report, "rule-the-library", b.at("crew", "library:main/**"))
	b.needs(script{who: report, do: []string{"tables/library:enter", "tables/table:read", "tables/question:ask"},
		on: []string{b.at("crew", "library:main/shelf:hr/table:rosters")}, calls: every(5, 2), network: "10.20.4.4"})
	b.plant("over-broad-role", report, g, "administers a database, reads three things")

	for i, w := range []struct{ name, role, place, do, on string }{
		{"tide-forecast", "work-the-engines", "berth:", "stow/item:read", "box:gauges/{date}/{n}.json"},
		{"dock-signs", "work-the-post", "rack:alerts/**", "engine/helper:call", "helper:notify"},
		{"fleet-map", "work-the-lockers", "secret:signing/**", "post/letter:collect", "tray:events-in"},
	} {
		berth := []string{"tides", "timetable", "data"}[i]
		who := b.identity("workload/"+w.name, "", nil)
		place := w.place
		if place == "berth:" {
			place = "**"
		}
		g := b.grant(who, w.role, b.at(berth, place))
		b.plant("unused-grant", who, g, "active every day, never through this grant")
		b.grant(who, map[string]string{"stow/item:read": "look-into-boxes", "engine/helper:call": "call-helpers",
			"post/letter:collect": "collect-letters"}[w.do], placeOf(b.at(berth, w.on)))
		do := map[string][]string{"stow/item:read": {"stow/item:read", "stow/item:find", "stow/item:inspect"},
			"post/letter:collect": {"post/letter:collect", "post/letter:tick-off", "post/tray:describe"}}[w.do]
		if do == nil {
			do = []string{w.do}
		}
		b.needs(script{who: who, do: do, on: []string{b.at(berth, w.on)}, calls: every(12, 5), network: "10.20.5.5"})
		b.token(who)
	}

	g = b.grant("everyone", "look-into-boxes", b.at("website", "box:press-kit/**"))
	g.KeptWith = "place"
	b.plant("public-access", "everyone", g, "anybody can read the press kit")
	g = b.grant("signed-in", "pack-and-unpack", b.at("data", "box:scratch/**"))
	g.KeptWith = "place"
	b.plant("public-access", "signed-in", g, "anybody with any account can write to the scratch box")

	// A direct grant beside a group that gives the same.
	who := b.people[7]
	g = b.grant(who, "team-member", b.at(berths[7%len(berths)].name, "**"))
	b.plant("redundant-grant", who, g, "the team's group gives the same")
}

// placeOf widens an object's path template to its box.
func placeOf(path string) string {
	for i := len(path) - 1; i > 0; i-- {
		if path[i] == ':' {
			for j := i; j < len(path); j++ {
				if path[j] == '/' {
					return path[:j] + "/**"
				}
			}
			break
		}
	}
	return path + "/**"
}

func (b *builder) handOuts() {
	bot := b.identity("workload/deploy-bot", "Rolls out new versions", nil)
	g := b.grant(bot, "hand-out-access", b.at("shared", "**"))
	b.plant("standing-admin", bot, g, "a workload that can hand out rights")
	b.needs(script{who: bot, do: []string{"muster/grant:find", "muster/grant:give", "muster/grant:describe",
		"muster/role:rewrite", "muster/roll:find", "muster/grant:alter",
		"muster/roll:let-in", "muster/stand-in:arrange", "muster/grant:take-back", "muster/stand-in:find"},
		on: []string{b.at("shared", "")}, calls: every(4, 3), network: "10.20.6.6"})
	root := b.identity("workload/platform-root", "Builds the platform", nil)
	g = b.grant(root, "skipper", b.Root+"/pier:platform/**")
	b.plant("standing-admin", root, g, "administers a pier, reached in two steps")
	b.plant("over-broad-role", root, g, "administers a pier, does three things")
	runner := b.identity("workload/build-runner", "Runs builds", nil)
	b.grant(runner, "fill-boxes", b.at("shared", "box:builds/**"))
	b.needs(script{who: runner, do: []string{"stow/item:put", "stow/delivery:begin", "stow/delivery:finish",
		"stow/delivery:abandon"}, on: []string{b.at("shared", "box:builds/{date}/{n}")}, calls: every(12, 5),
		network: "10.20.6.7"})
	b.add(sandbox.KindActAs, &sandbox.ActAs{ID: "a-1", From: runner, To: bot, How: "run-as"})
	b.add(sandbox.KindActAs, &sandbox.ActAs{ID: "a-2", From: bot, To: root, How: "mint-token"})
	b.plant("escalation", bot, nil, "acts as whoever administers a pier")
	b.plant("escalation", runner, nil, "does so in one step more")
	b.plant("act-as-chain", runner, nil, "acts as one who acts as another")
	b.World.Nodes[b.at("shared", "errand:nightly")].RunsAs = root // whoever changes its code works as that
	b.needs(script{who: bot, as: root, do: []string{"engine/rig:find", "engine/rig:refit", "engine/rule:amend"},
		on: []string{b.at("shared", "rig:app-1"), b.at("data", "rig:app-2")}, calls: every(2, 1),
		network: "10.20.6.6"})
}

func (b *builder) looksWrong() {
	// A yearly job that ran in January: no log here reaches back that far, but
	// the source remembers when it was last seen.
	year := b.identity("workload/year-end-closing", "Closes the books", func(id *sandbox.Identity) {
		jan := time.Date(b.opts.Until.Year(), 1, 2, 3, 0, 0, 0, time.UTC)
		if b.opts.Until.Sub(jan) < 100*24*time.Hour {
			jan = jan.AddDate(-1, 0, 0)
		}
		id.LastSeen, id.Created = jan, b.ago(1400)
	})
	b.grant(year, "pack-and-unpack", b.at("finance", "box:closings/**"))
	b.keep(year, nil, "yearly: due again in January")
	// A yearly job whose season lies inside the log but outside the window.
	season := b.ago(150)
	summer := b.identity("workload/summer-timetable", "Switches to the summer timetable",
		func(id *sandbox.Identity) { id.LastSeen = season.AddDate(0, 0, 2) })
	b.grant(summer, "keep-the-tables", b.at("timetable", "library:main/**"))
	b.needs(script{who: summer, do: []string{"tables/library:enter", "tables/table:add-rows",
		"tables/table:mend-rows"}, on: []string{b.at("timetable", "library:main/shelf:app/table:sailings")},
		calls: between(day(season), day(season).AddDate(0, 0, 3), every(40, 9)), network: "10.20.7.7"})
	b.keep(summer, nil, "yearly: ran for three days 150 days ago")
	billing := b.identity("workload/month-end-billing", "Invoices at the end of each month", nil)
	b.grant(billing, "keep-the-tables", b.at("finance", "library:main/**"))
	b.grant(billing, "fill-boxes", b.at("finance", "box:invoices/**"))
	b.needs(script{who: billing, do: []string{"tables/library:enter", "tables/table:find", "tables/table:read",
		"tables/table:add-rows", "tables/table:mend-rows", "tables/question:ask"},
		on: []string{b.at("finance", "library:main/shelf:app/table:invoices")}, calls: monthEnd(30),
		network: "10.20.7.8"})
	b.needs(script{who: billing, do: []string{"stow/item:put", "stow/delivery:begin", "stow/delivery:finish",
		"stow/delivery:abandon"}, on: []string{b.at("finance", "box:invoices/{date}/{n}.pdf")}, calls: monthEnd(50),
		network: "10.20.7.8"})
	b.keep(billing, nil, "monthly")
	// Reads that no log shows: telemetry never switched its reading logs on.
	dash := b.identity("workload/fleet-dash", "Shows the fleet", nil)
	g := b.grant(dash, "ask-the-tables", b.at("telemetry", "library:main/**"))
	b.needs(script{who: dash, do: []string{"tables/library:enter", "tables/table:find", "tables/table:read",
		"tables/question:ask"}, on: []string{b.at("telemetry", "library:main/shelf:app/table:positions")},
		calls: every(12, 5), network: "10.20.7.9"})
	b.needs(script{who: dash, do: []string{"post/letter:send"}, on: []string{b.at("telemetry", "rack:events")},
		calls: every(3, 1), network: "10.20.7.9"})
	b.grant(dash, "send-letters", b.at("telemetry", "rack:events/**"))
	b.keep(dash, g, "its reads are not logged")
	// A grant made last week.
	lights := b.identity("workload/harbour-lights", "Switches the harbour lights", nil)
	b.grant(lights, "send-letters", b.at("cameras", "rack:events/**"))
	b.needs(script{who: lights, do: []string{"post/letter:send"}, on: []string{b.at("cameras", "rack:events")},
		calls: every(10, 4), network: "10.20.7.3"})
	g = b.grant(lights, "pack-and-unpack", b.at("cameras", "box:mast-1/**"))
	g.Created = b.ago(6)
	b.keep(lights, g, "made last week")
	// Break-glass: never used, and must stay.
	glass := b.identity("person/harbour-master", "Break-glass account, sealed envelope in the safe",
		func(id *sandbox.Identity) {
			id.LastSeen, id.Labels = time.Time{}, map[string]string{"purpose": "break-glass"}
		})
	b.grant(glass, "skipper", b.Root+"/**")
	b.keep(glass, nil, "break-glass")
	b.add(sandbox.KindDenial, &sandbox.Denial{ID: "d-1", To: []string{"group/contractors"}, Do: []string{"locker/*:*"},
		Where: []string{b.Root + "/**"}})
	b.plant("idle-denial", "group/contractors", nil, "none of them is granted any secret")
	b.add(sandbox.KindGuardrail, &sandbox.Guardrail{ID: "r-1", Node: b.at("finance", "box:closings"),
		Do: []string{"*/*:*"}, Except: []string{"stow/box:scrap", "stow/item:pin"},
		Unless: []string{"person/harbour-master"}})
	b.add(sandbox.KindCeiling, &sandbox.Ceiling{ID: "c-1", Of: "workload/build-runner",
		Do:    []string{"stow/*:*", "engine/*:*", "muster/stand-in:step-in"},
		Where: []string{b.Root + "/pier:platform/**"}})
}

// own adds the identities that Clip Fence itself uses.
func (b *builder) own() {
	survey := b.identity("workload/clip-fence-survey", "Clip Fence, reading", nil)
	b.grant(survey, "know-who-may", b.Root+"/**")
	b.needs(script{who: survey, do: []string{"muster/grant:find", "muster/role:find", "watch/logbook:read"},
		on: []string{b.Root}, calls: every(3, 1), network: "10.20.9.9"})
	b.role("fence-keeper", "What Clip Fence needs to change access",
		"muster/grant:give", "muster/grant:alter", "muster/grant:take-back", "muster/grant:find", "muster/role:write",
		"muster/role:rewrite", "muster/role:tear-up", "muster/role:find", "muster/denial:impose",
		"muster/denial:lift", "muster/denial:find", "muster/roll:let-in", "muster/roll:put-out", "muster/roll:find",
		"muster/somebody:find", "muster/place:find",
		"watch/log-switch:turn", "watch/log-switch:find")
	change := b.identity("workload/clip-fence-change", "Clip Fence, changing", nil)
	b.grant(change, "fence-keeper", b.Root+"/**")
	b.keep(survey, nil, "the tool's own")
	b.keep(change, nil, "the tool's own")
	b.token(survey)
	b.token(change)
}
