// Package backtest asks what drafts of some days ago would have done since.
//
// [Run] takes an estate and its uses as of a past day and what was called in the days after it.
// Everybody is drafted for as of then, at several cautions; all drafts stand together, and the
// calls are made again. Three simple rules are judged in the same way, grant by grant, and
// hindsight, which keeps what was called since and nothing else: what it leaves cannot go
// without breaking something, so of the danger only what lies above it counts.
//
// What was said to be likely is held against what happened: how many parts ([risk.Part]) of each
// chance were needed, of all and of those that the drafts took away. The second is what a
// user should look at, since a draft takes those whose chance came out too low.
//
// Whoever picks the caution that did best, and tells how well it did, tells too much: it was
// picked for that. So one is picked on an earlier stretch of the past ([Curve], [Boldest]), and
// what it did is told of the later one.
//
// What no log shows has no outcome here either: it is neither broken nor counted.
package backtest
