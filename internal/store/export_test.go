package store

import "strings"

// Migrations returns the SQL of the first n migrations.
func Migrations(n int) string {
	var b strings.Builder
	for _, m := range migrations[:n] {
		b.WriteString(m.sql)
	}
	return b.String()
}
