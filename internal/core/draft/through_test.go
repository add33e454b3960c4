package draft_test

import (
	"errors"
	"strings"
	"testing"

	"clipfence/internal/core/draft"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/gauge/gaugetest"
	"clipfence/internal/core/model"
)

// TestThrough: whoever is asked about and has nothing by name is told by whom it has what it has.
func TestThrough(t *testing.T) {
	const read = " stow/item:read /m/berth:x/**\n"
	for _, tt := range []struct{ scene, want string }{
		{"", "no grant names it, nor a group that it is in"},
		{"grant g1 group/g" + read, "comes by group/g, which can be drafted for"},
		{"grant g1 group/g" + read + "grant g2 group/g stow/item:find /m/**\n", "comes by group/g, which can"},
		{"grant g1 group/g" + read + "grant g2 group/h" + read + "member person/p group/h\n",
			"comes by group/g and group/h, which can be drafted for"},
		{"grant g1 group/g" + read + "grant g2 everyone" + read, "comes by everyone and group/g, which can"},
		{"grant g1 group/g" + read + "grant g2 everyone" + read + "grant g3 signed-in" + read + "grant g4 group/h" +
			read + "member person/p group/h\n", "comes by everyone, group/g, group/h and 1 more, which can"},
	} {
		in, err := gaugetest.Parse("member person/p group/g\nused person/p stow/item:read /m/berth:x/box:b1 1-60\n" +
			tt.scene)
		if err != nil {
			t.Fatal(err)
		}
		_, err = draft.FromUse(in, gauge.Run(in), model.MustID("person/p"), draft.Options{})
		if !errors.Is(err, draft.ErrNothing) || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%q: %v, want %q", tt.scene, err, tt.want)
		}
	}
}

// TestFitting: why nothing of a grant can go is counted, one permission as one.
func TestFitting(t *testing.T) {
	const on = " /m/berth:x/box:b1/**"
	for text, want := range map[string]string{
		"grant g1 workload/a stow/item:read": "its grant gives 1 permission: 1 used",
		"grant g1 workload/a stow/item:read,quiet/thing:do": "its grant gives 2 permissions: 1 used, 1 that no log " +
			"would have shown (clipfence coverage)",
	} {
		in, err := gaugetest.Parse(text + on + "\nused workload/a stow/item:read /m/berth:x/box:b1/x 1-90")
		if err != nil {
			t.Fatal(err)
		}
		_, err = draft.FromUse(in, gauge.Run(in), model.MustID("workload/a"), draft.Options{})
		if !errors.Is(err, draft.ErrNothing) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}
