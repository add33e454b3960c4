// Package usage folds what identities did into uses, and says how far the logs
// behind them can be trusted.
//
// A [Call] is one event of a log. [Fold] merges calls that agree on a [Key] into
// a [Use]: how often, first, last, and on which days. Folding is associative and
// order-free, and [Seen] makes it idempotent: an event counted once is never
// counted again, however its log is split, ordered or repeated.
//
// [Uses] holds what was folded: as numbers, in the order of callers, some sixty bytes a
// use, and read principal by principal. A [Gather] puts parts together into one.
//
// [Habit] reads a rhythm off the days of a use and says whether a silence is
// long enough to mean anything. [Coverage] says which permissions a log would
// have shown, where, and over which share of a window: what it would not have
// shown is unobservable, never unused.
package usage
