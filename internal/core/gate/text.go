package gate

import (
	"crypto/sha256"
	"encoding/binary"
	"slices"
	"strconv"
	"time"

	"clipfence/internal/core/model"
)

// A text is what is signed: strings one after the other, each with its length in front
// (RFC 4251, section 5, string), the first of them what the text is and of which version.
// No field can run into the next one, and no language's way of quoting matters. A list
// is its length, as a decimal number, and its items.
type text []byte

func (t *text) put(parts ...string) {
	for _, p := range parts {
		*t = append(binary.BigEndian.AppendUint32(*t, uint32(len(p))), p...)
	}
}

func (t *text) list(parts []string) {
	t.put(strconv.Itoa(len(parts)))
	t.put(parts...)
}

// time is in milliseconds since 1970, the zero time as nothing.
func (t *text) time(at time.Time) {
	if at.IsZero() {
		t.put("")
	} else {
		t.put(strconv.FormatInt(at.UnixMilli(), 10))
	}
}

func (t *text) condition(c model.Condition) {
	var networks, labels []string
	for _, n := range c.Networks {
		networks = append(networks, n.String())
	}
	for k, v := range c.Labels {
		labels = append(labels, string(append(binary.BigEndian.AppendUint32(nil, uint32(len(k))), k+v...)))
	}
	slices.Sort(labels)
	t.list(networks)
	t.put(strconv.FormatBool(c.SecondFactor))
	if c.Hours == nil {
		t.put("")
	} else {
		t.put("hours")
		t.list(c.Hours.Days)
		t.put(c.Hours.From, c.Hours.To, c.Hours.Zone)
	}
	t.list(labels)
	t.time(c.From)
	t.time(c.Until)
	t.list(c.Opaque)
}

// AskText is what the asker signs.
func (r *Request) AskText() []byte {
	var t text
	t.put("clipfence gate ask 1", r.Workspace, r.ID, r.Peer, r.Source, r.Gate, r.Digest, r.By.String(),
		r.Subject.String())
	var rights, where []string
	for _, p := range r.Rights {
		rights = append(rights, p.String())
	}
	for _, p := range r.Where {
		where = append(where, p.String())
	}
	t.list(rights)
	t.list(where)
	t.condition(r.Controls)
	t.put(strconv.FormatInt(int64(time.Duration(r.Stay)/time.Second), 10), r.Reason)
	t.time(r.AskedAt)
	return t
}

// asked is the SHA-256 of what was asked and of the signature below it.
func (r *Request) asked() string {
	var t text
	t.put(string(r.AskText()), r.Signature)
	h := sha256.Sum256(t)
	return string(h[:])
}

// AnswerText is what an approver signs: who answers what, to which request of whom.
func (r *Request) AnswerText(a Answer) []byte {
	var t text
	t.put("clipfence gate answer 1", r.Workspace, r.ID, r.asked(), strconv.FormatBool(a.Yes), a.By.String(), a.Reason)
	t.time(a.At)
	return t
}

// WaiveText is what is signed by whoever sets a finding aside.
func WaiveText(workspace, finding, reason, by string, until, at time.Time) []byte {
	var t text
	t.put("clipfence finding waive 1", workspace, finding, reason, by)
	t.time(until)
	t.time(at)
	return t
}

// KeyText is what is signed by whoever vouches for a further key of a ledger, for the place
// behind one entry.
func KeyText(workspace, key, after, by string) []byte {
	var t text
	t.put("clipfence ledger key 1", workspace, key, after, by)
	return t
}
