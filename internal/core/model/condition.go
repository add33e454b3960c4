package model

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // zones must be there on a machine without any
)

// A Condition is a conjunction: it holds when each of its parts does. The zero
// Condition always holds.
type Condition struct {
	Networks     []netip.Prefix    `json:"networks,omitempty" doc:"CIDR blocks; the call must come from one of them"`
	SecondFactor bool              `json:"second_factor,omitempty" doc:"the caller must have shown a second factor"`
	Hours        *Hours            `json:"hours,omitempty" doc:"weekly hours in which the call must fall"`
	Labels       map[string]string `json:"labels,omitempty" doc:"labels that the resource must carry"`
	From         time.Time         `json:"from,omitzero" doc:"holds from this time on"`
	Until        time.Time         `json:"until,omitzero" doc:"holds before this time"`
	Opaque       []string          `json:"opaque,omitempty" doc:"what the source says and this model cannot; kept word for word, never guessed at"`
}

// Hours are the weekdays and the time of day, in a zone, at which something
// holds. A To at or before From runs past midnight into the next day; the day
// that counts is the one on which the span began.
type Hours struct {
	Days []string `json:"days" doc:"mon, tue, wed, thu, fri, sat, sun"`
	From string   `json:"from" doc:"HH:MM"`
	To   string   `json:"to" doc:"HH:MM, not included"`
	Zone string   `json:"zone" doc:"IANA time zone, such as Europe/Oslo"`
}

// A Context is what is known about one call. Zero fields are unknown.
type Context struct {
	Time         time.Time
	Network      netip.Addr
	Block        netip.Prefix // where only the block of the address is known
	SecondFactor Truth
	Labels       map[string]string // of the resource; nil is unknown, empty is none
	Times        Times             // of calls of which no single time is known
}

// Times is what is known of when some calls were: they were at some of these hours on some of these
// weekdays, in UTC, from First to Last. The zero Times knows nothing.
type Times struct {
	First, Last time.Time
	Hours       uint32 // by bit, from midnight; 0: not known
	Weekdays    uint8  // by bit, from Sunday
}

// Truth is a three-valued answer. The zero Truth is Open: not known.
type Truth int8

// The three values.
const (
	Open Truth = iota
	True
	False
)

// TruthOf turns a bool into a Truth.
func TruthOf(b bool) Truth {
	if b {
		return True
	}
	return False
}

// String returns "yes", "no" or "unknown".
func (t Truth) String() string { return [...]string{"unknown", "yes", "no"}[t] }

// IsZero reports whether c always holds. It serves JSON's omitzero too.
func (c Condition) IsZero() bool {
	return len(c.Networks) == 0 && !c.SecondFactor && c.Hours == nil && len(c.Labels) == 0 &&
		c.From.IsZero() && c.Until.IsZero() && len(c.Opaque) == 0
}

// Eval judges c in ctx. It returns True or False when ctx decides, and otherwise
// Open with the parts of c that are left.
func (c Condition) Eval(ctx Context) (Truth, Condition) {
	var rest Condition
	if len(c.Networks) > 0 {
		switch ctx.from(c.Networks) {
		case Open:
			rest.Networks = c.Networks
		case False:
			return False, Condition{}
		}
	}
	if c.SecondFactor {
		switch ctx.SecondFactor {
		case Open:
			rest.SecondFactor = true
		case False:
			return False, Condition{}
		}
	}
	if len(c.Labels) > 0 {
		if ctx.Labels == nil {
			rest.Labels = c.Labels
		} else {
			for k, v := range c.Labels {
				if got, ok := ctx.Labels[k]; !ok || got != v {
					return False, Condition{}
				}
			}
		}
	}
	if ctx.Time.IsZero() {
		rest.From, rest.Until = c.From, c.Until
		if c.Hours != nil {
			switch c.Hours.holdAt(ctx.Times) {
			case Open:
				rest.Hours = c.Hours
			case False:
				return False, Condition{}
			}
		}
	} else {
		switch {
		case !c.From.IsZero() && ctx.Time.Before(c.From),
			!c.Until.IsZero() && !ctx.Time.Before(c.Until),
			c.Hours != nil && !c.Hours.Hold(ctx.Time):
			return False, Condition{}
		}
	}
	rest.Opaque = c.Opaque
	if rest.IsZero() {
		return True, rest
	}
	return Open, rest
}

// from reports whether the call came from one of some networks. A block of
// addresses that lies partly inside them answers Open.
func (ctx Context) from(networks []netip.Prefix) Truth {
	if a := ctx.Network.Unmap(); a.IsValid() {
		return TruthOf(slices.ContainsFunc(networks, func(p netip.Prefix) bool { return p.Contains(a) }))
	}
	if !ctx.Block.IsValid() {
		return Open
	}
	answer := False
	for _, p := range networks {
		switch {
		case p.Bits() <= ctx.Block.Bits() && p.Overlaps(ctx.Block):
			return True
		case p.Overlaps(ctx.Block):
			answer = Open
		}
	}
	return answer
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

func clock(s string) (int, error) {
	t, err := time.Parse("15:04", s)
	if err != nil {
		return 0, fmt.Errorf("time of day %q is not HH:MM", s)
	}
	return t.Hour()*60 + t.Minute(), nil
}

// Validate reports what is wrong with the hours, or nil.
func (h *Hours) Validate() error {
	if len(h.Days) == 0 {
		return fmt.Errorf("hours name no days")
	}
	for _, d := range h.Days {
		if !slices.Contains(weekdays, d) {
			return fmt.Errorf("weekday %q is none of %s", d, strings.Join(weekdays, ", "))
		}
	}
	for _, s := range []string{h.From, h.To} {
		if _, err := clock(s); err != nil {
			return err
		}
	}
	if h.Zone == "" || h.Zone == "Local" {
		return fmt.Errorf("hours name no IANA time zone")
	}
	if _, err := time.LoadLocation(h.Zone); err != nil {
		return fmt.Errorf("time zone %q is not known", h.Zone)
	}
	return nil
}

// Hold reports whether t falls into the hours. Hours that do not validate never hold.
func (h *Hours) Hold(t time.Time) bool {
	loc, err := time.LoadLocation(h.Zone)
	from, err1 := clock(h.From)
	to, err2 := clock(h.To)
	if err != nil || err1 != nil || err2 != nil {
		return false
	}
	t = t.In(loc)
	m, day := t.Hour()*60+t.Minute(), int(t.Weekday())
	switch {
	case from < to:
		if m < from || m >= to {
			return false
		}
	case m >= from: // the part before midnight
	case m < to:
		day = (day + 6) % 7
	default:
		return false
	}
	return slices.Contains(h.Days, weekdays[day])
}

// String says when the hours are: runs of three weekdays and more, from Monday on, are said by their
// ends.
func (h *Hours) String() string {
	var days []string
	for from := 0; from < 7; {
		to := from
		for to < 7 && slices.Contains(h.Days, weekdays[(to+1)%7]) {
			to++
		}
		switch to - from {
		case 0:
			from++
			continue
		case 1, 2:
			for d := from; d < to; d++ {
				days = append(days, weekdays[(d+1)%7])
			}
		case 7:
			days = []string{"every day"}
		default:
			days = append(days, weekdays[from+1]+" to "+weekdays[to%7])
		}
		from = to
	}
	return fmt.Sprintf("%s %s-%s %s", strings.Join(days, ", "), h.From, h.To, h.Zone)
}

// week is how many minutes a week has.
const week = 7 * 24 * 60

// holdAt judges hours for calls of which hours and weekdays are known. Each of these hours, on each
// of these weekdays, by each offset that the zone had from the first to the last call, must lie
// inside them, or outside; else it is open. That there may have been no call in some of them makes
// an answer open more often, and never wrong.
func (h *Hours) holdAt(t Times) Truth {
	loc, err := time.LoadLocation(h.Zone)
	from, err1 := clock(h.From)
	to, err2 := clock(h.To)
	if t.Hours == 0 || t.Weekdays == 0 || err != nil || err1 != nil || err2 != nil {
		return Open
	}
	if to <= from {
		to += 24 * 60
	}
	var in [week]bool // minutes of the week in the zone, from Sunday
	for day, name := range weekdays {
		if slices.Contains(h.Days, name) {
			for m := from; m < to; m++ {
				in[(day*24*60+m)%week] = true
			}
		}
	}
	inside, outside := false, false
	for _, offset := range offsets(loc, t.First, t.Last) {
		for day := range 7 {
			for hour := range 24 {
				if t.Weekdays>>day&1 == 0 || t.Hours>>hour&1 == 0 {
					continue
				}
				for m := range 60 {
					if in[((day*24+hour)*60+m+offset+week)%week] {
						inside = true
					} else {
						outside = true
					}
				}
				if inside && outside {
					return Open
				}
			}
		}
	}
	return TruthOf(inside)
}

// offsets returns how many minutes a zone was before UTC from one time to another, each once. No
// zone changes and changes back within the days between two looks.
func offsets(loc *time.Location, first, last time.Time) []int {
	var out []int
	look := func(t time.Time) {
		if _, s := t.In(loc).Zone(); !slices.Contains(out, s/60) {
			out = append(out, s/60)
		}
	}
	for t := first; t.Before(last); t = t.AddDate(0, 0, 14) {
		look(t)
	}
	look(last)
	return out
}

// Implies reports whether d holds whenever c does. It compares part by part and
// answers false where it cannot see an implication.
func (c Condition) Implies(d Condition) bool {
	if len(d.Networks) > 0 {
		if len(c.Networks) == 0 {
			return false
		}
		for _, n := range c.Networks {
			if !slices.ContainsFunc(d.Networks, func(o netip.Prefix) bool {
				return o.Bits() <= n.Bits() &&
					o.Contains(n.Addr())
			}) {
				return false
			}
		}
	}
	if d.SecondFactor && !c.SecondFactor {
		return false
	}
	if d.Hours != nil {
		if c.Hours == nil || c.Hours.Zone != d.Hours.Zone || c.Hours.From != d.Hours.From || c.Hours.To != d.Hours.To {
			return false
		}
		for _, day := range c.Hours.Days {
			if !slices.Contains(d.Hours.Days, day) {
				return false
			}
		}
	}
	for k, v := range d.Labels {
		if got, ok := c.Labels[k]; !ok || got != v {
			return false
		}
	}
	if !d.From.IsZero() && (c.From.IsZero() || c.From.Before(d.From)) {
		return false
	}
	if !d.Until.IsZero() && (c.Until.IsZero() || c.Until.After(d.Until)) {
		return false
	}
	for _, o := range d.Opaque {
		if !slices.Contains(c.Opaque, o) {
			return false
		}
	}
	return true
}

// Equal reports whether c and d say the same in the same words.
func (c Condition) Equal(d Condition) bool {
	return slices.Equal(c.Networks, d.Networks) && c.SecondFactor == d.SecondFactor &&
		(c.Hours == nil) == (d.Hours == nil) && (c.Hours == nil || c.Hours.Zone == d.Hours.Zone &&
		c.Hours.From == d.Hours.From &&
		c.Hours.To == d.Hours.To && slices.Equal(c.Hours.Days, d.Hours.Days)) &&
		maps.Equal(c.Labels, d.Labels) && c.From.Equal(d.From) && c.Until.Equal(d.Until) &&
		slices.Equal(c.Opaque, d.Opaque)
}

// WithUntil returns c ending at t at the latest.
func (c Condition) WithUntil(t time.Time) Condition {
	if !t.IsZero() && (c.Until.IsZero() || t.Before(c.Until)) {
		c.Until = t
	}
	return c
}

// String says the condition in one line, such as
// "from 10.20.0.0/16 and with a second factor". The zero Condition is "always".
func (c Condition) String() string {
	var parts []string
	if len(c.Networks) > 0 {
		ns := make([]string, len(c.Networks))
		for i, n := range c.Networks {
			ns[i] = n.String()
		}
		parts = append(parts, "from network "+strings.Join(ns, " or "))
	}
	if c.SecondFactor {
		parts = append(parts, "with a second factor")
	}
	if h := c.Hours; h != nil {
		parts = append(parts, h.String())
	}
	for _, k := range slices.Sorted(maps.Keys(c.Labels)) {
		parts = append(parts, fmt.Sprintf("on resources labelled %s=%s", k, c.Labels[k]))
	}
	if !c.From.IsZero() {
		parts = append(parts, "from "+c.From.UTC().Format(time.RFC3339))
	}
	if !c.Until.IsZero() {
		parts = append(parts, "until "+c.Until.UTC().Format(time.RFC3339))
	}
	for _, o := range c.Opaque {
		parts = append(parts, fmt.Sprintf("as the source says: %q", o))
	}
	if len(parts) == 0 {
		return "always"
	}
	return strings.Join(parts, " and ")
}
