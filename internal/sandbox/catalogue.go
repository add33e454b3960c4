package sandbox

import (
	"fmt"
	"slices"
	"strings"
)

// catalogueText lists every permission Mooring knows, as a ferry operator would say it:
// service, noun, the kinds of node it applies to, then verbs with their level (s see,
// r read, c change, a administer, h hand-out) and, behind '!', what the holder can give
// itself. A noun that is also a kind of node concerns nodes of that kind.
const catalogueText = `
stow box box,berth find:s describe:r set-up:c rename:c move:a clear-out:a scrap:a share:h!edit-grants
stow item box find:s read:r inspect:r whose:r put:c replace:c throw-out:c bring-back:c duplicate:c tag:c pin:a hand-on:h!edit-grants
stow delivery box follow:s begin:c finish:c abandon:c
stow edition box find:s read:r revive:c burn:a
stow tally box,berth count:s weigh:r
stow twin box,berth find:s compare:r set-up:a pause:c part:a
stow doorbell box find:s fit:c unfit:c
post rack rack,berth find:s describe:r set-up:c alter:c scrap:a share:h!edit-grants
post letter rack,tray send:c collect:c tick-off:c peep:r send-again:c burn:a
post tray tray,rack,berth find:s describe:r hang:c alter:c turn-back:c take-down:c
post returns tray,berth find:s open:r forward:c burn:a
post form berth find:s describe:r try-out:r draw-up:c withdraw:c
post address-book berth find:s look-up:r enter:c strike:c
engine rig rig,berth find:s describe:r watch-screen:r build:c start:c halt:c tag:c refit:a scrap:a board:a!run-as crew:h!run-as
engine tank tank,berth find:s describe:r fill:c couple:c uncouple:c enlarge:a drain:a
engine errand errand,berth find:s describe:r set-up:c run:c call-off:c rewrite:a!run-as scrap:a
engine helper helper,berth find:s describe:r train:c call:c rewrite:a!run-as crew:h!run-as dismiss:a lend:h!edit-grants
engine mould berth find:s describe:r cast:c retire:c break-up:a pass-round:a
engine convoy berth find:s describe:r form:a enlarge:a renew:a disband:a take-helm:a!mint-credential
engine rota berth find:s draw-up:c pause:c tear-up:c
tables library library,berth find:s describe:r enter:r take-pulse:r restart:c found:a enlarge:a tune:a close-down:a
tables shelf library find:s put-up:c rearrange:c take-down:a
tables table library find:s read:r carry-out:r add-rows:c mend-rows:c strike-rows:c bring-in:c wipe:a
tables question library ask:r explain:r look-back:r stop:c
tables reader library find:s describe:r admit:h!mint-credential rekey:h!mint-credential dismiss:a
tables fair-copy library,berth find:s describe:r make:c put-back:a shred:a
locker secret secret,berth find:s describe:r reveal:r lay-in:c swap:c block:c shred:a share:h!edit-grants
locker seal berth find:s open-with:r close-with:c recut:c cut:a set-aside:a break:a
locker badge berth find:s describe:r renew:c issue:a call-in:a
engine net net,berth find:s describe:r lay:a splice:a take-up:a
engine stretch net find:s describe:r lay:c shift:c take-up:a
engine rule net find:s describe:r post:a amend:a strike:a
engine number berth find:s reserve:c release:c
engine lock-gate berth find:s describe:r build:c adjust:c drain:c pull-down:a
engine district berth find:s describe:r mark-out:c redraw:c dissolve:a
engine signpost berth find:s read:r put-up:c turn:c take-down:c
engine passage berth find:s describe:r reopen:c open:a close:a
watch logbook berth find:s read:r write:c
watch log-switch berth,pier,harbour find:s describe:r turn:a
watch carrier berth find:s describe:r hire:a reroute:a dismiss:a
watch dial berth find:s read:r fit:c unfit:c
watch bell berth find:s describe:r hang:c retune:c muffle:c take-down:c
watch board berth find:s look-at:r put-up:c rearrange:c take-down:c
ferry camera berth find:s look-through:r aim:c record:c wipe:a
ferry ramp berth find:s raise:c lower:c lock:a
ferry lamp berth find:s light:c dim:c
ferry sign berth find:s read:r write:c blank:c
ferry turnstile berth find:s count:r open:c shut:c override:a
ferry tide-pole berth find:s read:r calibrate:a
ferry horn berth find:s sound:c
ferry timetable berth find:s read:r draft:c publish:a withdraw:a
ferry crossing berth find:s read:r add:c delay:c cancel:a
ferry manifest berth find:s read:r add-name:c strike-name:c seal:a
ferry fare berth find:s read:r set:c approve:a
muster place harbour,pier,berth find:s describe:r found:a move:a close:a
muster somebody harbour,pier,berth find:s describe:r amend:c enrol:a suspend:a readmit:a strike-off:a
muster group harbour find:s describe:r found:c dissolve:a
muster roll harbour find:s let-in:h!join-group put-out:a
muster stand-in harbour,pier,berth find:s arrange:h!run-as step-in:a!run-as end:a
muster pass harbour,pier,berth find:s mint:h!mint-credential cancel:a
muster role harbour,pier,berth find:s describe:r write:a rewrite:h!edit-role tear-up:a
muster grant harbour,pier,berth find:s describe:r give:h!edit-grants alter:h!edit-grants take-back:a
muster denial harbour,pier,berth find:s impose:a alter:h!lift-denial lift:h!lift-denial
muster ceiling harbour find:s impose:a raise:h!lift-ceiling lift:h!lift-ceiling
muster guardrail harbour find:s impose:a shift:h!lift-guardrail lift:h!lift-guardrail
muster question harbour,pier,berth try:r review:r
`

// Classes of log. Each can be off. Looking is, unless somebody switches it on.
const (
	ClassLooking  = "looking"  // see and read
	ClassHandling = "handling" // change
	ClassSteering = "steering" // administer and hand-out
)

// Classes lists the classes of log, the most telling one first.
var Classes = []string{ClassSteering, ClassHandling, ClassLooking}

// Services lists the services in the order of the catalogue.
var Services = []string{"stow", "post", "engine", "tables", "locker", "watch", "ferry", "muster"}

var levels = map[string]string{"s": "see", "r": "read", "c": "change", "a": "administer", "h": "hand-out"}

// Catalogue returns every permission that Mooring knows.
func Catalogue() []*Permission {
	var out []*Permission
	classes := map[string]string{"s": ClassLooking, "r": ClassLooking, "c": ClassHandling, "a": ClassSteering,
		"h": ClassSteering}
	for line := range strings.Lines(strings.TrimSpace(catalogueText)) {
		f := strings.Fields(line)
		for _, v := range f[3:] {
			verb, rest, _ := strings.Cut(v, ":")
			level, escalates, _ := strings.Cut(rest, "!")
			out = append(out, &Permission{
				Permission: fmt.Sprintf("%s/%s:%s", f[0], f[1], verb),
				Level:      levels[level],
				Kinds:      strings.Split(f[2], ","),
				LogClass:   classes[level],
				Escalates:  escalates,
			})
		}
	}
	return out
}

// BuiltinRoles returns the roles that exist in every Mooring, from very narrow
// to very broad.
func BuiltinRoles() []*Role {
	all := Catalogue()
	// upTo lists the permissions of some nouns, written service/noun, up to a level.
	upTo := func(level string, nouns ...string) []string {
		order := []string{"see", "read", "change", "administer", "hand-out"}
		var out []string
		for _, p := range all {
			hit := func(n string) bool { return PermissionMatches(n+":*", p.Permission) }
			if slices.Index(order, p.Level) <= slices.Index(order, level) && slices.ContainsFunc(nouns, hit) {
				out = append(out, p.Permission)
			}
		}
		return out
	}
	do := func(list string) []string { return strings.Fields(list) }
	role := func(name, title string, do []string) *Role {
		return &Role{Name: name, Title: title, Builtin: true, Do: do}
	}
	return []*Role{
		role("send-letters", "Put letters into a rack", do("post/letter:send")),
		role("call-helpers", "Call helpers", do("engine/helper:call")),
		role("write-the-logbook", "Write into the logbook", do("watch/logbook:write")),
		role("sound-the-horn", "Sound the horn of a quay", do("ferry/horn:find ferry/horn:sound")),
		role("open-secrets", "See what a secret says", do("locker/secret:describe locker/secret:reveal")),
		role("look-into-boxes", "See and read what is in boxes",
			do("stow/item:find stow/item:read stow/item:inspect")),
		role("collect-letters", "Take letters out of a tray",
			do("post/letter:collect post/letter:tick-off post/tray:describe")),
		role("fill-boxes", "Put new things into boxes",
			do("stow/item:put stow/delivery:begin stow/delivery:finish stow/delivery:abandon")),
		role("run-errands", "Run errands and call them off",
			do("engine/errand:find engine/errand:describe engine/errand:run engine/errand:call-off")),
		role("ask-the-tables", "Enter a library and read its tables",
			do("tables/library:enter tables/table:find tables/table:read tables/question:ask")),
		role("keep-the-tables", "Enter a library, read its tables and write their rows",
			do("tables/library:enter tables/table:find tables/table:read tables/table:add-rows "+
				"tables/table:mend-rows tables/question:ask")),
		role("read-the-logbook", "Read the logbook", upTo("read", "watch/logbook")),
		role("read-the-dials", "Read dials and boards", upTo("read", "watch/dial", "watch/board")),
		role("work-the-ramps", "Raise and lower ramps, light the lamps", upTo("change", "ferry/ramp", "ferry/lamp")),
		role("check-tickets", "Open turnstiles and read the manifest",
			append(upTo("change", "ferry/turnstile"), upTo("read", "ferry/manifest", "ferry/crossing")...)),
		role("plan-sailings", "Draft timetables, add and delay crossings",
			upTo("change", "ferry/timetable", "ferry/crossing")),
		role("pack-and-unpack", "Read, add and change what is in boxes", upTo("change", "stow/item", "stow/delivery")),
		role("work-the-lockers", "Use and change what is in lockers", upTo("change", "locker/*")),
		role("work-the-post", "Use and change racks, trays and letters", upTo("change", "post/*")),
		role("work-the-hold", "Use and change everything in boxes", upTo("change", "stow/*")),
		role("work-the-library", "Use and change libraries and their tables", upTo("change", "tables/*")),
		role("rule-the-library", "Everything about libraries, readers included", upTo("hand-out", "tables/*")),
		role("work-the-engines", "Use and change what runs", upTo("change", "engine/*")),
		role("chief-engineer", "Everything about what runs and the lines between", upTo("hand-out", "engine/*")),
		role("hold-master", "Everything about boxes, sharing them included", upTo("hand-out", "stow/*")),
		role("quay-master", "Everything on the quay and about sailings", upTo("hand-out", "ferry/*")),
		role("know-who-may", "See every grant and the inventory, nothing else",
			append(upTo("read", "muster/*"),
				do("watch/log-switch:find watch/log-switch:describe watch/logbook:find watch/logbook:read")...)),
		role("hand-out-access", "Change grants, roles, groups and stand-ins",
			append(upTo("hand-out", "muster/grant", "muster/role", "muster/roll", "muster/stand-in"),
				"watch/log-switch:turn")),
		role("look-round", "See and read everything", upTo("read", "*/*")),
		role("lend-a-hand", "Use and change everything but access", upTo("change", "*/*")),
		role("skipper", "Everything, access included", do("*/*:*")),
	}
}
