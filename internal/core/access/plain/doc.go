// Package plain answers who can do what on a [model.Estate], and why.
//
// [New] indexes an estate; [Engine.Decide] answers one question (allowed when some
// grant gives it and no denial, guardrail or ceiling stands against it) with a
// [access.Decision]: a three-valued outcome with every rule that had a say. Where the
// context of the call is unknown, conditions are not guessed: the outcome is
// [access.Conditional] and each rule carries what is left of its condition.
//
// It is written to be seen to be right: it loops over the rules that can concern an
// identity and keeps no answers. Only tests import it; package index is what answers.
package plain
