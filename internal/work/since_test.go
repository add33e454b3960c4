package work

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// monthly returns a workspace whose estate was surveyed as it was on days 0, 30, 60 and 90 from a time on, and
// the last survey.
func monthly(t *testing.T, begin time.Time, estates [4]string) (*Workspace, *Source) {
	t.Helper()
	dir := t.TempDir()
	write := func(file, text string) {
		if err := os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("clipfence.yaml", "clipfence: 2\nsources: [{name: m, kind: files, estate: estate.yaml}]\n")
	var now time.Time
	w, err := Open(t.Context(), Options{Folder: dir, Clock: func() time.Time { return now }})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = w.Close() })
	for i, estate := range estates {
		now = begin.AddDate(0, 0, 30*i)
		write("estate.yaml", estate)
		if err := w.Survey(t.Context(), true, func(SurveyResult) {}); err != nil {
			t.Fatal(err)
		}
	}
	s, err := w.Surveyed(t.Context(), w.Sources[0])
	if err != nil {
		t.Fatal(err)
	}
	return w, s
}

// TestGrantedSince: a grant that stands in the place of one that gave the same, by what kept surveys
// show, is as old as that; one that gives another thing, or was given back after it had been gone, is
// as old as it says.
func TestGrantedSince(t *testing.T) {
	begin := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	day := func(n int) time.Time { return begin.AddDate(0, 0, n) }
	// A grant is said as ID@DAY of its making, ID@ for one that does not say, and with what it gives
	// after a colon, if not the usual. Surveys are on days 0, 30, 60 and 90.
	for name, tt := range map[string]struct {
		surveys [4]string
		want    int // day since when the one of the last survey gives what it gives; its own: -1
	}{
		"stays":                      {[4]string{"a@-90", "a@-90", "a@-90", "a@-90"}, -1},
		"under another name":         {[4]string{"a@-90", "a@-90", "a@-90", "b@75"}, -90},
		"under the same":             {[4]string{"a@-90", "a@-90", "a@-90", "a@75"}, -90},
		"again and again":            {[4]string{"a@-90", "b@20", "c@50", "d@80"}, -90},
		"both for a while":           {[4]string{"a@-90", "a@-90", "a@-90 b@50", "b@50"}, -90},
		"both for long":              {[4]string{"a@-90 b@-20", "a@-90 b@-20", "a@-90 b@-20", "b@-20"}, -1},
		"it was gone":                {[4]string{"a@-90", "a@-90", "", "b@80"}, -1},
		"it gives more":              {[4]string{"a@-90", "a@-90", "a@-90", "b@75:scrap"}, -1},
		"for somebody else":          {[4]string{"a@-90", "a@-90", "a@-90", "b@75:read for person/b"}, -1},
		"elsewhere":                  {[4]string{"a@-90", "a@-90", "a@-90", "b@75:read on /m/box:a"}, -1},
		"of one that does not say":   {[4]string{"a@", "a@", "a@", "b@75"}, 0},
		"and was first seen later":   {[4]string{"", "a@", "a@", "b@75"}, 30},
		"kept beside the place":      {[4]string{"a@-90", "a@-90", "a@-90", "b@75:read kept place"}, -90},
		"the first was not the same": {[4]string{"a@-90:scrap", "b@20", "b@20", "c@80"}, 20},
	} {
		t.Run(name, func(t *testing.T) {
			var estates [4]string
			for i, text := range tt.surveys {
				estate := "estate: 2\nsource: m\ncatalogue:\n  - {permission: \"s/box:read\", level: read}\n" +
					"  - {permission: \"s/box:scrap\", level: administer}\n" +
					"nodes: [{path: /m}, {path: \"/m/box:a\"}]\n" +
					"identities: [{id: person/a}, {id: person/b}]\ngrants:\n" +
					"  - {id: other, to: person/b, do: [\"s/*:*\"], where: [/m]}\n"
				for g := range strings.SplitSeq(text, " ") {
					if g == "" || !strings.Contains(g, "@") {
						continue
					}
					id, made, _ := strings.Cut(g, "@")
					made, do, _ := strings.Cut(made, ":")
					if do == "" {
						do = "read"
					}
					to, on, more := "person/a", "/m/**", ""
					if words := strings.Fields(text); len(words) > 2 && words[1] == "for" {
						to = words[2]
					} else if len(words) > 2 && words[1] == "on" {
						on = words[2]
					} else if len(words) > 2 && words[1] == "kept" {
						more = ", kept_with: " + words[2]
					}
					if made != "" {
						var n int
						if _, err := fmt.Sscan(made, &n); err != nil {
							t.Fatal(err)
						}
						more += ", created: " + day(n).Format(time.RFC3339)
					}
					estate += fmt.Sprintf("  - {id: %s, to: %s, do: [\"s/box:%s\"], where: [%q]%s}\n", id, to, do,
						on, more)
				}
				estates[i] = estate
			}
			w, s := monthly(t, begin, estates)
			since, err := w.grantedSince(t.Context(), s)
			if err != nil {
				t.Fatal(err)
			}
			at := slices.IndexFunc(slices.Collect(func(yield func(string) bool) {
				for i := range s.GrantNumbers() {
					if !yield(s.Grant(i).ID) {
						return
					}
				}
			}), func(id string) bool { return id != "other" })
			got := time.Time{}
			if since != nil {
				got = since(s.Grant(at))
			}
			if tt.want == -1 && !got.IsZero() || tt.want != -1 && !got.Equal(day(tt.want)) {
				t.Errorf("since %s, want day %d, %s", got, tt.want, day(tt.want))
			}
		})
	}
}
