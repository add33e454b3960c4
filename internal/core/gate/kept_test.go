package gate_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/kept"
)

// TestKept: requests that are changed in ways that happen or are made to happen, at times to the
// moment, open, are answered, close and lapse as they did.
func TestKept(t *testing.T) {
	const day, skew = 24 * time.Hour, 5 * time.Minute
	kept.Same(t, 600, func(i int) (name, text string) {
		r := rand.New(rand.NewPCG(uint64(i), 34))
		// Near a bound, on it, or just beside it.
		near := func(bounds ...time.Duration) time.Duration {
			return bounds[r.IntN(len(bounds))] + time.Duration(r.IntN(3)-1)*time.Millisecond
		}
		var b strings.Builder
		q, p, e := approved(t)
		for range r.IntN(3) {
			switch r.IntN(16) {
			case 0:
				q.AskedAt = e.Server.Add(near(-day, skew, 0))
				for k := range q.Answers {
					q.Answers[k].At = q.AskedAt
				}
			case 1:
				q.Answers[r.IntN(len(q.Answers))].At = q.AskedAt.Add(near(-skew, 0))
			case 2:
				q.Answers[r.IntN(len(q.Answers))].At = e.Server.Add(near(skew, 0))
			case 3:
				e.Server = e.Local.Add(near(-skew, 0, skew))
			case 4:
				e.Server = time.Time{}
			case 5:
				e.Ledger = e.Local.Add(near(-skew, 0, skew))
			case 6:
				p.Longest = q.Stay + model.Duration(r.IntN(3)-1)
			case 7:
				q.Stay = model.Duration(r.IntN(3) - 1)
			case 8:
				q.Answers, e.Answered = q.Answers[:1], e.Answered[:1]
			case 9:
				n := r.IntN(4)
				p.Approvals = &n
			case 10:
				e.Answered[len(e.Answered)-1].Key = []string{"ka", "kc", "kd", ""}[r.IntN(4)]
			case 11:
				who := []model.ID{{}, q.By, model.MustID("person/b"), model.MustID("person/d")}[r.IntN(4)]
				k := len(q.Answers) - 1
				q.Answers[k].By = who
				if r.IntN(3) > 0 {
					e.Answered[k].By = who
				}
			case 12:
				q.Subject = model.MustID("person/as-a")
				if r.IntN(2) == 0 {
					e.Same = func(a, b model.ID) bool { return a.Name == "as-a" && b == q.By }
				}
			case 13:
				q.State = []gate.State{gate.Asked, gate.Approved, gate.Opening, gate.Open, gate.Closing, gate.Closed,
					gate.Refused, gate.Lapsed}[r.IntN(8)]
			case 14:
				e.Rights = slices.Concat(e.Rights, e.Rights[:r.IntN(2)])
			case 15:
				p.MayAsk = p.MayAsk[1:]
			}
		}
		if r.IntN(2) == 0 { // what is signed is every word of it
			q.Controls = model.Condition{SecondFactor: r.IntN(2) == 0}
			switch r.IntN(5) {
			case 0:
				q.Controls.From = start.Add(near(0))
			case 1:
				q.Controls.Until = start.Add(near(day))
			case 2:
				q.Controls.Hours = &model.Hours{Days: []string{"mon", "tue"}[:1+r.IntN(2)], From: "08:00", To: "17:00",
					Zone: "UTC"}
			case 3:
				q.Controls.Labels = map[string]string{"a": "b", "c": "d"}
			}
		}
		fmt.Fprintf(&b, "signed %q %q\n", q.AskText(), q.AnswerText(gate.Answer{By: q.By, At: q.AskedAt,
			Yes: r.IntN(2) == 0, Reason: "r"}))
		now, err := q.Ready(p, *e)
		fmt.Fprintf(&b, "ready %s %v\n", now, err)
		fmt.Fprintf(&b, "opens %s by %+v as %s\n", q.Opens(), q.Grant(), q.GrantID())
		at := q.AskedAt.Add(near(-skew, 0, day))
		more := *q
		more.Answers = slices.Clone(q.Answers)
		more.State = gate.Asked
		err = more.Answer(gate.Answer{By: model.MustID([]string{"person/b", "person/c", "person/z"}[r.IntN(3)]),
			At:  at,
			Yes: r.IntN(3) > 0}, p, in, nobody)
		fmt.Fprintf(&b, "answered %s %d %v\n", more.State, len(more.Answers), err)
		opening := *q
		fmt.Fprintf(&b, "opening %v %s %s %s\n", opening.StartOpening(at), opening.State, opening.OpenedAt,
			opening.Until)
		due := opening
		if r.IntN(2) == 0 {
			due.State = gate.Open
		}
		c, l := due.Due(due.Until.Add(near(0)))
		fmt.Fprintf(&b, "due %t %t", c, l)
		c, l = more.Due(more.AskedAt.Add(near(day)))
		fmt.Fprintf(&b, " %t %t\n", c, l)
		for _, do := range []func() error{opening.Opened, func() error { return opening.StartClosing("x") },
			opening.Lapse} {
			fmt.Fprintf(&b, "%v %s\n", do(), opening.State)
		}
		return fmt.Sprint(i), b.String()
	})
}
