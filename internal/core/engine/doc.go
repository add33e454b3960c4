// Package engine answers who can do what on a [model.Estate], and why.
//
// [New] indexes an estate; [Engine.Decide] answers one question (allowed when some
// grant gives it and no denial, guardrail or ceiling stands against it) with a
// [Decision]: a three-valued outcome with every rule that had a say. Where the
// context of the call is unknown, conditions are not guessed: the outcome is
// [Conditional] and each rule carries what is left of its condition.
//
// This engine is the plain one, written to be seen to be right. It loops over
// the rules that can concern an identity and keeps no answers.
package engine
