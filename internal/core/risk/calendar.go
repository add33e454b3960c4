package risk

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
)

// Names of folders and containers that are dates: when they are over, others take their place, and what was
// used before says nothing of that.

// Numbers in names that are dates, by how many digits they have; of longer ones the first eight.
var dates = map[int]string{4: "2006", 6: "200601", 8: "20060102"}

var (
	numbers    = regexp.MustCompile(`[0-9]+`)
	fiscalYear = regexp.MustCompile(`fy[-_ ]?([0-9]{2})$`)
)

// periods is what a folder may be called after the day, the month or the year it is for.
var periods = []string{"January", "Jan", "01", "1", "m01", "m1", "06", "02", "2"}

// Dated reports whether a name says when it was used, so that another one takes its place when
// that is over: this year or one beside it, alone or with what follows, or, where all use falls
// into one, its day, week, month or quarter, or the year in two digits, and nothing else. What
// was used does not tell: that one folder was enough for eleven months says little of January.
func Dated(name string, days usage.Days, now usage.Day) bool {
	name = strings.ToLower(name)
	near := func(t time.Time, err error) bool {
		year := now.Time().Year()
		return err == nil && t.Year() >= year-1 && t.Year() <= year+1
	}
	for _, at := range numbers.FindAllStringIndex(name, -1) {
		n := name[at[0]:min(at[1], at[0]+8)]
		if layout, some := dates[len(n)]; some && near(time.Parse(layout, n)) {
			return true
		}
		if m := fiscalYear.FindStringSubmatch(name[:at[1]]); m != nil && near(time.Parse("06", m[1])) {
			return true
		}
	}
	last, some := days.Last()
	from, to := days.First().Time(), last.Time()
	if !some || from.Year() != to.Year() {
		return false
	}
	for _, layout := range periods {
		if is := to.Format(layout); is == from.Format(layout) && name == strings.ToLower(is) {
			return true
		}
	}
	quarter := func(t time.Time) string { return fmt.Sprintf("q%d", (int(t.Month())+2)/3) }
	_, week := to.ISOWeek()
	_, first := from.ISOWeek()
	return name == quarter(to) && name == quarter(from) ||
		week == first && strings.TrimPrefix(name, "w") == fmt.Sprintf("%02d", week)
}

// turns reports whether one of some nodes is called after the year of a day, with nothing behind it, and that
// year ends within the horizon, or after its month or the one before, which always does.
func turns(nodes []model.Path, day usage.Day) bool {
	return slices.ContainsFunc(nodes, func(n model.Path) bool {
		_, name := n.Last()
		return turning(name, day)
	})
}

func turning(name string, day usage.Day) bool {
	now := day.Time()
	month := func(text string) bool { // not the day before: what is a month back may be of 31 days
		return text == now.Format("200601") || text == now.AddDate(0, 0, -now.Day()).Format("200601")
	}
	digits := numbers.FindAllString(name, -1)
	for i, run := range digits {
		switch last := i == len(digits)-1; {
		case len(run) == 6 || len(run) == 8:
			if month(run[:6]) {
				return true
			}
		case len(run) != 4:
		case last:
			if run == now.Format("2006") && (day+Horizon).Time().Year() > now.Year() {
				return true
			}
		case len(digits[i+1]) == 2 && month(run+digits[i+1]):
			return true
		}
	}
	return false
}
