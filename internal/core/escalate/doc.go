// Package escalate finds who can give itself more than it has: by editing grants or a
// role it holds, joining a group, minting a credential, changing code that runs as
// another, lifting a ceiling or a guardrail, and by acting as others, in any number of
// steps; and which grants to take away so that nobody can. Beside that it tells where people can
// hand out rights as they are meant to ([Stewards]), and where nobody could after a change ([Orphans]).
//
// # What counts as a step
//
// A permission that the catalogue marks as escalating lets its holder:
//
//   - edit-grants on a node: give itself anything on that node and below;
//   - edit-role: get everything on the places where it holds a role that is not built in;
//   - join-group: become a member of any group;
//   - mint-credential and run-as: become any identity;
//   - lift-ceiling, lift-guardrail, lift-denial: do what only those kept it from.
//
// Groups, roles, credentials, ceilings and guardrails have no place of their own; a
// permission to change them counts where it is held on the top node of the source; one
// to lift a denial, where it is held on every place of the denial.
// Minting or running code further down counts only on a node that the inventory says
// runs as somebody (runs_as); whose credential it would be is otherwise not known, and
// no step is claimed. Whoever is administrator of a node may grant itself whatever is
// needed there for a next step.
//
// Every step is checked against the denials, guardrails and ceilings of whoever takes it;
// a grant or a step under conditions counts, and is told as conditional.
//
// # How it is computed
//
// A move is one permission at one place ([New]). Who holds it is asked of the grants of one
// identity, or worked out of everybody at once (mine.go). For
// each identity its moves are saturated: what it joins and lifts gives it more moves.
// That leaves a graph of who can become whom, and a search back from the
// administrators of a node finds everybody who can become one ([Graph.CanBecome]).
//
// The smallest set of grants is a minimum cut between them and the node, found by
// blocking flows (Dinic, 1970) over the graph of groups, grants and act-as edges, then
// tried: nobody may get there without it, and it holds nothing that is not needed.
package escalate
