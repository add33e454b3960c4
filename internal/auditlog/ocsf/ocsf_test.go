package ocsf_test

import (
	"os"
	"testing"

	"clipfence/internal/auditlog"
	"clipfence/internal/auditlog/ocsf"
)

// What events mean is told by the samples of package formats.

func BenchmarkParse(b *testing.B) {
	data, err := os.ReadFile("../../../docs/examples/logs/2026-11.jsonl")
	if err != nil {
		b.Fatal(err)
	}
	f := ocsf.New()
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		c := auditlog.Chunk{Line: auditlog.At(1), Data: data}
		for _, record := range c.Records(false) {
			if err := f.Parse(record, func(*auditlog.Event) error { return nil }); err != nil {
				b.Fatal(err)
			}
		}
	}
}
