// Package gauge compares what is granted with what was used.
//
// [Run] attributes every observed use to the grants that allowed it, and puts
// each permission of each grant into one of five classes: used in the window;
// rare (used before it, by a habit that is not over); too new to judge;
// unobservable (no log would have shown it); and, only then, unused. From the
// classes it says how each identity stands ([Standing]) and what is wrong
// ([Finding]), ordered by danger.
//
// # Danger
//
// There is one measure, and every command uses it. The danger of an access is
//
//	D = sum over permissions p of weight(level of p) * log2(1 + n(p))
//
// where n(p) is on how many nodes of the inventory p can be used: allowed there, after
// denials, guardrails and ceilings and with conditions taken for met, and of a kind that p
// applies to. It is at least one where p is granted on some place at all, because places
// hold more than the inventory lists, tomorrow's names among them. A permission that lets its
// holder escalate weighs as hand-out, whatever its level.
//
// The measure is a sum over permissions, so a search may weigh them one by one. Its laws,
// which tests hold: it never falls when access grows and never grows when a rule takes away;
// what two grants both give counts once, so taking a redundant one away changes nothing;
// twice the places cost one weight.
//
// What is held ([Scale.Held]) is one number; beside it stands what is within reach
// ([Within]): D of the closure of acting as others and of giving oneself more, in any number
// of steps, which package escalate finds exactly. So whoever can still edit the grants of the
// top node is as dangerous as its administrator, however little it holds, and each place and
// permission of a closure counts once.
package gauge
