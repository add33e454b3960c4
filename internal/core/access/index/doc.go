// Package index answers who can do what, and why, on estates of any size, as they are and as
// they would be ([Index.With]).
//
// [Build] turns an estate into flat columns of numbers. Identities, permissions,
// places (distinct path patterns) and nodes are numbered; nodes in depth-first order,
// so that a subtree is an interval; every node that a place names is a node here, in
// the inventory or not, so that each place without a wildcard is exactly one interval.
// A set of rights is a bitmap over the catalogue, kept as the words that are not zero.
// The columns are bytes: what [Build] makes and what [Load] finds in a mapped file are
// the same thing, and a cold question touches only the pages it needs.
//
// # How questions are answered
//
// [Index.Decide] finds the places that match a path by climbing from the deepest known
// node at or above it: a place matches if it hangs on one of these nodes and is deep,
// or names the path itself, or holds a wildcard and matches it. That is exact for paths
// that no inventory lists. It then looks at the grants of the closure only, and at the
// denials and guardrails of these places only, and returns what the plain engine would,
// way by way.
//
// [Index.Who] goes the other way: from the matching places to the grants on them, down
// through the groups to everybody in them.
//
// [Walk.Totals] sums up everything an identity can do without expanding a pair: the
// spans of its rules nest, so one pass in depth-first order with an undo log keeps
// the bitmaps of what is granted and refused, and counts what changes on the nodes of the
// span that are of its kinds, by bitmaps of nodes with ranks.
//
// # Edited views
//
// [Index.With] makes another index that shares the columns. What an edit reaches has lists of
// its own beside the shared ones, and what comes has numbers behind all others; so nothing
// that was worked out for the rest is lost. A place that is new hangs on the deepest node
// that is known at or above it and is matched by its pattern, like one with a wildcard.
//
// Package plain is the oracle of this one; tests hold the two, views included, and Mooring
// against each other.
package index
