package work

import (
	"errors"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/access/index"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/review"
	"clipfence/internal/core/usage"
)

// TestShadowEnds: the days for which a draft is watched are over when they were seen: the log was read
// to their end, and shows something of it. A log that stopped refuses nobody.
func TestShadowEnds(t *testing.T) {
	x, err := index.Build(&model.Estate{Source: "m"})
	if err != nil {
		t.Fatal(err)
	}
	s := &Source{Index: x}
	begin := time.Date(2026, 6, 1, 8, 0, 0, 0, time.UTC)
	day := func(n float64) time.Time { return begin.Add(time.Duration(n * 24 * float64(time.Hour))) }
	for _, tt := range []struct {
		name                 string
		until, now, read     float64 // days
		newest               float64
		over, unread, silent bool
	}{
		{"it goes on", 14, 10, 10, 10, false, false, false},
		{"over", 14, 15, 15, 15, true, false, false},
		{"to the very end", 14, 14, 14, 14, true, false, false},
		{"not read since", 14, 20, 13.9, 13.9, false, true, false},
		{"read, and nothing came for three days", 14, 15, 15, 11, true, false, false},
		{"read, and nothing came for five", 14, 15, 15, 9, false, false, true},
		{"nothing ever came", 14, 15, 15, -400, false, false, true},
		{"of two days nothing of the second", 2, 3, 3, 0.9, false, false, true},
		{"of two days something of the second", 2, 3, 3, 1.1, true, false, false},
	} {
		d := &review.Decision{At: begin, Until: day(tt.until)}
		got := shadow(s, &fence.Fence{For: model.MustID("m:person/a")}, usage.ListOf(), d,
			LogEnd{Read: day(tt.read), Newest: day(tt.newest)}, day(tt.now))
		if got.Over != tt.over || got.Unread != tt.unread || got.Silent != tt.silent {
			t.Errorf("%s: %+v", tt.name, got)
		}
	}
}

// TestSaw: a stage of which the log shows nothing was not watched, whatever nobody was refused.
func TestSaw(t *testing.T) {
	newest := time.Date(2026, 6, 1, 8, 0, 0, 0, time.UTC)
	for _, tt := range []struct {
		name  string
		log   string
		began time.Duration // after the newest event
		watch time.Duration
		want  string
	}{
		{"events came", "2026-06-01T08:00:00Z", -time.Minute, time.Hour, ""},
		{"clocks differ", "2026-06-01T08:00:00Z", 50 * time.Second, time.Hour, ""},
		{"none came", "2026-06-01T08:00:00Z", 5 * time.Minute, time.Hour, "no event since 2026-06-01T08:00:00Z"},
		{"nor was it to be watched", "2026-06-01T08:00:00Z", 5 * time.Minute, 0, ""},
		{"none ever", "", 0, time.Hour, "no event at all"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			dir := t.TempDir()
			files := map[string]string{
				"clipfence.yaml": "clipfence: 2\nsources: [{name: m, kind: files, estate: estate.yaml, " +
					"logs: [log.jsonl], log_maps: [map.yaml]}]\n",
				"estate.yaml": "estate: 2\nsource: m\ncatalogue: [{permission: \"s/box:read\", level: read}]\n" +
					"nodes: [{path: /m}]\nidentities: [{id: person/a}]\n",
				"map.yaml": "logmap: 1\nname: m\nform: json\ntime: r.t\nidentity: '\"a\"'\nkind: '\"person\"'\n" +
					"permission: '\"s/box:read\"'\npath: '\"/m\"'\n",
				"log.jsonl": "",
			}
			if tt.log != "" {
				files["log.jsonl"] = `{"t":"` + tt.log + `"}` + "\n"
			}
			w := opened(t, dir, newest.Add(2*time.Hour), files)
			if err := w.Survey(t.Context(), false, func(SurveyResult) {}); err != nil {
				t.Fatal(err)
			}
			o := &stageEntry{Source: "m", Stage: 1, Of: 2, Watch: model.Duration(tt.watch)}
			err := (&Stages{w: w}).saw(t.Context(), o, newest.Add(tt.began))
			if tt.want == "" && err != nil || tt.want != "" && (!errors.Is(err, ErrUnseen) ||
				!strings.Contains(err.Error(), tt.want)) {
				t.Errorf("%v, want %q", err, tt.want)
			}
		})
	}
}
