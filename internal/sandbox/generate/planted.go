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
		b.grant(who, "database-editor", b.at("loyalty", "instance:main/**"))
		b.member(who, "group/all-staff")
		b.member(who, "group/loyalty-team")
		b.does(script{who: who, do: []string{"database/instance:connect", "database/table:read", "database/table:update"}, on: []string{b.at("loyalty", "instance:main/schema:app/table:members")},
			calls: between(b.started, b.ago(115+10*i), weekdays(5, nil)), from: 7, hours: 9, network: "10.40.3.7", mfa: true})
		b.plant("idle-identity", who, nil, "moved to other work; last use over 115 days ago, daily before")
	}
	leaver := b.identity("person/knut.avgard", "", func(id *sandbox.Identity) { id.Disabled, id.LastSeen = true, b.ago(47) })
	b.grant(leaver, "store-editor", b.at("finance", "**"))
	b.member(leaver, "group/all-staff")
	b.does(script{who: leaver, do: []string{"store/object:read", "store/object:create"}, on: []string{b.at("finance", "bucket:invoices/{date}/{n}")},
		calls: between(b.started, b.ago(47), weekdays(4, nil)), from: 7, hours: 9, network: "10.40.2.8", mfa: true})
	b.plant("idle-identity", leaver, nil, "left 47 days ago; the account is closed, the grants are not")
	never := b.identity("person/aksel.nyborg", "", func(id *sandbox.Identity) { id.LastSeen = time.Time{}; id.Created = b.ago(300) })
	b.grant(never, "viewer", b.at("ticketing", "**"))
	b.plant("idle-identity", never, nil, "never signed in")

	for i, w := range []struct{ name, role, place, do string }{
		{"fare-import", "object-editor", "bucket:fares/**", "store/object:create"},
		{"kiosk-sync", "table-writer", "instance:main/**", "database/table:insert"},
		{"promo-mailer", "function-invoker", "function:notify/**", "compute/function:invoke"},
	} {
		who := b.identity("workload/"+w.name, "", func(id *sandbox.Identity) { id.LastSeen = b.ago(105 + 20*i) })
		b.grant(who, w.role, b.at("ticketing", w.place))
		b.does(script{who: who, do: []string{w.do}, on: []string{b.at("ticketing", w.place[:len(w.place)-3])}, calls: between(b.started, b.ago(105+20*i), every(9, 3)), network: "10.20.3.9"})
		b.plant("idle-identity", who, nil, "daily until 105 days ago or more, then nothing")
	}
}

func (b *builder) overBroad() {
	export := b.identity("workload/ticket-export", "Nightly export of ticket sales", nil)
	g := b.grant(export, "administrator", b.at("ticketing", "**"))
	b.needs(script{who: export, do: []string{"store/object:read"}, on: []string{b.at("ticketing", "bucket:sales/{date}/{n}.csv")}, calls: every(9, 3), from: 1, hours: 3, network: "10.20.1.14"})
	for _, k := range []string{"over-broad-role", "over-broad-place", "standing-admin"} {
		b.plant(k, export, g, "administers a project, reads one container")
	}
	b.token(export)

	sync := b.identity("workload/camera-sync", "Copies harbour camera pictures", nil)
	g = b.grant(sync, "object-editor", b.at("cameras", "**"))
	b.needs(script{who: sync, do: []string{"store/object:list", "store/object:read", "store/object:read-metadata", "store/object:create", "store/object:overwrite", "store/object:delete", "store/object:set-labels",
		"store/object:copy", "store/object:restore", "store/object:get-policy", "store/upload:list", "store/upload:start", "store/upload:finish", "store/upload:abort"},
		on: []string{b.at("cameras", "bucket:quay-1/{date}/{n}.img")}, calls: every(20, 9), network: "10.20.2.40"})
	b.plant("over-broad-place", sync, g, "the right permissions on 24 containers, uses one")
	b.token(sync)

	report := b.identity("workload/crew-report", "", nil)
	g = b.grant(report, "database-admin", b.at("crew", "instance:main/**"))
	b.needs(script{who: report, do: []string{"database/instance:connect", "database/table:read", "database/query:run"}, on: []string{b.at("crew", "instance:main/schema:hr/table:rosters")}, calls: every(5, 2), network: "10.20.4.4"})
	b.plant("over-broad-role", report, g, "administers a database, reads three things")

	for i, w := range []struct{ name, role, place, do, on string }{
		{"tide-forecast", "compute-editor", "project:", "store/object:read", "bucket:gauges/{date}/{n}.json"},
		{"dock-signs", "queue-editor", "topic:alerts/**", "compute/function:invoke", "function:notify"},
		{"fleet-map", "secrets-editor", "secret:signing/**", "queue/message:receive", "subscription:events-in"},
	} {
		project := []string{"tides", "timetable", "data"}[i]
		who := b.identity("workload/"+w.name, "", nil)
		place := w.place
		if place == "project:" {
			place = "**"
		}
		g := b.grant(who, w.role, b.at(project, place))
		b.plant("unused-grant", who, g, "active every day, never through this grant")
		b.grant(who, map[string]string{"store/object:read": "object-reader", "compute/function:invoke": "function-invoker", "queue/message:receive": "subscription-consumer"}[w.do], placeOf(b.at(project, w.on)))
		do := map[string][]string{"store/object:read": {"store/object:read", "store/object:list", "store/object:read-metadata"}, "queue/message:receive": {"queue/message:receive", "queue/message:acknowledge", "queue/subscription:get"}}[w.do]
		if do == nil {
			do = []string{w.do}
		}
		b.needs(script{who: who, do: do, on: []string{b.at(project, w.on)}, calls: every(12, 5), network: "10.20.5.5"})
		b.token(who)
	}

	g = b.grant("everyone", "object-reader", b.at("website", "bucket:press-kit/**"))
	g.Side = "resource"
	b.plant("public-access", "everyone", g, "anybody can read the press kit")
	g = b.grant("signed-in", "object-editor", b.at("data", "bucket:scratch/**"))
	g.Side = "resource"
	b.plant("public-access", "signed-in", g, "anybody with any account can write to the scratch container")

	// A direct grant beside a group that gives the same.
	who := b.people[7]
	g = b.grant(who, "team-member", b.at(projects[7%len(projects)].name, "**"))
	b.plant("redundant-grant", who, g, "the team's group gives the same")
}

// placeOf widens an object's path template to its container.
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
	g := b.grant(bot, "access-manager", b.at("shared", "**"))
	b.plant("standing-admin", bot, g, "a workload that can hand out rights")
	b.needs(script{who: bot, do: []string{"identity/grant:list", "identity/grant:create", "identity/grant:get", "identity/role:update", "identity/membership:list", "identity/grant:update",
		"identity/membership:create", "identity/act-as:create", "identity/grant:delete", "identity/act-as:list"}, on: []string{b.at("shared", "")}, calls: every(4, 3), network: "10.20.6.6"})
	root := b.identity("workload/platform-root", "Builds the platform", nil)
	g = b.grant(root, "administrator", b.Root+"/unit:platform/**")
	b.plant("standing-admin", root, g, "administers a unit, reached in two steps")
	b.plant("over-broad-role", root, g, "administers a unit, does three things")
	runner := b.identity("workload/build-runner", "Runs builds", nil)
	b.grant(runner, "object-creator", b.at("shared", "bucket:builds/**"))
	b.needs(script{who: runner, do: []string{"store/object:create", "store/upload:start", "store/upload:finish", "store/upload:abort"}, on: []string{b.at("shared", "bucket:builds/{date}/{n}")}, calls: every(12, 5), network: "10.20.6.7"})
	b.add(sandbox.KindActAs, &sandbox.ActAs{ID: "a-1", From: runner, To: bot, How: "run-as"})
	b.add(sandbox.KindActAs, &sandbox.ActAs{ID: "a-2", From: bot, To: root, How: "mint-token"})
	b.plant("escalation", bot, nil, "acts as whoever administers a unit")
	b.plant("escalation", runner, nil, "does so in one step more")
	b.plant("act-as-chain", runner, nil, "acts as one who acts as another")
	b.World.Nodes[b.at("shared", "job:nightly")].RunsAs = root // whoever changes its code works as that
	b.needs(script{who: bot, as: root, do: []string{"compute/machine:list", "compute/machine:resize", "network/rule:update"}, on: []string{b.at("shared", "machine:app-1"), b.at("data", "machine:app-2")}, calls: every(2, 1), network: "10.20.6.6"})
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
	b.grant(year, "object-editor", b.at("finance", "bucket:closings/**"))
	b.keep(year, nil, "yearly: due again in January")
	// A yearly job whose season lies inside the log but outside the window.
	season := b.ago(150)
	summer := b.identity("workload/summer-timetable", "Switches to the summer timetable", func(id *sandbox.Identity) { id.LastSeen = season.AddDate(0, 0, 2) })
	b.grant(summer, "table-writer", b.at("timetable", "instance:main/**"))
	b.needs(script{who: summer, do: []string{"database/instance:connect", "database/table:insert", "database/table:update"}, on: []string{b.at("timetable", "instance:main/schema:app/table:sailings")},
		calls: between(day(season), day(season).AddDate(0, 0, 3), every(40, 9)), network: "10.20.7.7"})
	b.keep(summer, nil, "yearly: ran for three days 150 days ago")
	billing := b.identity("workload/month-end-billing", "Invoices at the end of each month", nil)
	b.grant(billing, "table-writer", b.at("finance", "instance:main/**"))
	b.grant(billing, "object-creator", b.at("finance", "bucket:invoices/**"))
	b.needs(script{who: billing, do: []string{"database/instance:connect", "database/table:list", "database/table:read", "database/table:insert", "database/table:update", "database/query:run"}, on: []string{b.at("finance", "instance:main/schema:app/table:invoices")}, calls: monthEnd(30), network: "10.20.7.8"})
	b.needs(script{who: billing, do: []string{"store/object:create", "store/upload:start", "store/upload:finish", "store/upload:abort"}, on: []string{b.at("finance", "bucket:invoices/{date}/{n}.pdf")}, calls: monthEnd(50), network: "10.20.7.8"})
	b.keep(billing, nil, "monthly")
	// Reads that no log shows: telemetry never switched its reading logs on.
	dash := b.identity("workload/fleet-dash", "Shows the fleet", nil)
	g := b.grant(dash, "table-reader", b.at("telemetry", "instance:main/**"))
	b.needs(script{who: dash, do: []string{"database/instance:connect", "database/table:list", "database/table:read", "database/query:run"}, on: []string{b.at("telemetry", "instance:main/schema:app/table:positions")}, calls: every(12, 5), network: "10.20.7.9"})
	b.needs(script{who: dash, do: []string{"queue/message:publish"}, on: []string{b.at("telemetry", "topic:events")}, calls: every(3, 1), network: "10.20.7.9"})
	b.grant(dash, "topic-publisher", b.at("telemetry", "topic:events/**"))
	b.keep(dash, g, "its reads are not logged")
	// A grant made last week.
	lights := b.identity("workload/harbour-lights", "Switches the harbour lights", nil)
	b.grant(lights, "topic-publisher", b.at("cameras", "topic:events/**"))
	b.needs(script{who: lights, do: []string{"queue/message:publish"}, on: []string{b.at("cameras", "topic:events")}, calls: every(10, 4), network: "10.20.7.3"})
	g = b.grant(lights, "object-editor", b.at("cameras", "bucket:mast-1/**"))
	g.Created = b.ago(6)
	b.keep(lights, g, "made last week")
	// Break-glass: never used, and must stay.
	glass := b.identity("person/harbour-master", "Break-glass account, sealed envelope in the safe", func(id *sandbox.Identity) {
		id.LastSeen, id.Labels = time.Time{}, map[string]string{"purpose": "break-glass"}
	})
	b.grant(glass, "administrator", b.Root+"/**")
	b.keep(glass, nil, "break-glass")
	b.add(sandbox.KindDenial, &sandbox.Denial{ID: "d-1", To: []string{"group/contractors"}, Do: []string{"secrets/*:*"}, On: []string{b.Root + "/**"}})
	b.plant("idle-denial", "group/contractors", nil, "none of them is granted any secret")
	b.add(sandbox.KindGuardrail, &sandbox.Guardrail{ID: "r-1", Node: b.at("finance", "bucket:closings"), Do: []string{"*/*:*"}, Except: []string{"store/bucket:delete", "store/object:set-hold"}, Unless: []string{"person/harbour-master"}})
	b.add(sandbox.KindCeiling, &sandbox.Ceiling{ID: "c-1", Of: "workload/build-runner", Do: []string{"store/*:*", "compute/*:*", "identity/act-as:use"}, On: []string{b.Root + "/unit:platform/**"}})
}

// own adds the identities that Clip Fence itself uses.
func (b *builder) own() {
	survey := b.identity("workload/clip-fence-survey", "Clip Fence, reading", nil)
	b.grant(survey, "inventory-reader", b.Root+"/**")
	b.needs(script{who: survey, do: []string{"identity/grant:list", "identity/role:list", "logging/entry:read"}, on: []string{b.Root}, calls: every(3, 1), network: "10.20.9.9"})
	b.role("fence-keeper", "What Clip Fence needs to change access",
		"identity/grant:create", "identity/grant:update", "identity/grant:delete", "identity/grant:list", "identity/role:create", "identity/role:update", "identity/role:delete", "identity/role:list",
		"identity/membership:create", "identity/membership:delete", "identity/membership:list", "identity/identity:list", "identity/node:list", "logging/setting:update", "logging/setting:list")
	change := b.identity("workload/clip-fence-change", "Clip Fence, changing", nil)
	b.grant(change, "fence-keeper", b.Root+"/**")
	b.keep(survey, nil, "the tool's own")
	b.keep(change, nil, "the tool's own")
	b.token(survey)
	b.token(change)
}
