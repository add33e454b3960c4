// Package formats lists every log format that needs no map of its own.
package formats

import (
	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/ocsf"
)

// All returns a fresh reader of each format; the most common comes first.
func All() []auditlog.Format {
	return []auditlog.Format{ocsf.New()}
}
