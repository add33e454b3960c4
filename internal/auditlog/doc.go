// Package auditlog reads audit logs line by line, whatever they are packed in.
//
// [Lines] recognises plain text, gzip and zstd by their first bytes and yields
// lines with their numbers. A line that is too long or not text is yielded as
// rejected and the reading goes on; a stream that breaks off yields what was
// whole and then the error. What a line means is the business of the packages
// below this one, one a format.
package auditlog
