// Package change carries a set of changes out against a source: guard, write
// ahead, do, confirm, undo.
//
// [Plan] turns a fence into a [Change]: a list of steps, each of which replaces
// one document that must still be as it was read. What is narrower is added
// before what is broader is removed. [Guards] says why a change must not be made.
// [Run] writes the change to the ledger before it touches the source and each
// step before and after it is done, so that whatever happens, [History] knows how
// far it came and [Run] can go on, or [Change.Undo] take it back.
package change
