package work

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/config"
	"clipfence/internal/core/gate"
	"clipfence/internal/core/model"
	"clipfence/internal/fencefile"
	"clipfence/internal/ledger"
	"clipfence/internal/source"
	"clipfence/internal/sshsig"
)

// Gates are the gates of a workspace, and who asked for what.
type Gates struct {
	Policies []*gate.Policy
	Requests []*gate.Request // the oldest first
	Unread   error           // some could not be read
	Note     string          // whose word counts, where nobody is pinned
	Bad      error           // what stands is not what a trustee signed
}

// Gates lists the gates, and every request that is kept.
func (w *Workspace) Gates(ctx context.Context) (*Gates, error) {
	var g Gates
	var err error
	if g.Policies, err = w.policies(); err != nil {
		return nil, err
	}
	g.Requests, g.Unread = w.keeper(ctx).All(ctx)
	if g.Unread != nil && g.Requests == nil {
		return nil, g.Unread
	}
	g.Note, g.Bad = w.trusted(ctx)
	return &g, nil
}

// RequestNames lists the requests that have not ended.
func (w *Workspace) RequestNames(ctx context.Context) []string {
	all, _ := w.keeper(ctx).All(ctx)
	var out []string
	for _, r := range all {
		if !r.State.Ended() {
			out = append(out, r.ID)
		}
	}
	return out
}

// Request finds a request by its id, or by a beginning of it that no other has.
func (w *Workspace) Request(ctx context.Context, id string) (*gate.Request, error) {
	return w.keeper(ctx).Find(ctx, id)
}

// gives returns which of the permissions can give their holder, or others, more.
func (s *standing) gives(rights []model.Permission) (out []model.Permission) {
	for _, p := range rights {
		if e, _ := s.Entry(p); e.Weighs() == model.HandOut {
			out = append(out, p)
		}
	}
	return out
}

// Asked is a request that was made.
type Asked struct {
	Request *gate.Request
	Policy  *gate.Policy
	Gives   []model.Permission // what of it can give its holder, or others, more
	Note    string             // whose word counts, where nobody is pinned
}

// Ask asks for a gate to be opened, for whoever the key belongs to.
func (w *Workspace) Ask(ctx context.Context, name string, stay time.Duration, reason, key string) (*Asked, error) {
	note, err := w.trusted(ctx)
	if err != nil {
		return nil, err
	}
	p, err := w.policy(name)
	if err != nil {
		return nil, err
	}
	st, err := w.standing(ctx, p.Source)
	if err != nil {
		return nil, err
	}
	rights, err := st.opens(p)
	if err != nil {
		return nil, err
	}
	peer, err := w.peer(ctx, p.Source)
	if err != nil {
		return nil, err
	}
	s, done, err := w.signer(key, askNamespace)
	defer done()
	if err != nil {
		return nil, err
	}
	id, err := w.store.Workspace(ctx)
	if err != nil {
		return nil, err
	}
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	want := gate.Wanted{ID: "q-" + hex.EncodeToString(b[:]), Workspace: id, Peer: peer.ID, By: s.who, Subject: s.who,
		Rights: rights, Stay: stay, Reason: reason, At: w.Clock()}
	r, err := gate.Ask(p, want, st.in)
	if err != nil {
		return nil, err
	}
	if r.Signature, err = sshsig.Sign(s.key, askNamespace, r.AskText()); err != nil {
		return nil, err
	}
	if err := w.keeper(ctx).Save(ctx, r, string(gate.Asked), r.By.String()); err != nil {
		return nil, damaged(err)
	}
	return &Asked{r, p, st.gives(r.Rights), note}, nil
}

// Question is a request that somebody is about to answer.
type Question struct {
	Request *gate.Request
	Gives   []model.Permission // what of it can give its holder, or others, more
	Who     model.ID           // answers
}

// Answer approves or refuses somebody else's request, once agree has let it; what it is shown
// is what is signed. It returns the request as it stands then, and whose word counts.
func (w *Workspace) Answer(ctx context.Context, id string, yes bool, reason, key string,
	agree func(*Question) error) (*gate.Request, string, error) {
	k := w.keeper(ctx)
	r, err := k.Find(ctx, id)
	if err != nil {
		return nil, "", err
	}
	note, err := w.trusted(ctx)
	if err != nil {
		return nil, "", err
	}
	p, err := w.policy(r.Gate)
	if err != nil {
		return nil, "", err
	}
	st, err := w.standing(ctx, r.Source)
	if err != nil {
		return nil, "", err
	}
	if asked, _ := w.proofs(r); asked.By != r.By || asked.By.IsZero() {
		return nil, "", fmt.Errorf("%w: request %s is not signed by %s as it stands here", gate.ErrNotAllowed, r.ID,
			r.By)
	}
	if err := w.recorded(ctx, r); err != nil {
		return nil, "", err
	}
	s, done, err := w.signer(key, answerNamespace)
	defer done()
	if err != nil {
		return nil, "", err
	}
	probe := *r // nobody is shown what they may not answer
	probe.Answers = slices.Clone(r.Answers)
	if err := probe.Answer(gate.Answer{By: s.who, At: w.Clock().UTC(), Yes: yes}, p, st.in, st.same); err != nil {
		return nil, "", err
	}
	shown := string(r.AskText())
	if err := agree(&Question{r, st.gives(r.Rights), s.who}); err != nil {
		return nil, "", err
	}
	verb := "refuse"
	if yes {
		verb = "approve"
	}
	r, err = k.Update(ctx, r.ID, verb, s.who.String(), func(r *gate.Request) error {
		if string(r.AskText()) != shown {
			return fmt.Errorf("%w: request %s is not what was shown", gate.ErrAskAgain, r.ID)
		}
		ans := gate.Answer{By: s.who, At: w.Clock().UTC().Truncate(time.Millisecond), Yes: yes, Reason: reason}
		var err error
		if ans.Signature, err = sshsig.Sign(s.key, answerNamespace, r.AnswerText(ans)); err != nil {
			return err
		}
		return r.Answer(ans, p, st.in, st.same)
	})
	return r, note, damaged(err)
}

// CloseRequest gives an open gate back, or takes it away, before its time.
func (w *Workspace) CloseRequest(ctx context.Context, id string) (*gate.Request, error) {
	k := w.keeper(ctx)
	r, err := k.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	return r, damaged(k.Close(ctx, r, systemUser()))
}

// Lend opens an approved gate while f runs, at most until its time is over, and closes it
// again, also when f fails or the context ends.
func (w *Workspace) Lend(ctx context.Context, id string, f func(context.Context, *gate.Request) error) (err error) {
	r, _, err := w.OpenRequest(ctx, id)
	if err != nil {
		return err
	}
	defer func() {
		always := context.WithoutCancel(ctx)
		now, ferr := w.keeper(always).Find(always, r.ID)
		if ferr == nil && !now.State.Ended() {
			ferr = w.keeper(always).Close(always, now, systemUser())
		}
		err = errors.Join(err, ferr)
	}()
	within, cancel := context.WithDeadline(ctx, r.Until)
	defer cancel()
	err = f(within, r)
	if err != nil && within.Err() != nil && ctx.Err() == nil {
		return fmt.Errorf("the stay was over at %s; the command was ended", r.Until.Format(time.RFC3339))
	}
	return err
}

// policies reads every gate file of the workspace.
func (w *Workspace) policies() ([]*gate.Policy, error) {
	names, err := filepath.Glob(filepath.Join(w.GateDir(), "*"+fencefile.GateSuffix))
	if err != nil {
		return nil, err
	}
	var out []*gate.Policy
	for _, n := range names {
		data, err := os.ReadFile(n)
		if err != nil {
			return nil, err
		}
		p, err := fencefile.ReadGate(n, data)
		if err != nil {
			return nil, err
		}
		if i := slices.IndexFunc(out, func(o *gate.Policy) bool { return o.Name == p.Name }); i >= 0 {
			return nil, fmt.Errorf("%w: gate %q is in two files, %s and %s; which of them counts nobody can say",
				gate.ErrNotAllowed, p.Name, out[i].At.File, n)
		}
		p.At.File = n
		w.remark(p.Remarks...)
		out = append(out, p)
	}
	return out, nil
}

func (w *Workspace) policy(name string) (*gate.Policy, error) {
	ps, err := w.policies()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, p := range ps {
		if p.Name == name {
			return p, nil
		}
		names = append(names, p.Name)
	}
	return nil, fmt.Errorf("no gate %q in %s; there are: %s", name, w.GateDir(), strings.Join(names, ", "))
}

// standing is what is known of a source's people and roles, from a survey of an age that is
// allowed.
type standing struct {
	*Source
	in   gate.Member
	same gate.Same
}

func (w *Workspace) standing(ctx context.Context, src string) (*standing, error) {
	s, err := w.Source(src)
	if err != nil {
		return nil, err
	}
	sv, err := w.Surveyed(ctx, s)
	if err != nil {
		return nil, err
	}
	if why := change.TooOld(sv.Survey.Finished, w.Clock(), time.Duration(w.MaxAge)); why != "" {
		return nil, fmt.Errorf("%w: %s", gate.ErrNotAllowed, why)
	}
	links := map[model.ID]model.ID{} // the first of all that are one
	root := func(id model.ID) model.ID {
		if id.Source == "" {
			id.Source = s.Name
		}
		for links[id] != (model.ID{}) {
			id = links[id]
		}
		return id
	}
	for _, l := range w.Links {
		if a, b := root(l.A), root(l.B); a != b {
			links[b] = a
		}
	}
	return &standing{sv, func(who model.ID, of []model.ID) bool {
		// Who is linked in from another source is nobody here: nobody signed the links.
		if id, ok := sv.Identity(who); !ok || id.Disabled || who.Source != "" {
			return false
		}
		return slices.ContainsFunc(of, func(group model.ID) bool { return sv.In(who, group) })
	}, func(a, b model.ID) bool { return root(a) == root(b) }}, nil
}

// opens returns the permissions that a policy opens, as the source defines its role now.
func (s *standing) opens(p *gate.Policy) ([]model.Permission, error) {
	sets := []model.Rights{{Do: p.Opens.Do}}
	if p.Opens.Role != "" {
		if _, ok := s.Role(p.Opens.Role); !ok {
			return nil, fmt.Errorf("gate %s opens role %q, which source %s does not have", p.Name, p.Opens.Role,
				p.Source)
		}
		sets = s.RoleSets(p.Opens.Role)
	}
	var out []model.Permission
	for i := range s.SetPerms(sets).All() {
		out = append(out, s.Permission(i).Permission)
	}
	slices.SortFunc(out, model.Permission.Compare)
	if len(out) == 0 {
		return nil, fmt.Errorf("gate %s opens nothing that source %s knows", p.Name, p.Source)
	}
	return out, nil
}

// peer returns who a source says it is.
func (w *Workspace) peer(ctx context.Context, src string) (source.Peer, error) {
	s, err := w.Source(src)
	if err != nil {
		return source.Peer{}, err
	}
	r, err := w.reader(ctx, s)
	if err != nil {
		return source.Peer{}, err
	}
	p, ok := r.(interface {
		Peer(context.Context) (source.Peer, error)
	})
	if !ok {
		return source.Peer{}, fmt.Errorf("source %s: %w; a gate opens in a system that is connected as a bridge", src,
			source.ErrReadOnly)
	}
	return p.Peer(ctx)
}

// recorded reports an error when a request is not, word for word, what the ledger tells of
// it: somebody wrote to the store. One that was answered or opened meanwhile is read again.
func (w *Workspace) recorded(ctx context.Context, r *gate.Request) error {
	for {
		entries, _, err := w.History(ctx)
		if err != nil {
			return damaged(err)
		}
		differs := asRecorded(entries, r)
		if differs == nil {
			return nil
		}
		now, err := w.keeper(ctx).Find(ctx, r.ID)
		if err != nil {
			return err
		}
		if now.Row == r.Row { // the ledger was read after it, and nothing came between
			return differs
		}
		*r = *now
	}
}

// asRecorded holds a request against the last entry about it.
func asRecorded(entries []ledger.Entry, r *gate.Request) error {
	now, err := json.Marshal(r)
	if err != nil {
		return err
	}
	for _, e := range slices.Backward(ledger.ByKind(entries, "gate.")) {
		var was gate.Request
		if json.Unmarshal(e.Body, &was) != nil || was.ID != r.ID || was.State == "" {
			continue
		}
		if !bytes.Equal(e.Body, now) {
			return fmt.Errorf("%w: request %s in the store is not what entry %d of the ledger says of it; somebody "+
				"changed one of the two", gate.ErrNotAllowed, r.ID, e.Number)
		}
		return nil
	}
	return fmt.Errorf("%w: the ledger knows nothing of request %s", gate.ErrNotAllowed, r.ID)
}

// OpenRequest opens an approved request, after checking all of it anew: what was signed and
// by whom, the gate, the people and roles of now, what the ledger says, and the clocks.
func (w *Workspace) OpenRequest(ctx context.Context, id string) (*gate.Request, string, error) {
	k := w.keeper(ctx)
	r, err := k.Find(ctx, id)
	if err != nil {
		return nil, "", err
	}
	note, err := w.trusted(ctx)
	if err != nil {
		return nil, "", err
	}
	if err := w.recorded(ctx, r); err != nil {
		return nil, "", err
	}
	p, err := w.policy(r.Gate)
	if err != nil {
		return nil, "", err
	}
	st, err := w.standing(ctx, r.Source)
	if err != nil {
		return nil, "", err
	}
	e := gate.Evidence{Member: st.in, Same: st.same, Local: w.Clock().UTC()}
	if e.Workspace, err = w.store.Workspace(ctx); err != nil {
		return nil, "", err
	}
	if e.Rights, err = st.opens(p); err != nil {
		return nil, "", err
	}
	c, err := k.Changer(ctx, r.Source)
	if err != nil {
		return nil, "", err
	}
	peer, err := c.Peer(ctx)
	if err != nil {
		return nil, "", err
	}
	e.Peer, e.Server = peer.ID, peer.Time
	entries, _, err := w.History(ctx)
	if err != nil {
		return nil, "", damaged(err)
	}
	if len(entries) > 0 {
		e.Ledger = entries[len(entries)-1].At
	}
	e.Asked, e.Answered = w.proofs(r)
	now, err := r.Ready(p, e)
	if err != nil {
		return nil, "", err
	}
	if protected := w.ProtectedIn(r.Source); protected[r.By] || protected[r.Subject] {
		return nil, "", fmt.Errorf("%w: %s is protected", gate.ErrNotAllowed, r.Subject)
	}
	return r, note, damaged(k.Open(ctx, r, now))
}

// WithoutTokens returns an environment without the variables that hold tokens of the tool:
// whoever runs under an open gate has that gate's rights, not ours.
func (w *Workspace) WithoutTokens(env []string) []string {
	return slices.DeleteFunc(slices.Clone(env), func(kv string) bool {
		name, _, _ := strings.Cut(kv, "=")
		return slices.ContainsFunc(w.Sources, func(s config.Source) bool {
			return name != "" &&
				(name == s.Token.Env || name == s.ChangeToken.Env)
		})
	})
}
