package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"time"

	"clipfence/internal/config"
	"clipfence/internal/core/access"
	"clipfence/internal/core/access/index"
	"clipfence/internal/core/model"
	"clipfence/internal/snapshot"
	"clipfence/internal/store"
)

// Source is a source as it was surveyed, ready to be questioned.
type Source struct {
	config.Source
	*index.Index // what is in force at a time: see [index.Index.InForce]
	Survey       store.Survey

	listed *index.Index // as the source lists it, with what is over; nil: nothing is
	at     time.Time    // the time
}

// Surveyed opens the snapshot of the newest survey of a source, with the people of
// other sources who are linked into it. A snapshot that is of another survey, or
// damaged, is made anew.
func (w *Workspace) Surveyed(ctx context.Context, s config.Source) (*Source, error) {
	survey, err := w.store.Newest(ctx, s.Name)
	if errors.Is(err, store.ErrNone) {
		return nil, fmt.Errorf("source %s was not surveyed yet; run: clipfence survey", s.Name)
	}
	if err != nil {
		return nil, err
	}
	file, key, err := w.snapshotOf(ctx, s, survey)
	if err != nil {
		return nil, err
	}
	f, err := snapshot.Open(file, key)
	if err == nil {
		w.closers = append(w.closers, func() error {
			if err := f.Err(); err != nil { // it was as it was written, and is not as this program writes it
				return errors.Join(fmt.Errorf("%s: %w; remove it, it is made anew", file, err), f.Close())
			}
			return f.Close()
		})
		return w.today(ctx, &Source{Source: s, Index: f.Index, Survey: survey})
	}
	if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, snapshot.ErrOther) {
		w.Log.Warn("the snapshot is made anew", "error", err)
	}
	e, _, err := w.store.Estate(ctx, s.Name, survey.ID)
	if err != nil {
		return nil, err
	}
	out, err := w.keepIndex(ctx, s, survey, e)
	if err != nil {
		return nil, err
	}
	return w.today(ctx, out)
}

// today returns what is in force of a source that was surveyed.
func (w *Workspace) today(ctx context.Context, s *Source) (*Source, error) {
	s, err := w.young(ctx, s)
	if err != nil {
		return nil, err
	}
	return s.inForce(w.now()), nil
}

// snapshotOf returns the file of a source's snapshot, and the key that says of which
// surveys and links it is.
func (w *Workspace) snapshotOf(ctx context.Context, s config.Source, survey store.Survey) (file, key string,
	err error) {
	key = surveyKey(survey)
	for _, o := range w.linkedSources(s.Name) {
		v, err := w.store.Newest(ctx, o)
		if err != nil && !errors.Is(err, store.ErrNone) {
			return "", "", err
		}
		key += "; " + surveyKey(v)
	}
	for _, l := range w.Links {
		key += fmt.Sprintf("; %s = %s", l.A, l.B)
	}
	mark, err := w.store.SightingsMark(ctx, s.Name)
	if err != nil {
		return "", "", err
	}
	if mark != "" {
		key += "; in groups " + mark
		for _, a := range s.Aliases {
			key += fmt.Sprintf("; %s is %s", a.Log, a.Is)
		}
	}
	h := sha256.Sum256([]byte(key)) // there may be many links
	return w.Path(".clipfence/index/" + url.PathEscape(s.Name) + ".index"), hex.EncodeToString(h[:]), nil
}

// keepIndex indexes a survey and keeps the snapshot.
func (w *Workspace) keepIndex(ctx context.Context, s config.Source, survey store.Survey, e *model.Estate) (*Source,
	error) {
	file, key, err := w.snapshotOf(ctx, s, survey)
	if err != nil {
		return nil, err
	}
	out, err := w.listed(ctx, s, e, survey)
	if err != nil {
		return nil, err
	}
	if err := snapshot.Write(file, key, out.Index); err != nil { // no answer needs it
		w.Log.Warn("the snapshot could not be written; questions are slower without", "error", err)
	}
	return out, nil
}

func surveyKey(v store.Survey) string {
	return fmt.Sprintf("%s survey %d of %s", v.Source, v.ID, v.Finished.UTC().Format(time.RFC3339Nano))
}

// linkedSources returns the other sources when links lead into a source.
func (w *Workspace) linkedSources(name string) []string {
	leads := false
	for _, l := range w.Links {
		leads = leads || l.A.Source == name || l.B.Source == name
	}
	var out []string
	for _, s := range w.Sources {
		if leads && s.Name != name {
			out = append(out, s.Name)
		}
	}
	return out
}

// link adds the people of other sources who are linked into an estate.
func (w *Workspace) link(ctx context.Context, e *model.Estate, others []string) (*model.Estate, error) {
	var list []*model.Estate
	for _, name := range others {
		o, _, err := w.store.Estate(ctx, name, 0)
		if errors.Is(err, store.ErrNone) {
			continue
		}
		if err != nil {
			return nil, err
		}
		list = append(list, o)
	}
	if len(list) == 0 {
		return e, nil
	}
	return access.Linked(e, w.Links, list), nil
}

// Known returns nil when the estate lists an identity, and otherwise says what comes
// near.
func (s *Source) Known(id model.ID) error {
	if _, ok := s.Identity(id); ok || id.Open() {
		return nil
	}
	near := ""
	if o, ok := s.Like(id); ok {
		near = fmt.Sprintf("; did you mean %s?", o)
	}
	return fmt.Errorf("no identity %s in source %s (survey of %s)%s", id, s.Name,
		s.Survey.Finished.Format(time.RFC3339), near)
}

// AsSurveyed indexes an earlier survey of a source, with what was in force then.
func (w *Workspace) AsSurveyed(ctx context.Context, src config.Source, id int64) (*Source, error) {
	e, survey, err := w.estate(ctx, src, id)
	if err != nil {
		return nil, err
	}
	return w.built(ctx, src, e, survey, survey.Finished)
}

// built returns a source as a survey shows it, with what is in force at a time.
func (w *Workspace) built(ctx context.Context, src config.Source, e *model.Estate, survey store.Survey,
	at time.Time) (*Source, error) {
	s, err := w.listed(ctx, src, e, survey)
	if err != nil {
		return nil, err
	}
	return s.inForce(at), nil
}

// listed indexes an estate with the people of other sources who are linked into it, and with those of
// whom the log says in which groups they are.
func (w *Workspace) listed(ctx context.Context, src config.Source, e *model.Estate, survey store.Survey) (*Source,
	error) {
	e, err := w.link(ctx, e, w.linkedSources(src.Name))
	if err == nil {
		e, err = w.withSighted(ctx, src, e)
	}
	if err != nil {
		return nil, err
	}
	x, err := index.Build(e)
	if err != nil {
		return nil, fmt.Errorf("source %s: %w", src.Name, err)
	}
	return &Source{Source: src, Index: x, Survey: survey}, nil
}
