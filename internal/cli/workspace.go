package cli

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"os/user"
	"slices"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/config"
	"clipfence/internal/core/engine"
	"clipfence/internal/core/gauge"
	"clipfence/internal/core/model"
	"clipfence/internal/core/usage"
	"clipfence/internal/ledger"
	"clipfence/internal/patrol"
	"clipfence/internal/source"
	"clipfence/internal/source/bridge"
	"clipfence/internal/source/files"
	"clipfence/internal/store"
)

// workspace is an opened workspace.
type workspace struct {
	*config.Config
	app    *app
	store  *store.Store
	ledger *ledger.Ledger

	closers []func() error
}

// open finds and opens the workspace; close it when done.
func (a *app) open(ctx context.Context) (*workspace, error) {
	c, err := config.Find(a.dir)
	if err != nil {
		return nil, err
	}
	s, err := store.Open(ctx, c.StoreFile())
	if err != nil {
		return nil, err
	}
	w := &workspace{Config: c, app: a, store: s}
	if s.Before != "" {
		a.say("This workspace was made by an earlier version and was brought up to date; its store as it was: %s", s.Before)
	}
	w.remark(c.Remarks...)
	w.ledger = &ledger.Ledger{File: c.LedgerFile(), Anchor: s, Now: a.clock, By: systemUser()}
	return w, nil
}

// remark tells what to write otherwise now in a file that was read all the same.
func (w *workspace) remark(rs ...model.Remark) {
	for _, r := range rs {
		w.app.say("remark: %s", r)
	}
}

func (w *workspace) close() error {
	var err error
	for _, c := range w.closers {
		err = errors.Join(err, c())
	}
	return errors.Join(err, w.store.Close())
}

// with opens the workspace for a command and closes it after.
func (a *app) with(ctx context.Context, f func(*workspace) error) (err error) {
	w, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	return f(w)
}

func systemUser() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "unknown"
}

// reader connects a source for reading.
func (w *workspace) reader(ctx context.Context, s config.Source) (source.Reader, error) {
	if s.Kind == "files" {
		return w.files(s, s.Logs), nil
	}
	c, err := w.client(ctx, s, s.Token)
	if err != nil {
		return nil, err
	}
	return bridge.Reader{Client: c}, nil
}

// files reads a files source with some logs.
func (w *workspace) files(s config.Source, logs []string) *files.Reader {
	r := &files.Reader{Name: s.Name, Estate: w.Path(s.Estate), Stdin: w.app.in, Remark: func(m model.Remark) { w.remark(m) }}
	for _, l := range logs {
		if l != "-" {
			l = w.Path(l)
		}
		r.LogFiles = append(r.LogFiles, l)
	}
	return r
}

// changer connects a source for changing.
func (w *workspace) changer(ctx context.Context, s config.Source) (source.Changer, error) {
	if s.Kind == "files" {
		return nil, fmt.Errorf("source %s is made of files: %w; carry the fence out where the estate came from, or connect that system as a bridge", s.Name, source.ErrReadOnly)
	}
	if s.ChangeToken.IsZero() {
		return nil, fmt.Errorf("source %s names no change_token in %s: %w", s.Name, w.Path(config.File), source.ErrReadOnly)
	}
	c, err := w.client(ctx, s, s.ChangeToken)
	if err != nil {
		return nil, err
	}
	return bridge.Changer{Client: c}, nil
}

func (w *workspace) client(ctx context.Context, s config.Source, secret config.Secret) (*bridge.Client, error) {
	token, err := secret.Get(ctx, w.Dir)
	if err != nil {
		return nil, fmt.Errorf("source %s: token: %w", s.Name, err)
	}
	o := bridge.Options{Name: s.Name, URL: s.URL, Token: token, Log: w.app.log}
	if s.CA != "" {
		if o.CA, err = os.ReadFile(w.Path(s.CA)); err != nil {
			return nil, fmt.Errorf("source %s: ca: %w", s.Name, err)
		}
	}
	return bridge.NewClient(o)
}

// pick returns the source that a command is about: the one an identity names, the
// one --source names, or the only one.
func (w *workspace) pick(named string) (config.Source, error) {
	if named != "" && w.app.source != "" && named != w.app.source {
		return config.Source{}, fmt.Errorf("the identity is of source %q, --source says %q", named, w.app.source)
	}
	if named == "" {
		named = w.app.source
	}
	return w.Source(named)
}

// each returns the sources that a command is about: the named one, or all.
func (w *workspace) each() ([]config.Source, error) {
	if w.app.source == "" && len(w.Sources) > 0 {
		return w.Sources, nil
	}
	s, err := w.Source(w.app.source)
	return []config.Source{s}, err
}

// surveyed is a source as it was last surveyed.
type surveyed struct {
	config.Source
	engine *engine.Engine
	survey store.Survey
}

func (w *workspace) surveyed(ctx context.Context, s config.Source) (*surveyed, error) {
	e, survey, err := w.estate(ctx, s, 0)
	if err != nil {
		return nil, err
	}
	return &surveyed{s, engine.New(e), survey}, nil
}

// estate reads a source as it was surveyed; 0 is its newest survey.
func (w *workspace) estate(ctx context.Context, s config.Source, id int64) (*model.Estate, store.Survey, error) {
	e, survey, err := w.store.Estate(ctx, s.Name, id)
	switch {
	case errors.Is(err, store.ErrNone) && id == 0:
		err = fmt.Errorf("source %s was not surveyed yet; run: clipfence survey", s.Name)
	case errors.Is(err, store.ErrNone):
		err = fmt.Errorf("source %s keeps no survey %d (see: clipfence survey list)", s.Name, id)
	}
	return e, survey, err
}

// known returns id when the estate lists it, and otherwise says what comes near.
func (s *surveyed) known(id model.ID) error {
	if _, ok := s.engine.Identity(id); ok || id.Open() {
		return nil
	}
	near := ""
	for _, i := range s.engine.Estate.Identities {
		if i.ID.Name == id.Name || i.ID.Kind == id.Kind && len(id.Name) > 3 && len(i.ID.Name) >= len(id.Name) && i.ID.Name[:len(id.Name)] == id.Name {
			near = fmt.Sprintf("; did you mean %s?", i.ID)
			break
		}
	}
	return fmt.Errorf("no identity %s in source %s (survey of %s)%s", id, s.Name, s.survey.Finished.Format(time.RFC3339), near)
}

func (w *workspace) weights() gauge.Weights {
	d := gauge.DefaultWeights
	for l, v := range map[model.Level]float64{model.See: w.Weights.See, model.Read: w.Weights.Read, model.Change: w.Weights.Change, model.Administer: w.Weights.Administer, model.HandOut: w.Weights.HandOut} {
		if v > 0 {
			d[l] = v
		}
	}
	return d
}

// gaugedFor picks the source of an identity, or the only one where who is "", compares
// its grants with its uses, and sees to it that the estate lists the identity.
func (w *workspace) gaugedFor(ctx context.Context, who string, window config.Duration) (id model.ID, s *surveyed, in *gauge.Input, res *gauge.Result, err error) {
	named := ""
	if who != "" {
		if id, named, err = parseID(who); err != nil {
			return id, nil, nil, nil, err
		}
	}
	src, err := w.pick(named)
	if err != nil {
		return id, nil, nil, nil, err
	}
	if s, in, res, err = w.gauged(ctx, src, window); err == nil && who != "" {
		err = s.known(id)
	}
	return id, s, in, res, err
}

// gauged compares a source's grants with its uses.
func (w *workspace) gauged(ctx context.Context, src config.Source, window config.Duration) (*surveyed, *gauge.Input, *gauge.Result, error) {
	s, err := w.surveyed(ctx, src)
	if err != nil {
		return nil, nil, nil, err
	}
	uses, _, err := w.uses(ctx, s)
	if err != nil {
		return nil, nil, nil, err
	}
	logs, err := w.store.LogState(ctx, src.Name)
	if err != nil {
		return nil, nil, nil, err
	}
	if window == 0 {
		window = w.Window
	}
	cover := usage.NewCoverage(s.engine.Estate.Coverage, usage.Read{First: logs.First, Ends: logs.Reads, Until: w.app.now()})
	cover.Observe(uses, func(p model.Permission) string { e, _ := s.engine.Entry(p); return e.LogClass }, s.writerRefused)
	in := &gauge.Input{Engine: s.engine, Uses: uses, Coverage: cover, AsOf: w.app.now(),
		Window: int(time.Duration(window).Hours() / 24), History: logs.First, Protected: w.ProtectedIn(src.Name), Weights: w.weights()}
	if in.Place, err = w.placing(ctx, s); err != nil {
		return nil, nil, nil, err
	}
	return s, in, gauge.Run(in), nil
}

// writerRefused reports whether the writer of a log is not allowed to write it.
func (s *surveyed) writerRefused(r model.CoverageRecord) bool {
	return !r.Writer.IsZero() && !r.WriterNeeds.IsZero() && s.engine.Decide(r.Writer, r.WriterNeeds, r.Node, model.Context{}).Outcome == engine.Denied
}

// resolver brings the names of a source's logs to those of its estate.
func (w *workspace) resolver(s *surveyed) (*usage.Resolver, error) {
	var ops []usage.Operation
	if s.Operations != "" {
		name := w.Path(s.Operations)
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("source %s: operations: %w", s.Name, err)
		}
		if ops, err = config.ParseOperations(name, data); err != nil {
			return nil, err
		}
	}
	aliases := slices.Clone(s.Aliases)
	for _, l := range w.Links { // the same person here and there
		for _, pair := range [][2]model.ID{{l.A, l.B}, {l.B, l.A}} {
			if pair[0].Source == s.Name && pair[1].Source != s.Name {
				other := pair[1]
				other.Source = ""
				aliases = append(aliases, usage.Alias{Log: other.String(), Is: pair[0]})
			}
		}
	}
	return usage.NewResolver(s.engine.Estate, aliases, ops), nil
}

// uses returns the uses of a source in the words of its estate.
func (w *workspace) uses(ctx context.Context, s *surveyed) ([]usage.Use, *usage.Resolver, error) {
	r, err := w.resolver(s)
	if err != nil {
		return nil, nil, err
	}
	uses, err := w.store.Uses(ctx, s.Name)
	if err != nil {
		return nil, nil, err
	}
	uses = usage.Settle(r.Uses(uses), func(u *usage.Use) bool {
		return s.engine.Decide(u.Principal(), u.Permission, u.Path, u.Context()).Outcome != engine.Denied
	})
	if !w.app.asOf.IsZero() { // asked about the past: nothing after that day is known yet
		last := usage.DayOf(w.app.asOf.Time)
		uses = slices.DeleteFunc(uses, func(u usage.Use) bool { return usage.DayOf(u.First) > last })
		for i := range uses {
			uses[i].Within(math.MinInt32, last)
		}
	}
	return uses, r, nil
}

// history reads the ledger and the changes it tells of.
func (w *workspace) history(ctx context.Context) ([]ledger.Entry, []*change.Record, error) {
	entries, err := w.ledger.Read(ctx)
	if err != nil {
		return entries, nil, err
	}
	h, err := change.History(entries)
	return entries, h, err
}

func (w *workspace) keeper() *patrol.Keeper {
	return &patrol.Keeper{Requests: w.store, Ledger: w.ledger, Now: func() time.Time { return w.app.clock().UTC() }, Wait: time.Duration(w.Wait),
		Changer: func(ctx context.Context, src string) (source.Changer, error) {
			s, err := w.Source(src)
			if err != nil {
				return nil, err
			}
			return w.changer(ctx, s)
		}}
}
