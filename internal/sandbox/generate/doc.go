// Package generate makes estates for Mooring and the daily life in them.
//
// [Estate] founds the sample estate, Ternhaven Ferries, or a larger one of the
// same kind, from a seed: the tree, the people and workloads, their grants, and
// a [script] for each thing that somebody does. Then [Write] plays the scripts
// over so many days, asks Mooring's evaluator about each call, and writes the
// audit log that Mooring would have written: a class that is switched off
// somewhere leaves no line.
//
// The faults that were planted, and what must not be cut, are the [Truth]. It is
// written to a file of its own, which only tests read.
package generate
