package work

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"clipfence/internal/auditlog/fold"
	"clipfence/internal/config"
	"clipfence/internal/core/access"
	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/trust"
)

// What is known of people is more than the tool needs for ever: uses are kept for a time, one
// identity can be forgotten, and what is shown to others can name people by pseudonyms. A
// pseudonym is the first 60 bits of HMAC-SHA-256 (RFC 2104) of the identity under the workspace's
// key: the same person has the same one everywhere, and without the key nobody can tell who it is,
// or try names out. Each of these is in the ledger, which names people by pseudonyms there.

// Kinds of ledger entry.
const (
	kindForgotten = "people.forgotten"
	kindTrimmed   = "people.trimmed"
	kindRevealed  = "people.revealed"
)

type peopleEntry struct {
	Who    string `json:"who,omitempty"` // a pseudonym
	Source string `json:"source,omitempty"`
	Before string `json:"before,omitempty"` // this day
	Reason string `json:"reason,omitempty"`
}

// peopleKey returns the workspace's key, and makes one where there is none.
func (w *Workspace) peopleKey() ([]byte, error) {
	name := w.Path(".clipfence/people.key")
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		var b [32]byte
		_, _ = rand.Read(b[:]) // never fails (crypto/rand)
		data = []byte(hex.EncodeToString(b[:]) + "\n")
		err = replaceFile(name, data)
	}
	if err == nil {
		err = trust.Own(name)
	}
	if err != nil {
		return nil, err
	}
	key, err := hex.DecodeString(strings.TrimSpace(string(data)))
	if err != nil || len(key) != 32 {
		return nil, fmt.Errorf("%s: not a key: 64 hexadecimal digits are wanted; without it no pseudonym can be "+
			"told, so put it back from a backup", name)
	}
	return key, nil
}

var pseudonyms = base32.NewEncoding("abcdefghijkmnpqrstuvwxyz23456789").WithPadding(base32.NoPadding)

// keyed returns what an identity is called under a key.
func keyed(key []byte, id model.ID) string {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(string(id.Kind) + "/" + id.Name))
	return pseudonyms.EncodeToString(h.Sum(nil))[:12]
}

// mayBePerson reports whether an identity is a person, or of a log and nobody knows what it is.
func mayBePerson(id model.ID) bool {
	return id.Kind == model.Person || id.Kind == model.External || id.Kind == model.Unknown
}

// pseudonym returns the identity that stands for a person, and others as they are.
func pseudonym(key []byte, id model.ID) model.ID {
	if !mayBePerson(id) {
		return id
	}
	return model.ID{Source: id.Source, Kind: id.Kind, Name: "p-" + keyed(key, id)}
}

// people returns the people that the surveys and logs of all sources know, with their titles.
func (w *Workspace) people(ctx context.Context) (map[model.ID]string, error) {
	out := map[model.ID]string{}
	for _, src := range w.Sources {
		e, _, err := w.store.Estate(ctx, src.Name, 0)
		if err == nil {
			for _, i := range e.Identities {
				if mayBePerson(i.ID) {
					out[model.ID{Kind: i.ID.Kind, Name: i.ID.Name}] = i.Title
				}
			}
		}
		uses, err := w.store.Uses(ctx, src.Name)
		if err != nil {
			return nil, err
		}
		for id := range uses.Principals() {
			if _, ok := out[model.ID{Kind: id.Kind, Name: id.Name}]; !ok && mayBePerson(id) {
				out[model.ID{Kind: id.Kind, Name: id.Name}] = ""
			}
		}
	}
	for _, p := range w.Config.People {
		id := model.ID{Kind: p.ID.Kind, Name: p.ID.Name}
		if _, ok := out[id]; !ok {
			out[id] = ""
		}
	}
	return out, nil
}

// Pseudonyms returns what puts pseudonyms in the place of people in a text: their ids, their
// titles, the names of their drafts, and names by themselves that nothing else is called (they
// hold a dot or an @).
func (w *Workspace) Pseudonyms(ctx context.Context) (*strings.Replacer, error) {
	key, err := w.peopleKey()
	if err != nil {
		return nil, err
	}
	list, err := w.people(ctx)
	if err != nil {
		return nil, err
	}
	with := map[string]string{}
	put := func(is, becomes string) {
		if is == "" {
			return
		}
		with[is] = becomes
		with[strings.ReplaceAll(is, "'", `'\''`)] = becomes // as it stands in a command
		if b, err := json.Marshal(is); err == nil {         // as it stands in JSON
			with[string(b[1:len(b)-1])] = becomes
		}
	}
	for id, title := range list {
		p := pseudonym(key, id)
		put(title, p.Name)
		put(id.String(), p.String())
		put(fileName(id), fileName(p))
		put(fence.NamedAfter(id), fence.NamedAfter(p))
		if strings.ContainsAny(id.Name, ".@") {
			put(id.Name, p.Name)
		}
	}
	keys := slices.SortedFunc(maps.Keys(with), func(a, b string) int { // the longest first
		return cmp.Or(cmp.Compare(len(b), len(a)), cmp.Compare(a, b))
	})
	var pairs []string
	for _, k := range keys {
		pairs = append(pairs, k, with[k])
	}
	return strings.NewReplacer(pairs...), nil
}

// ErrNobody: no person that is known has the pseudonym.
var ErrNobody = errors.New("no person that is known has this pseudonym under this workspace's key")

// Reveal returns whose pseudonym it is, and writes down that somebody asked.
func (w *Workspace) Reveal(ctx context.Context, name, reason string) (model.ID, error) {
	key, err := w.peopleKey()
	if err != nil {
		return model.ID{}, err
	}
	list, err := w.people(ctx)
	if err != nil {
		return model.ID{}, err
	}
	short := name[strings.LastIndexByte(name, '/')+1:]
	for id := range list {
		if pseudonym(key, id).Name == short {
			if err := w.ledger.Append(ctx, kindRevealed, peopleEntry{Who: short, Reason: reason}); err != nil {
				return model.ID{}, damaged(err)
			}
			return id, nil
		}
	}
	return model.ID{}, fmt.Errorf("%s: %w", name, ErrNobody)
}

// A forgotten identity is known by its pseudonym only: calls of it up to a time are not read again.
type forgotten struct {
	Who string    `json:"who"`
	At  time.Time `json:"at"`
}

const forgottenSetting = "people.forgotten"

func (w *Workspace) forgotten(ctx context.Context) ([]forgotten, error) {
	text, err := w.store.Setting(ctx, forgottenSetting)
	if err != nil || text == "" {
		return nil, err
	}
	var out []forgotten
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		return nil, fmt.Errorf("who was forgotten: %w", err)
	}
	return out, nil
}

// Forgot says what went when an identity was forgotten.
type Forgot struct {
	Who   string `json:"who" doc:"its pseudonym"`
	Uses  int    `json:"uses"`
	Calls int64  `json:"calls"`
	Lives bool   `json:"still_in_the_estate"`
}

// Forget takes everything that one identity did out of the uses of every source, also what of its
// calls is read again later. As long as it is in the estate it then counts as new: its silence
// proves nothing until a window has gone by.
func (w *Workspace) Forget(ctx context.Context, who model.ID, reason string) (*Forgot, error) {
	key, err := w.peopleKey()
	if err != nil {
		return nil, err
	}
	who.Source = ""
	out := &Forgot{Who: "p-" + keyed(key, who)}
	known := false
	type found struct {
		is    func(model.ID) bool
		names []string
	}
	of := map[string]*found{} // by source: what means it in the log
	hashes := map[string]bool{out.Who: true}
	for _, src := range w.Sources {
		means, err := w.means(ctx, src)
		if err != nil {
			return nil, err
		}
		x := &found{is: func(id model.ID) bool { return same(id, who) || same(means(id), who) },
			names: []string{who.Name}}
		of[src.Name] = x
		e, _, err := w.store.Estate(ctx, src.Name, 0)
		if err == nil && slices.ContainsFunc(e.Identities, func(i model.Identity) bool { return same(i.ID, who) }) {
			out.Lives, known = true, true
		}
		uses, err := w.store.Uses(ctx, src.Name)
		if err != nil {
			return nil, err
		}
		for id := range uses.Principals() {
			if x.is(id) {
				known = true
				hashes["p-"+keyed(key, id)] = true
				if !slices.Contains(x.names, id.Name) {
					x.names = append(x.names, id.Name)
				}
			}
		}
	}
	if !known {
		return nil, fmt.Errorf("no survey lists %s, and no log that was read knows it", who)
	}
	// It is written down before anything goes, and so that what is read meanwhile is dropped too.
	if err := w.ledger.Append(ctx, kindForgotten, peopleEntry{Who: out.Who, Reason: reason}); err != nil {
		return nil, damaged(err)
	}
	list, err := w.forgotten(ctx)
	if err != nil {
		return nil, err
	}
	list = slices.DeleteFunc(list, func(f forgotten) bool { return hashes[f.Who] })
	for _, h := range slices.Sorted(maps.Keys(hashes)) {
		list = append(list, forgotten{h, w.Clock().UTC()})
	}
	text, err := json.Marshal(list)
	if err == nil {
		err = w.store.SetSetting(ctx, forgottenSetting, string(text))
	}
	if err != nil {
		return nil, err
	}
	for _, src := range w.Sources {
		t, err := w.store.Trim(ctx, src.Name, minDay, of[src.Name].is, of[src.Name].names)
		if err == nil {
			err = w.untell(src.Name)
		}
		if err != nil {
			return nil, err
		}
		out.Uses, out.Calls = out.Uses+t.Uses, out.Calls+t.Calls
	}
	return out, nil
}

// same compares identities without their source.
func same(a, b model.ID) bool { return a.Kind == b.Kind && a.Name == b.Name }

// means returns what names in the log of a source mean; as they are where it was not surveyed yet.
func (w *Workspace) means(ctx context.Context, src config.Source) (func(model.ID) model.ID, error) {
	if _, err := w.store.Newest(ctx, src.Name); err != nil {
		return func(id model.ID) model.ID { return id }, nil
	}
	s, err := w.Surveyed(ctx, src)
	if err != nil {
		return nil, err
	}
	r, err := w.resolver(s)
	if err != nil {
		return nil, err
	}
	return r.Identity, nil
}

// minDay is before every day that a use can have.
const minDay = usage.Day(-1 << 30)

// trim takes out what is older than uses are kept, as clipfence.yaml says.
func (w *Workspace) trim(ctx context.Context, src config.Source) error {
	if w.KeepUses == 0 {
		return nil
	}
	from := usage.DayOf(w.Clock()) - usage.Day(time.Duration(w.KeepUses).Hours()/24)
	logs, err := w.store.LogState(ctx, src.Name)
	if err != nil || logs.First.IsZero() || usage.DayOf(logs.First) >= from {
		return err
	}
	if err := w.ledger.Append(ctx, kindTrimmed, peopleEntry{Source: src.Name,
		Before: from.Time().Format(time.DateOnly)}); err != nil {
		return damaged(err)
	}
	t, err := w.store.Trim(ctx, src.Name, from, nil, nil)
	if err == nil {
		err = w.untell(src.Name)
	}
	if err == nil && t.Uses > 0 {
		w.say("%d calls of %s from before %s are taken out (keep_uses)", t.Calls, src.Name,
			from.Time().Format(time.DateOnly))
	}
	return err
}

// dropForgotten takes what forgotten identities did out of what was just folded.
func (w *Workspace) dropForgotten(b *fold.Batch, list []forgotten, means func(model.ID) model.ID) error {
	if len(list) == 0 {
		return nil
	}
	key, err := w.peopleKey()
	if err != nil {
		return err
	}
	until := map[string]usage.Day{}
	for _, f := range list {
		until[f.Who] = usage.DayOf(f.At)
	}
	day := func(id model.ID) usage.Day { // up to which it is forgotten
		if id.IsZero() {
			return minDay
		}
		d := minDay
		for _, x := range []model.ID{id, means(id)} {
			if at, ok := until["p-"+keyed(key, x)]; ok {
				d = max(d, at)
			}
		}
		return d
	}
	out := &usage.Table{}
	for _, u := range b.Table.Uses() {
		if d := max(day(u.Identity), day(u.ActingFor)); d > minDay && !u.Within(d+1, -minDay) {
			continue
		}
		out.MergeUse(u)
	}
	b.Table = out
	b.InGroups = slices.DeleteFunc(b.InGroups, func(g fold.Sighting) bool {
		return usage.DayOf(time.UnixMilli(g.Last)) <= day(g.Identity)
	})
	for i := range b.InGroups {
		if d := day(b.InGroups[i].Identity); d > minDay {
			b.InGroups[i].First = max(b.InGroups[i].First, (d + 1).Time().UnixMilli())
		}
	}
	return nil
}

// young makes forgotten identities ones that are as new as the forgetting: what they did before
// nobody knows.
func (w *Workspace) young(ctx context.Context, s *Source) (*Source, error) {
	list, err := w.forgotten(ctx)
	if err != nil || len(list) == 0 {
		return s, err
	}
	key, err := w.peopleKey()
	if err != nil {
		return nil, err
	}
	at := map[string]time.Time{}
	for _, f := range list {
		at[f.Who] = f.At
	}
	var d access.Edit
	for n := range s.Everybody() {
		id := s.ID(n)
		if t, ok := at["p-"+keyed(key, id)]; ok {
			if i, ok := s.Identity(id); ok && i.Created.Before(t) {
				i.Created = t
				d.Come.Identities = append(d.Come.Identities, i)
			}
		}
	}
	if len(d.Come.Identities) == 0 {
		return s, nil
	}
	return s.as(d)
}

// veiled returns an estate in which people have pseudonyms.
func (w *Workspace) veiled(e *model.Estate) (*model.Estate, error) {
	key, err := w.peopleKey()
	if err != nil {
		return nil, err
	}
	of := func(id model.ID) model.ID { return pseudonym(key, id) }
	all := func(ids []model.ID) []model.ID {
		out := make([]model.ID, len(ids))
		for i, id := range ids {
			out[i] = of(id)
		}
		return out
	}
	out := *e
	out.Memberships = slices.Clone(e.Memberships)
	for i, m := range out.Memberships {
		out.Memberships[i] = model.Membership{Member: of(m.Member), Group: of(m.Group)}
	}
	out.ActAs = slices.Clone(e.ActAs)
	for i := range out.ActAs {
		out.ActAs[i].From, out.ActAs[i].To = of(out.ActAs[i].From), of(out.ActAs[i].To)
	}
	out.Grants = slices.Clone(e.Grants)
	for i := range out.Grants {
		out.Grants[i].To = of(out.Grants[i].To)
	}
	out.Denials = slices.Clone(e.Denials)
	for i := range out.Denials {
		out.Denials[i].To, out.Denials[i].Unless = all(out.Denials[i].To), all(out.Denials[i].Unless)
	}
	out.Ceilings = slices.Clone(e.Ceilings)
	for i := range out.Ceilings {
		out.Ceilings[i].Of = of(out.Ceilings[i].Of)
	}
	out.Guardrails = slices.Clone(e.Guardrails)
	for i := range out.Guardrails {
		out.Guardrails[i].Unless = all(out.Guardrails[i].Unless)
	}
	return &out, nil
}
