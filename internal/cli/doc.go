// Package cli is the command line: one file a command, each of which parses, asks
// the packages below, and renders. [Main] is the only place that prints an error
// and chooses the exit code.
package cli
