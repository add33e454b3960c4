package usage

import (
	"fmt"
	"testing"

	"clipfence/internal/core/model"
)

// TestQuiet: of gaps what lies on days on which nobody worked is none, at that place and below, in the logs
// of that service.
func TestQuiet(t *testing.T) {
	quiet := func(on, service string, from, to Day) Quiet {
		return Quiet{model.MustPathPattern(on), service, from, to}
	}
	for _, tt := range []struct {
		name  string
		quiet []Quiet
		want  string
	}{
		{"nothing is said", nil, "[{10 20 false} {40 45 true}]"},
		{"one of them", []Quiet{quiet("/m/**", "", 10, 20)}, "[{40 45 true}]"},
		{"more than that", []Quiet{quiet("/m/**", "", 5, 50)}, "[]"},
		{"its beginning", []Quiet{quiet("/m/**", "", 1, 12)}, "[{13 20 false} {40 45 true}]"},
		{"its end", []Quiet{quiet("/m/**", "", 20, 30)}, "[{10 19 false} {40 45 true}]"},
		{"its middle", []Quiet{quiet("/m/**", "", 15, 15)}, "[{10 14 false} {16 20 false} {40 45 true}]"},
		{"between them", []Quiet{quiet("/m/**", "", 21, 39)}, "[{10 20 false} {40 45 true}]"},
		{"in two parts", []Quiet{quiet("/m/**", "", 10, 14), quiet("/m/a:a/**", "stow", 15, 44)},
			"[{45 45 true}]"},
		{"another service", []Quiet{quiet("/m/**", "locker", 10, 20)}, "[{10 20 false} {40 45 true}]"},
		{"another place", []Quiet{quiet("/m/b:b/**", "", 10, 20)}, "[{10 20 false} {40 45 true}]"},
		{"a part of the place", []Quiet{quiet("/m/a:a/c:c/**", "", 10, 20)}, "[{10 20 false} {40 45 true}]"},
		{"the place alone, and not below", []Quiet{quiet("/m/a:a", "", 10, 20)}, "[{10 20 false} {40 45 true}]"},
	} {
		r := Read{Quiet: tt.quiet}
		got := r.besides(model.MustPath("/m/a:a"), "stow", []Gap{{From: 10, To: 20}, {From: 40, To: 45, Partly: true}})
		if s := fmt.Sprint(got); s != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, s, tt.want)
		}
	}
}
