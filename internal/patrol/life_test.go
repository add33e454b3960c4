package patrol_test

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/ledger/ledgertest"
)

// town is what the property test knows of the world, in the plainest words: who is there,
// who may do what, and whose mark stands below a text.
type town struct {
	disabled map[string]bool
	policy   *gate.Policy
	rights   []model.Permission
	truth    time.Time // what time it is, whatever clocks say
}

func (w *town) in(who model.ID, of []model.ID) bool {
	return !w.disabled[who.Name] && slices.Contains(of, who)
}

// same: d is another name of person c.
func (w *town) same(a, b model.ID) bool {
	one := func(id model.ID) string { return strings.Replace(id.Name, "d", "c", 1) }
	return one(a) == one(b)
}

// mark stands for a signature: whose it is, and of what.
func mark(who model.ID, text []byte) string {
	h := sha256.Sum256(text)
	return who.Name + " " + hex.EncodeToString(h[:])
}

func proof(signature string, text []byte) gate.Proof {
	name, _, _ := strings.Cut(signature, " ")
	who := model.ID{Kind: model.Person, Name: name}
	if signature != mark(who, text) {
		return gate.Proof{}
	}
	return gate.Proof{By: who, Key: "key of " + name}
}

func (w *town) evidence(r *gate.Request, local time.Time) gate.Evidence {
	e := gate.Evidence{Workspace: "0123456789abcdef", Peer: "cloud", Rights: w.rights, Member: w.in, Same: w.same,
		Local: local, Server: w.truth, Asked: proof(r.Signature, r.AskText())}
	for _, a := range r.Answers {
		e.Answered = append(e.Answered, proof(a.Signature, r.AnswerText(a)))
	}
	return e
}

// deserves says, by nothing but who really asked and answered, whether a request may be
// open: the tiny model that the machine is held against.
type deed struct {
	by       string
	yes      map[string]bool // persons, under one name each
	no       bool
	at       time.Time
	approved time.Time
}

// TestAnyLife: whatever askers, approvers, openers, closers, keepers, intruders, crashes and
// clocks do, and in whatever order, nothing is open that was not approved, nothing is open
// after its end, and at last nothing is open at all.
func TestAnyLife(t *testing.T) {
	seed := rand.Uint64()
	rounds := 250
	if testing.Short() {
		rounds = 60
	}
	opened, refused := 0, 0
	for n := range rounds {
		rnd := rand.New(rand.NewPCG(seed, uint64(n)))
		r := newRig(t)
		r.Wait, r.Settle = time.Millisecond, 10*time.Second
		two := 2
		person := func(s string) model.ID { return model.MustID("person/" + s) }
		w := &town{disabled: map[string]bool{}, truth: start,
			rights: []model.Permission{model.MustPermission("stow/item:read"), model.MustPermission("stow/item:find")},
			policy: &gate.Policy{Name: "g", Source: "s", Digest: "d", Longest: model.Duration(time.Hour),
				Opens:     gate.Opens{Role: "skipper", Where: []model.PathPattern{model.MustPathPattern("/s/**")}},
				MayAsk:    []model.ID{person("a"), person("b")},
				Approvers: []model.ID{person("a"), person("b"), person("c"), person("d"), person("e")},
				Approvals: &two}}
		deeds := map[string]*deed{}
		var stale []*gate.Request // as somebody read them once
		fail := func(format string, args ...any) {
			t.Fatalf("seed %d, round %d: %s", seed, n, fmt.Sprintf(format, args...))
		}
		look := func() { // what the source lets through now
			for name, body := range r.cloud.grants {
				var g model.Grant
				if err := json.Unmarshal(body, &g); err != nil {
					fail("%v", err)
				}
				id := name[strings.Index(name, "-q-")+1:]
				d := deeds[id]
				switch {
				case d == nil:
					fail("%s is open, and nobody asked", name)
				case d.approved.IsZero():
					fail("%s is open, and was not approved: %+v", name, d)
				case g.To.Name != d.by || len(g.Do) != 2 || g.Where[0].String() != "/s/**":
					fail("%s gives %+v", name, g)
				case g.Until.Sub(w.truth) > time.Hour+10*time.Minute:
					fail("%s is open until %s, and it is %s", name, g.Until, w.truth)
				}
			}
		}
		pick := func() *gate.Request {
			all, _ := r.All(t.Context())
			if len(stale) > 0 && rnd.IntN(3) == 0 {
				copied := *stale[rnd.IntN(len(stale))]
				return &copied
			}
			if len(all) == 0 {
				return nil
			}
			q := all[rnd.IntN(len(all))]
			copied := *q
			stale = append(stale, &copied)
			return q
		}
		for step := range 60 {
			r.cloud.trouble = nil
			if rnd.IntN(3) == 0 { // the process dies at some call
				left := rnd.IntN(4)
				r.cloud.trouble = func(string, string) error {
					if left--; left < 0 {
						return errDown
					}
					return nil
				}
			}
			w.truth = w.truth.Add(time.Duration(rnd.IntN(600)) * time.Second)
			r.now = w.truth
			if rnd.IntN(10) == 0 { // a clock that is wrong
				r.now = w.truth.Add(time.Duration(rnd.IntN(200)-100) * time.Hour)
			}
			q := pick()
			switch act := rnd.IntN(9); {
			case act == 0 || q == nil:
				by := person([]string{"a", "b", "c", "e"}[rnd.IntN(4)])
				id := fmt.Sprintf("q-%03d", step)
				q, err := gate.Ask(w.policy, gate.Wanted{ID: id, Workspace: "0123456789abcdef", Peer: "cloud", By: by,
					Subject: by, Rights: w.rights, Stay: time.Duration(1+rnd.IntN(60)) * time.Minute, Reason: "x",
					At: w.truth}, w.in)
				if err != nil {
					continue
				}
				q.Signature = mark(by, q.AskText())
				if err := r.Save(t.Context(), q, "asked", ""); err != nil {
					fail("%v", err)
				}
				deeds[id] = &deed{by: by.Name, yes: map[string]bool{}, at: w.truth}
			case act <= 3: // somebody answers, perhaps about what was true before
				by := person([]string{"a", "b", "c", "d", "e", "f"}[rnd.IntN(6)])
				yes := rnd.IntN(6) > 0
				_, err := r.Update(t.Context(), q.ID, "answer", "", func(q *gate.Request) error {
					a := gate.Answer{By: by, At: w.truth, Yes: yes}
					a.Signature = mark(by, q.AnswerText(a))
					return q.Answer(a, w.policy, w.in, w.same)
				})
				if err != nil {
					continue
				}
				d := deeds[q.ID]
				if d == nil || by.Name == d.by || !d.approved.IsZero() || d.no {
					fail("an answer of %s to %s was taken: %+v", by, q.ID, d)
				}
				if d.no = !yes; yes {
					d.yes[strings.Replace(by.Name, "d", "c", 1)] = true
				}
				if len(d.yes) == 2 {
					d.approved = w.truth
				}
			case act == 4 || act == 5:
				now, err := q.Ready(w.policy, w.evidence(q, r.now))
				if err != nil {
					refused++
					continue
				}
				if d := deeds[q.ID]; d == nil || d.approved.IsZero() || d.no || w.disabled[d.by] ||
					w.truth.Sub(d.at) > 24*time.Hour+5*time.Minute {
					fail("%s may open: %+v", q.ID, d)
				}
				if r.Open(t.Context(), q, now) == nil {
					opened++
				}
			case act == 6:
				_ = r.Close(t.Context(), q, "somebody") // it may not be open
			case act == 7: // an intruder writes to the store
				row := r.mem.Rows[q.ID]
				var bad gate.Request
				if json.Unmarshal(row.Body, &bad) != nil || bad.ID == "" {
					continue
				}
				switch rnd.IntN(7) {
				case 0:
					bad.State = gate.Approved
				case 1:
					bad.Rights = append(bad.Rights, model.MustPermission("stow/item:throw-out"))
				case 2:
					bad.Stay = model.Duration(1000 * time.Hour)
				case 3:
					bad.Answers = append(bad.Answers, bad.Answers...)
				case 4:
					bad.By, bad.Subject = person("e"), person("e")
				case 5:
					bad.Answers = append(bad.Answers,
						gate.Answer{By: person("c"), At: w.truth, Yes: true, Signature: mark(person("f"), nil)},
						gate.Answer{By: person("e"), At: w.truth, Yes: true})
				case 6:
					bad.AskedAt = w.truth
				}
				if b, err := json.Marshal(bad); err == nil && !q.State.Ended() && q.State != gate.Open &&
					q.State != gate.Opening && q.State != gate.Closing {
					r.mem.Rows[q.ID] = ledgertest.Stored{Body: b, Version: row.Version}
					if now, err := bad.Ready(w.policy, w.evidence(&bad, w.truth)); err == nil &&
						r.Open(t.Context(), func() *gate.Request { bad.Row = row.Version; return &bad }(),
							now) == nil && deeds[q.ID].approved.IsZero() {
						fail("an intruder opened %s: %+v", q.ID, bad)
					}
					if m := r.mem.Rows[q.ID]; m.Version == row.Version { // and puts it back
						r.mem.Rows[q.ID] = row
					}
				}
			case act == 8:
				if rnd.IntN(4) == 0 {
					w.disabled["ab"[rnd.IntN(2):][:1]] = rnd.IntN(2) == 0
				}
				trouble := r.cloud.trouble != nil
				_, _ = r.Once(t.Context()) // what failed is looked at again
				if !trouble && !r.now.Before(w.truth) {
					for name, body := range r.cloud.grants {
						var g model.Grant
						if json.Unmarshal(body, &g) == nil && !g.Until.After(w.truth) {
							fail("a patrol came by at %s, and %s is open since %s is over", w.truth, name, g.Until)
						}
					}
				}
			}
			look()
		}
		r.cloud.trouble = nil
		for range 3 {
			w.truth = w.truth.Add(100 * time.Hour)
			r.now = w.truth
			if _, err := r.Once(t.Context()); err != nil {
				fail("the last patrol: %v", err)
			}
		}
		if len(r.cloud.grants) > 0 {
			fail("left open: %s", r.cloud.grants)
		}
		all, err := r.All(t.Context())
		for _, q := range all {
			if err != nil || !q.State.Ended() {
				fail("%s is %s for ever, %v", q.ID, q.State, err)
			}
		}
	}
	if opened < rounds/4 || refused < rounds {
		t.Errorf("seed %d: %d opened, %d refused: the test proves little", seed, opened, refused)
	}
}
