package cli_test

import (
	"bytes"
	"encoding/xml"
	"image/png"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

type backtested struct {
	Callers int   `json:"callers"`
	Survey  int64 `json:"survey"`
	Days    int   `json:"days_since"`
	Ways    []way `json:"ways"`
	Picked  *struct {
		Caution, Then string
		Callers       int
		Met           bool
		Before, Since struct {
			Way     string
			Broken  int
			Removed float64 `json:"danger_removed"`
		}
	}
	All     []chances `json:"chances_of_all"`
	Dropped []chances `json:"chances_of_dropped"`
}

type way struct {
	Way     string  `json:"way"`
	Broken  int     `json:"broken"`
	Early   int     `json:"broken_in_30_days"`
	Places  int     `json:"refused"`
	Removed float64 `json:"danger_removed"`
}

type chances struct {
	Places, Needed int
}

// TestBacktest: drafts are tried on the past of the estate, and nothing is changed by it.
func TestBacktest(t *testing.T) {
	t.Parallel()
	l := serve(t)
	must(t, l.dir, "survey")
	before := must(t, l.dir, "reach", "workload/ticket-export", "--format", "json")
	v := decode[backtested](t, l.dir, "rehearse", "--backtest", "--as-of", asOf)
	if v.Days != 90 || v.Callers < 50 || v.Survey != 0 || len(v.Ways) != 10 {
		t.Errorf("%d days, %d callers, survey %d, %d ways", v.Days, v.Callers, v.Survey, len(v.Ways))
	}
	for _, w := range v.Ways {
		if w.Removed < .5 || w.Removed > 1 || w.Early > w.Broken || w.Broken > w.Places || w.Broken > v.Callers {
			t.Errorf("%+v", w)
		}
		// The life of the sample estate goes its way: whoever has the leaver of it broken judged
		// the account of then by today's.
		if strings.HasPrefix(w.Way, "drafts") && w.Broken > 1 {
			t.Errorf("%s broke %d", w.Way, w.Broken)
		}
	}
	n := 0
	for _, c := range v.All {
		n += c.Needed
	}
	if n < 100 {
		t.Errorf("%d places were needed since", n)
	}
	if after := must(t, l.dir, "reach", "workload/ticket-export", "--format", "json"); after != before {
		t.Error("something changed")
	}
	if drafts, err := filepath.Glob(filepath.Join(l.dir, "drafts", "*")); err != nil || len(drafts) > 0 {
		t.Errorf("%v was written, %v", drafts, err)
	}

	// A caution is picked on the days before, and told of on the others.
	v = decode[backtested](t, l.dir, "rehearse", "--backtest", "--as-of", asOf, "--ago", "45d", "--at-most", "2%")
	p := v.Picked
	if p == nil || !p.Met || p.Callers < 50 || p.Before.Broken > p.Callers/50 || p.Before.Removed < .5 ||
		p.Before.Way != p.Since.Way || p.Before.Way != "drafts, caution "+p.Caution ||
		!slices.ContainsFunc(v.Ways, func(w way) bool {
			return w.Way == p.Since.Way && w.Removed == p.Since.Removed && w.Broken == p.Since.Broken
		}) {
		t.Errorf("picked %+v of %+v", p, v.Ways)
	}

	for _, name := range []string{"curve.svg", "curve.PNG"} {
		must(t, l.dir, "rehearse", "--backtest", "--as-of", asOf, "--plot", name)
		data, err := os.ReadFile(filepath.Join(l.dir, name))
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(name, ".svg") {
			for d := xml.NewDecoder(bytes.NewReader(data)); ; {
				if _, err := d.Token(); err == io.EOF {
					break
				} else if err != nil {
					t.Fatal(err)
				}
			}
		} else if _, err := png.Decode(bytes.NewReader(data)); err != nil {
			t.Error(err)
		}
	}
	for _, tt := range []struct {
		args []string
		want string
	}{
		{[]string{"--backtest", "--plot", "curve.svg"}, "curve.svg is there already; to write over it: --force"},
		{[]string{"--backtest", "--plot", "curve.gif"}, "ends in none of .svg, .png"},
		{[]string{"--backtest", "--plot", "none/curve.svg"}, "no such file or directory"},
		{[]string{"--backtest", "--ago", "500d"}, "the past is too short"},
		{[]string{"--backtest", "--at-most", "2"}, "since --at-most picks on days before those that it tells of"},
		{[]string{"--backtest", "--at-most", "2", "--ago", "60d"}, "hardly anybody's access could be narrowed"},
		{[]string{"--backtest", "--at-most", "0%"}, "above 0 %"},
		{[]string{"--backtest", "--at-most", "few"}, "such as 3, or a share"},
		{[]string{"--at-most", "2", "x"}, "go with --backtest"},
		{[]string{"--backtest", "--ago", "0d"}, "is not positive"},
		{[]string{"--backtest", "x"}, "say no fence with it"},
		{[]string{"--plot", "curve.svg", "x"}, "go with --backtest"},
		{[]string{"--ago", "30d", "x"}, "go with --backtest"},
		{[]string{"--backtest", "--all"}, "--all is about one fence"},
		{nil, "say which fence"},
	} {
		code, _, errs := run(t, l.dir, append([]string{"rehearse", "--as-of", asOf}, tt.args...)...)
		if code == 0 || !strings.Contains(errs, tt.want) {
			t.Errorf("%v: %d, %s", tt.args, code, errs)
		}
	}
}
