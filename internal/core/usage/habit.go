package usage

import "slices"

// A Rhythm is how often something happens, as its days show.
type Rhythm string

// The rhythms. Once stands for a single season of at most [seasonDays]: it may
// be a yearly job, and nothing in a log shorter than [conclusiveDays] can tell.
const (
	Never     Rhythm = "never"
	Once      Rhythm = "once"
	Daily     Rhythm = "daily"
	Weekly    Rhythm = "weekly"
	Monthly   Rhythm = "monthly"
	Yearly    Rhythm = "yearly"
	Irregular Rhythm = "irregular"
)

const (
	seasonDays     = 45  // a yearly job with its dry run and its repair fits into this
	seasonActive   = 12  // and is active on no more days than this
	conclusiveDays = 400 // a silence beyond a year and a month ends every habit
)

// A Habit is what the days of a use say about its future.
type Habit struct {
	Rhythm  Rhythm
	Silence int  // days since the last use, at the time asked about
	Over    bool // the silence is too long for the rhythm: it will not come back by itself
	Due     int  // for Yearly and Once: in about how many days it may be due again; else 0
}

// HabitOf reads a habit off the days on which something happened, seen from now.
// A silence is judged against the habit's own longest pause, not against a
// window: two and a half of those pauses, and at least 45 days, end it. A single
// season ends only after 400 days.
func HabitOf(days Days, now Day) Habit {
	list := days.List()
	list = slices.DeleteFunc(list, func(d Day) bool { return d > now })
	if len(list) == 0 {
		return Habit{Rhythm: Never, Over: true}
	}
	first, last := list[0], list[len(list)-1]
	h := Habit{Silence: int(now - last)}
	if int(last-first) <= seasonDays && len(list) <= seasonActive {
		h.Rhythm = Once
		h.Over = h.Silence >= conclusiveDays
		h.Due = max(0, 365-h.Silence)
		if int(now-first) <= seasonDays { // just begun: no rhythm yet, and no doubt either
			h.Due = 0
			h.Rhythm = Irregular
		}
		return h
	}
	gaps := make([]int, 0, len(list)-1)
	for i := 1; i < len(list); i++ {
		gaps = append(gaps, int(list[i]-list[i-1]))
	}
	// A job that runs on several days in a row and then pauses has its rhythm in
	// the pauses.
	pauses := slices.DeleteFunc(slices.Clone(gaps), func(g int) bool { return g <= 3 })
	longest := slices.Max(gaps)
	slices.Sort(gaps)
	typical := gaps[len(gaps)/2]
	if len(pauses) >= 2 && 4*len(pauses) >= len(list)-1 {
		slices.Sort(pauses)
		typical = pauses[len(pauses)/2]
	}
	switch {
	case longest >= 250:
		h.Rhythm = Yearly
		h.Due = max(0, 365-h.Silence)
	case typical <= 2:
		h.Rhythm = Daily
	case typical <= 9 && typical >= 5:
		h.Rhythm = Weekly
	case typical >= 24 && typical <= 35:
		h.Rhythm = Monthly
	default:
		h.Rhythm = Irregular
	}
	h.Over = h.Silence > min(conclusiveDays, max(45, longest*5/2))
	return h
}
