// Package cli is the command line: one file a command, each of which parses flags, asks
// package work, and renders what comes back. It computes nothing and keeps nothing: what it
// may import is that package, the words of the model, render, and the sandbox that it serves.
// [Main] is the only place that prints an error and chooses the exit code.
package cli
