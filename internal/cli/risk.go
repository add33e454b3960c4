package cli

import (
	"fmt"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/render"
	"clipfence/internal/work"
)

type riskValue struct {
	Touched  int           `json:"identities_touched"`
	Expected float64       `json:"expected_to_break" doc:"how many of them are expected to have a call refused within 90 days: a guess"`
	Soon     float64       `json:"expected_to_break_within_30_days" doc:"and how many of those within 30 days"`
	Asks     float64       `json:"expected_to_ask,omitempty" doc:"how often somebody is expected to ask for what goes, within 90 days: a guess"`
	Assumed  bool          `json:"assumed,omitempty" doc:"the past is too short to learn from; what is usual elsewhere speaks"`
	Worst    []missValue   `json:"likeliest_missed"`
	Seasons  []seasonValue `json:"seasons,omitempty" doc:"who loses what it used, and did all that it ever did within one season: that may come every year"`
}

type seasonValue struct {
	Identity model.ID `json:"identity"`
	From     string   `json:"from" doc:"the first day"`
	To       string   `json:"to" doc:"the last one"`
	Due      string   `json:"due" doc:"the first day, a year later"`
}

type missValue struct {
	Identity model.ID            `json:"identity"`
	Do       []model.Permission  `json:"do" doc:"the likeliest first"`
	Where    []model.PathPattern `json:"where" doc:"empty: everywhere else"`
	Why      string              `json:"why"`
	Chance   float64             `json:"chance" doc:"of the likeliest"`
	Like     int                 `json:"like_it" doc:"so many places like it there were in the past of this estate"`
	Came     int                 `json:"needed" doc:"and so many of them were needed"`
	Days     int                 `json:"within_days"`
	Few      bool                `json:"mostly_assumed,omitempty" doc:"there were too few like it to go by"`
}

// missWords say what sort of place it is on which something may be missed.
var missWords = map[string]string{"used": "it used it there before", "peers": "somebody of its group used it there",
	"names": "names like those it used", "beside": "beside where it used it",
	"kin": "in one called like those where it used it", "near": "near where it used it",
	"rest": "further off than it ever used it", "first-here": "hardly or never used, where it does other things",
	"first-beside": "hardly or never used, beside where it works",
	"first-rest":   "hardly or never used, far from where it works",
	"dark-here":    "no log shows it, where it works", "dark-rest": "no log shows it"}

func valueOf(k *work.Risk) riskValue {
	v := riskValue{Touched: k.Touched, Expected: round(k.Expected, 1000), Soon: round(k.Soon, 1000),
		Asks: round(k.Asks, 1000), Assumed: k.Assumed, Worst: []missValue{}}
	for _, m := range k.Worst {
		out := missValue{m.Identity, m.Do, nil, missWords[m.Class.String()], round(m.Chance, 1000), m.Like, m.Came,
			m.Days, m.Few}
		for _, on := range m.Where {
			if !on.IsZero() {
				out.Where = append(out.Where, on)
			}
		}
		v.Worst = append(v.Worst, out)
	}
	for _, s := range k.Seasons {
		v.Seasons = append(v.Seasons, seasonValue{s.Identity, s.From.Format(time.DateOnly),
			s.To.Format(time.DateOnly), s.From.AddDate(1, 0, 0).Format(time.DateOnly)})
	}
	return v
}

// words say a risk in a line.
func (v *riskValue) words() string {
	switch {
	case v.Touched == 0 && v.Assumed:
		return "not known: what goes was not used, and this estate's past shows too little to say how often that " +
			"changes"
	case v.Touched == 0:
		return "none that is known: of what goes, nothing like it was needed in this estate's past"
	case v.Touched == 1:
		return fmt.Sprintf("%s that a call of it is refused within 90 days%s (a guess%s)", chance(v.Expected),
			v.soon(), v.from())
	}
	return fmt.Sprintf("%.1f of %s are expected to have a call refused within 90 days%s (a guess%s)", v.Expected,
		render.Plural(v.Touched, "identity"), v.soon(), v.from())
}

// soon says how much of a risk there is within 30 days, unless that is next to nothing as well.
func (v *riskValue) soon() string {
	switch {
	case v.Touched > 1 && v.Expected >= .05:
		return fmt.Sprintf(", %.1f within 30", v.Soon)
	case v.Touched == 1 && v.Expected >= .01:
		return fmt.Sprintf(", %s within 30", chance(v.Soon))
	}
	return ""
}

func (v *riskValue) from() string {
	if v.Assumed {
		return ", mostly from what is usual: this estate's own past shows too little"
	}
	return " from this estate's own past"
}

// chance is a chance in per cent; a small one is not said to be none.
func chance(x float64) string {
	switch {
	case x < .01:
		return "less than 1 %"
	case x > .99:
		return "more than 99 %"
	}
	return fmt.Sprintf("%.0f %%", 100*x)
}

// lines say what is likeliest missed, with the evidence.
func (v *riskValue) lines(most int) []string {
	var out []string
	for i, m := range v.Worst {
		if i == most {
			break
		}
		where := "everywhere else"
		if len(m.Where) > 0 {
			where = "on " + first(m.Where, 3)
		}
		do := m.Do[0].String()
		if n := len(m.Do) - 1; n > 0 {
			do += fmt.Sprintf(" and %d more", n)
		}
		text := fmt.Sprintf("       %s: %s %s %s; %s", chance(m.Chance), m.Identity, do, where, m.Why)
		switch {
		case m.Like > 0 && m.Few:
			text += fmt.Sprintf("; mostly an assumption: only %s like it, of which %s needed within %d days",
				render.Count(m.Like), were(m.Came), m.Days)
		case m.Like > 0:
			text += fmt.Sprintf("; of %s like it %s needed within %d days", render.Count(m.Like), were(m.Came), m.Days)
		}
		out = append(out, text)
	}
	for i, s := range v.Seasons {
		if i == most {
			out = append(out, fmt.Sprintf("       and %d more did all within one season", len(v.Seasons)-most))
			break
		}
		out = append(out, fmt.Sprintf("       %s did all that it ever did from %s to %s: if that comes every year, "+
			"it is due again on %s; chances look 90 days ahead", s.Identity, s.From, s.To, s.Due))
	}
	return out
}

func were(n int) string {
	if n == 1 {
		return "1 was"
	}
	return render.Count(n) + " were"
}
