// Package sandbox is Mooring, the stand-in cloud that every command can be tried
// on and that every test of the core is judged by.
//
// A [Cloud] keeps documents (nodes, identities, memberships, roles, grants,
// denials, ceilings, guardrails, log settings) in a folder, decides calls with
// an evaluator of its own, and writes an OCSF audit log beside them.
// [Cloud.Handler] serves it as the bridge protocol, which openapi.yaml states.
//
// Because Mooring judges the core it shares nothing with it: its types, its
// matching of paths and its evaluator are written a second time here, as a plain
// loop over rules. Nothing in this package may import internal/core.
package sandbox
