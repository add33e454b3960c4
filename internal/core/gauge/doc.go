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
// Counts mislead: one right to hand out rights outweighs a hundred rights to
// list things. The danger of an access is the sum, over the levels of the
// catalogue, of the level's weight times log2(1+m), where m is how many pairs of
// a permission of that level and a node of the inventory it reaches. A permission
// that lets its holder escalate counts as hand-out, whatever its level. The
// measure never falls when access grows, and doubling the places costs one weight.
package gauge
