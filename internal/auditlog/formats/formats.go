// Package formats lists the log formats that are known, for one source.
package formats

import (
	"time"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/cadf"
	"clipfence/internal/auditlog/kubernetes"
	"clipfence/internal/auditlog/ldap"
	"clipfence/internal/auditlog/ocsf"
	"clipfence/internal/auditlog/postgresql"
)

// For returns a maker of fresh readers for the logs of what the estate calls
// source, in which zone says what abbreviations of time zones mean; it may be nil. Log maps
// come last: they are for what no format knows.
func For(source string, zone *time.Location, maps ...func() auditlog.Format) func() []auditlog.Format {
	return func() []auditlog.Format {
		out := []auditlog.Format{ocsf.New(), kubernetes.New(source), cadf.New(source), postgresql.New(source, zone),
			ldap.New(source)}
		for _, m := range maps {
			out = append(out, m())
		}
		return out
	}
}
