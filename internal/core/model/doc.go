// Package model holds the words in which Clip Fence thinks about access.
//
// Every connected system is translated into these words, and all analysis runs
// on them alone. In the order a reader meets them:
//
//   - a [Path] names a [Node] (a scope or a resource); a [PathPattern] names many;
//   - a [Permission] names one action of one service; [Rights] name many;
//   - an [ID] names an identity; [Identity] is what is known about it;
//   - a [Role] is a named set of rights, a [Grant] gives one on some places;
//   - a [Denial], a [Ceiling] and a [Guardrail] each take something back;
//   - a [Condition] says when a grant or a denial holds, judged in a [Context];
//   - the [Catalogue] says what each permission is worth and where it is logged;
//   - an [Estate] is all of this for one source, and can validate itself.
//
// # What patterns can say
//
// The only wildcards are '*', any run of characters inside one segment, and a
// last segment '**', "this node and everything below it". This is poor on
// purpose. Let f be a letter that occurs in none of the patterns at hand. A
// pattern B with its stars replaced by f is a member of B that another pattern
// can only match by swallowing f with a star, and then it matches everything
// that B does. So a union of patterns contains B exactly when one member of it
// does, and '**' only adds that the question is asked once per depth. All
// containment, overlap and emptiness questions of this package are decided
// exactly by that argument, in polynomial time; brute-force enumeration in the
// tests holds them to it.
//
// # What this package is not
//
// It decides nothing about access (see package engine), reads no files and no
// clock, and knows no particular source.
package model
