package cli

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

// Here the core's data becomes sentences.

// judgement says in a few words how an identity stands.
func judgement(s *work.Standing, now time.Time) (string, render.Tone) {
	switch s.State {
	case work.Protected:
		return "protected: never changed", render.Good
	case work.Disabled:
		return "account closed, access still there", render.Bad
	case work.Idle:
		if s.LastUse.IsZero() {
			return "never used", render.Bad
		}
		return fmt.Sprintf("idle: silent for %d days, %s before", s.Habit.Silence, s.Habit.Rhythm), render.Bad
	case work.Rare:
		switch s.Habit.Rhythm {
		case work.UsedOnce, work.UsedYearly, work.NeverUsed:
			if due := due(s, now); due > 0 {
				return fmt.Sprintf("keep: perhaps yearly, due in about %d days", due), render.Good
			}
		default:
			return fmt.Sprintf("keep: silent for %d days, and its habit (%s) is not over", s.Habit.Silence,
				s.Habit.Rhythm), render.Good
		}
		return "keep: its silence proves nothing yet", render.Good
	case work.New:
		return "too new to judge", render.Plain
	case work.Unproven:
		if s.MayBe {
			return "silent, but an unknown caller may be it", render.Warn
		}
		if s.Dark {
			return "silent wherever a log would show it", render.Warn
		}
		return "silent, but the evidence is too thin", render.Plain
	}
	switch {
	case s.ID.Kind != model.Group && !s.LastUse.IsZero() && s.LastDone.IsZero():
		return "only tried: every call of it that is known was refused", render.Warn
	case s.ID.Kind == model.Group && s.Perhaps > 0 &&
		slices.ContainsFunc(s.Grants, func(g *work.GrantResult) bool { return len(g.Frozen) > 0 }):
		return fmt.Sprintf("nobody is listed in it; %s may be", render.Plural(s.Perhaps, "unexplained caller")),
			render.Warn
	case s.ID.Kind == model.Group && s.Members == 0 && len(s.Grants) > 0 && s.Identity.ByLog:
		return "the log shows nobody in it, and the source lists nobody", render.Warn
	case s.ID.Kind == model.Group && s.Members == 0 && len(s.Grants) > 0:
		return "nobody is in it who could use it", render.Warn
	case s.ID.Kind == model.Group && s.Silent == s.Members && len(s.Grants) > 0:
		members := render.Plural(s.Members, "member")
		if s.Identity.ByLog {
			members += " whom the log shows"
		}
		return "nothing of its own grants was used by " + members, render.Warn
	case s.Granted == 0:
		return "fits", render.Good
	case s.ID.Kind == model.Group && s.Removable < 1:
		return fits(s)
	case s.Removable >= 0.5*s.Danger && s.Removable >= 25:
		return "far more than it uses", render.Bad
	case s.Removable >= 25:
		return "more than it uses", render.Warn
	}
	return fits(s)
}

// fits says of somebody from whom little can go whether what it has is used, or only cannot be judged.
func fits(s *work.Standing) (string, render.Tone) {
	all, young, blind := 0, 0, 0.0
	for _, g := range s.Grants {
		all, young, blind = all+g.Perms.Count(), young+g.TooNew.Count(), blind+g.Blind
	}
	switch {
	case 2*s.Unobservable >= s.Granted, s.Unobservable > 0 && 2*blind >= s.Danger && blind >= 25:
		return fmt.Sprintf("cannot be judged: no log shows %s of %s", render.Count(s.Unobservable),
			render.Count(s.Granted)), render.Plain
	case young > 0 && 2*young >= all:
		return "granted too short a time ago to judge", render.Plain
	}
	return "fits", render.Good
}

// due returns in about how many days a silent identity may be needed again.
func due(s *work.Standing, now time.Time) int {
	if s.Habit.Due > 0 {
		return s.Habit.Due
	}
	last := s.Identity.LastSeen
	if s.LastUse.After(last) {
		last = s.LastUse
	}
	if last.IsZero() {
		return 0
	}
	return max(0, 365-int(now.Sub(last).Hours()/24))
}

func habit(s *work.Standing) string {
	switch s.Habit.Rhythm {
	case work.UsedOnce:
		return "one season"
	case work.NeverUsed:
		return "-"
	}
	return string(s.Habit.Rhythm)
}

func lastUse(s *work.Standing, now time.Time) string {
	if s.LastUse.IsZero() && !s.Identity.LastSeen.IsZero() {
		return render.Day(s.Identity.LastSeen, now) + " (seen)"
	}
	return render.Day(s.LastDone, now)
}

// what says in one line what a finding claims.
func what(f *work.SourceFinding) string {
	switch f.Kind {
	case work.IdleIdentity:
		return "nobody works with it any more"
	case work.UnusedGrant:
		return "never used through " + grantWords(f.Grant.Grant)
	case work.OverBroadRole:
		return fmt.Sprintf("uses %s of %s permissions of %s", render.Count(f.Grant.Used.Count()),
			render.Count(f.Grant.Perms.Count()), grantWords(f.Grant.Grant))
	case work.OverBroadPlace:
		return fmt.Sprintf("uses %s on %s of %s places", grantWords(f.Grant.Grant),
			render.Count(max(1, f.Grant.UsedNodes)), render.Count(f.Grant.Nodes))
	case work.StandingAdmin:
		return "can hand out rights at any time, by " + grantWords(f.Grant.Grant)
	case work.PublicAccess:
		return "anybody has " + grantWords(f.Grant.Grant)
	case work.RedundantGrant:
		if f.Other == nil {
			return fmt.Sprintf("%s gives nothing that %s together do not", grantWords(f.Grant.Grant),
				render.Plural(f.Count, "other grant"))
		}
		return fmt.Sprintf("%s gives nothing that grant %s to %s does not", grantWords(f.Grant.Grant), f.Other.ID,
			f.Other.To)
	case work.EndingAccess:
		return fmt.Sprintf("is used, and ends on %s: %s", f.Grant.Grant.Condition().Until.UTC().Format(time.DateOnly),
			grantWords(f.Grant.Grant))
	case work.Outsider:
		if n := len(f.Holders); n > 0 {
			return fmt.Sprintf("%s in it, from outside, have %s", suchAs(n, "identity", "identities", f.Holders[0]),
				grantWords(f.Grant.Grant))
		}
		return "from outside, has " + grantWords(f.Grant.Grant)
	case work.DeadGrant:
		return "nothing lets anything of " + grantWords(f.Grant.Grant) + " through"
	case work.IdleDenial:
		return "denial " + f.Rule + " refuses nothing that anybody it names is granted"
	case work.IdleCeiling:
		return "ceiling " + f.Rule + " cuts nothing: all its identity has lies under it"
	case work.Wildcard:
		return grantWords(f.Grant.Grant) + " gives all of a service, also what it will have one day"
	case work.WorkloadHands:
		if n := len(f.Holders); n > 0 {
			return fmt.Sprintf("%s in it can hand out rights, by %s", suchAs(n, "workload", "workloads", f.Holders[0]),
				grantWords(f.Grant.Grant))
		}
		return "a workload that can hand out rights, by " + grantWords(f.Grant.Grant)
	case work.Administrators:
		return render.Count(f.Count) + " identities can edit grants on it"
	case work.ActAsChain:
		as := "far more by acting as " + strings.ReplaceAll(chainWords(f.Chain[1:]), " in ", ", then as ")
		switch n := len(f.Holders); {
		case n == 1:
			return fmt.Sprintf("%s in it gets %s", f.Holders[0], as)
		case n > 1:
			return fmt.Sprintf("%s in it get %s", identities(n), as)
		}
		return "gets " + as
	case work.Escalation:
		return fmt.Sprintf("can make itself administrator of %s in %s", f.Node, render.Plural(f.Count, "step"))
	}
	return string(f.Kind)
}

// suchAs counts those whom a finding is about, and names one.
func suchAs(n int, one, many string, first model.ID) string {
	if n == 1 {
		return "1 " + one + ", " + first.String() + ","
	}
	return fmt.Sprintf("%s %s, such as %s,", render.Count(n), many, first)
}

func grantWords(g *model.Grant) string {
	if g.Role != "" && g.Role != g.ID { // a fence calls both alike
		return fmt.Sprintf("grant %s (%s)", g.ID, g.Role)
	}
	return "grant " + g.ID
}

// overWords says which grants are over and still listed; nothing where none is.
func overWords(over []work.Ending) []string {
	const most = 3
	if len(over) == 0 {
		return nil
	}
	var list []string
	for _, e := range over[:min(most, len(over))] {
		list = append(list, fmt.Sprintf("%s of %s (%s)", e.Grant, e.To, e.Until.Format(time.DateOnly)))
	}
	if more := len(over) - most; more > 0 {
		list = append(list, fmt.Sprintf("%d more", more))
	}
	is, them := "is", "it"
	if len(over) > 1 {
		is, them = "are", "they"
	}
	return []string{fmt.Sprintf("%s %s over and still listed; %s %s nothing: %s.",
		render.Plural(len(over), "grant"), is, them, map[bool]string{true: "gives", false: "give"}[len(over) == 1],
		strings.Join(list, ", "))}
}

// refusalWords says which rule refuses, what it is about, and whom it names.
func refusalWords(r work.Refusal) string {
	what := first(r.Rights.Do, 3)
	if len(r.Rights.Do) == 0 {
		what = "nothing"
	}
	if len(r.Rights.Except) > 0 {
		what += " but " + first(r.Rights.Except, 3)
	}
	verb := "admits only"
	if r.Layer == work.LayerDenial {
		verb = "denies"
	}
	text := fmt.Sprintf("%s %s %s on %s", r.ID, verb, what, first(r.Where, 2))
	if r.Met == model.Open {
		text += ", if " + r.Rest.String()
	}
	if len(r.Chain) > 0 {
		text += ", named for " + chainWords(r.Chain)
	}
	return text
}

func places(on []model.PathPattern) string {
	out := make([]string, len(on))
	for i, p := range on {
		out[i] = p.String()
	}
	return strings.Join(out, ", ")
}

// evidenceOf says, line by line, on what a finding rests.
func evidenceOf(f *work.Finding) []string {
	var out []string
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	say("Window: %s. Log known since %s.", spanWords(f.Window), f.History.Format(time.DateOnly))
	if s := f.Standing; s != nil {
		if s.Identity.Title != "" {
			say("%s: %s.", s.ID, s.Identity.Title)
		}
		if s.Identity.Disabled {
			say("Its account is closed in the source.")
		}
		switch {
		case s.LastUse.IsZero() && s.Identity.LastSeen.IsZero():
			say("No log shows a call of it, and the source remembers no sign-in.")
		case s.LastUse.IsZero():
			say("No log shows a call of it; the source last saw it on %s.", s.Identity.LastSeen.Format(time.DateOnly))
		case s.ID.Kind != model.Group && s.LastDone.IsZero():
			say("Every call of it that is known was refused, the last on %s.", s.LastUse.Format(time.RFC3339))
		case s.ID.Kind != model.Group:
			say("Last call %s; habit %s; silent for %s.", s.LastUse.Format(time.RFC3339), s.Habit.Rhythm,
				render.Plural(s.Habit.Silence, "day"))
		}
	}
	g := f.Grant
	they := func() {
		if n := len(f.Holders); n > 1 {
			say("They are %s.", first(f.Holders, 6))
		}
	}
	if g == nil && work.OfShape(f.Kind) {
		they()
		say("Proven from the survey alone, whatever is used.")
		return out
	}
	if g == nil {
		say("It holds %s through %s.", render.Plural(f.Standing.Granted, "permission"),
			render.Plural(f.Count, "grant"))
		return out
	}
	gr := g.Grant
	say("%s on %s, made %s, kept with the %s.", grantWords(gr), places(gr.Where),
		dateOr(gr.Created, "at an unknown time"), keptWith(gr))
	if !gr.Condition().IsZero() {
		say("It holds only %s.", gr.Condition())
	}
	they()
	if len(g.Holders) > 0 && gr.To.Kind == model.Group {
		say("%s it through the group; %s of its members used none of its own grants.", identities(len(g.Holders))+
			" have", render.Count(silent(f.Standing)))
	}
	unjudged, all := "", g.Perms.Count()
	if n := all - g.Used.Count() - g.Rare.Count() - g.Unobservable.Count() - g.Unused.Count(); n > 0 {
		unjudged = fmt.Sprintf(", %s that cannot be judged (granted too short a time ago, or its holders or their "+
			"calls cannot be)", render.Count(n))
	}
	say("Of %s: %s used in the window, %s used before it by a habit that is not over, %s that no log would have "+
		"shown, %s unused%s.", render.Plural(all, "permission"), render.Count(g.Used.Count()),
		render.Count(g.Rare.Count()), render.Count(g.Unobservable.Count()), render.Count(g.Unused.Count()), unjudged)
	if f.Kind == work.OverBroadPlace || f.Kind == work.OverBroadRole {
		say("What it uses is used on %s of %s places.", render.Count(g.UsedNodes), render.Count(g.Nodes))
	}
	if len(f.Example) > 0 && f.Kind != work.OverBroadPlace {
		names := make([]string, len(f.Example))
		for i, p := range f.Example {
			names[i] = p.String()
		}
		lead := "Among the unused"
		if f.Kind == work.StandingAdmin {
			lead = "Among what it gives"
		}
		say("%s: %s.", lead, strings.Join(names, ", "))
	}
	return out
}

func dateOr(t time.Time, other string) string {
	if t.IsZero() {
		return other
	}
	return t.Format(time.DateOnly)
}

func keptWith(g *model.Grant) string {
	if g.KeptWith == "" {
		return model.WithHolder
	}
	return g.KeptWith
}

// chainWords says a chain from an identity to whom a grant names.
func chainWords(chain []model.ID) string {
	out := make([]string, len(chain))
	for i, id := range chain {
		out[i] = id.String()
	}
	return strings.Join(out, " in ")
}

func wayWords(w work.Way) string {
	if w.Bypass {
		return chainWords(w.Chain) + ", which the source lets through every check"
	}
	s := fmt.Sprintf("%s: %s on %s", chainWords(w.Chain), grantWords(w.Grant), places(w.Grant.Where))
	if w.Met == model.Open {
		s += ", if " + w.Rest.String()
	}
	return s
}

// silent counts the members of a group who used none of its own grants.
func silent(s *work.Standing) int {
	if s == nil {
		return 0
	}
	return s.Silent
}

// plainWord is what a shell takes as it is.
var plainWord = regexp.MustCompile(`^[a-zA-Z0-9/_.:@%+,=-]+$`)

// quotedWord is a word of a command that somebody copies into a POSIX shell.
func quotedWord(s string) string {
	if plainWord.MatchString(s) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// command is a command that somebody copies into a POSIX shell: each word that is put into it is one
// word there, whatever whoever chose the name wrote into it.
func command(format string, words ...any) string {
	quoted := make([]any, len(words))
	for i, w := range words {
		quoted[i] = quotedWord(fmt.Sprint(w))
	}
	return fmt.Sprintf(format, quoted...)
}
