// Package snapshot keeps the index of a surveyed estate in a file that a cold command
// can question at once.
//
// # Form
//
// All numbers are little-endian. A file begins with the text "CLIPFENCE INDEX" and a
// newline, the version of the columns as a 32-bit number, and the length of the head
// as another. The head follows as JSON: the key of the survey, and of each column its
// name, offset, length and CRC-32C (RFC 3720, appendix B.4). The CRC-32C of the head
// comes right behind it. Columns begin at multiples of 64 bytes, lines of a cache, and
// are used where they are in the mapped file.
//
// A file is only believed if its version is this one's, its key is that of the survey
// asked for, and every checksum holds: [Open] returns [ErrOther] or [ErrDamaged]
// otherwise, and the caller makes it anew. It is written beside and renamed, so that a
// killed process leaves the old one or the new one.
package snapshot
