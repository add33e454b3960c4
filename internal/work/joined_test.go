package work

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestJoined: who is in a group that an earlier survey shows without it joined with the first one that shows it
// there. Who was always in it, who came back, and who is on a list that was not read before, did not.
func TestJoined(t *testing.T) {
	begin := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	// Who is in the group by each survey, on days 0, 30, 60 and 90.
	for name, tt := range map[string]struct {
		surveys [4]string
		want    string // who joined, and on which day
	}{
		"all were always there":      {[4]string{"a b c", "a b c", "a b c", "a b c"}, ""},
		"one came":                   {[4]string{"a b c", "a b c", "a b c d", "a b c d"}, "d 60"},
		"one after the other":        {[4]string{"a b c", "a b c d", "a b c d", "a b c d e"}, "d 30, e 90"},
		"one came and went":          {[4]string{"a b c", "a b c d", "a b c", "a b c"}, ""},
		"one went and came back":     {[4]string{"a b c", "a b", "a b", "a b c"}, ""},
		"the list was not read":      {[4]string{"", "a b c", "a b c", "a b c"}, ""},
		"nor at first, and one came": {[4]string{"", "a b c", "a b c", "a b c d"}, "d 90"},
		"half of all came":           {[4]string{"a b", "a b", "a b c d", "a b c d"}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			var estates [4]string
			for i, in := range tt.surveys {
				estate := "estate: 2\nsource: m\ncatalogue: [{permission: \"s/box:read\", level: read}]\n" +
					"nodes: [{path: /m}]\nidentities: [{id: group/g}"
				for _, who := range "abcde" {
					estate += fmt.Sprintf(", {id: person/%c}", who)
				}
				estate += "]\nmemberships:"
				for who := range strings.FieldsSeq(in) {
					estate += fmt.Sprintf("\n  - {member: person/%s, group: group/g}", who)
				}
				if in == "" {
					estate += " []"
				}
				estates[i] = estate + "\ngrants: [{id: g, to: group/g, do: [\"s/*:*\"], where: [\"/m/**\"]}]\n"
			}
			w, s := monthly(t, begin, estates)
			_, joined, err := w.before(t.Context(), s)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for m, at := range joined {
				got = append(got, fmt.Sprintf("%s %d", m.Member.Name, int(at.Sub(begin).Hours()/24)))
			}
			slices.Sort(got)
			if is := strings.Join(got, ", "); is != tt.want {
				t.Errorf("joined: %s, want %s", is, tt.want)
			}
		})
	}
}
