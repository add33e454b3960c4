// Package access holds the words of an answer to the question who may do what: a
// [Decision] with every [Way] that leads there and every [Refusal] that stands against it,
// the [Holding]s of an identity, sets of permissions by number ([Set]), and an [Edit], the
// estate as it would be.
//
// There is no engine here. Package index answers on estates of any size; package plain is
// written to be seen to be right, and is what tests hold the other against.
package access
