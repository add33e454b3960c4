// Package render turns answers into what people and programs read.
//
// A command hands over a [Doc]: a headline that is the answer, tables, remarks,
// what to do next, and the same answer as a value for programs. [Doc.Write] prints
// it as a table, JSON, YAML, CSV or Markdown. [Clean] makes text from outside safe
// for a terminal; every cell goes through it, or through its kin for the format.
package render
