// Package store keeps what was surveyed and decided, in one SQLite file.
//
// A survey is written batch by batch, each in a transaction with its cursor, so
// that an interrupted one goes on where it stopped; several surveys are kept and
// the newest finished one of a source is the default. Log batches are folded into
// uses in the same transaction that remembers their events and their cursor: a
// process that is killed at any moment has counted a batch wholly or not at all.
package store
