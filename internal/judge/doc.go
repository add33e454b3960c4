// Package judge holds the core against Mooring's own evaluator, and the laws of
// the model against random estates. It has tests only: the core and the sandbox
// share no code, and here is the one place where both are seen.
package judge
