// Package auditlog reads audit logs, whatever they are packed in.
//
// [Open] recognises plain text, gzip and zstd by their first bytes. [Chunks] cuts a
// stream into runs of whole lines, bounded in memory whatever the input: a line that
// is too long is passed over and told, a stream that breaks off yields what was
// whole and then the error. A [Format] turns one record into [Event]s in the log's
// own words; the packages below this one are formats. Package fold makes uses of
// them.
package auditlog
