package usage_test

import (
	"testing"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// TestStrangers: names stand for themselves, stars for runs of characters, and a crowd is no caller.
func TestStrangers(t *testing.T) {
	s, err := usage.NewStrangers([]string{"workload/scanner", "person/*@quay.example"})
	if err != nil {
		t.Fatal(err)
	}
	for id, want := range map[string]bool{"workload/scanner": true, "person/scanner": false,
		"person/a@quay.example": true, "person/a@quay.example.org": false, "workload/a@quay.example": false} {
		if got := s.Has(model.MustID(id)); got != want {
			t.Errorf("%s is one of them: %t, want %t", id, got, want)
		}
	}
	for _, name := range []string{"everyone", "signed-in", "", "robot/x"} {
		if _, err := usage.NewStrangers([]string{"person/a", name}); err == nil {
			t.Errorf("%q is taken for a caller", name)
		}
	}
}
