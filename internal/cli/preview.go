package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"clipfence/internal/auditlog"
	"clipfence/internal/config"
	"clipfence/internal/render"
)

const (
	previewed = 5   // records that are shown
	lookedAt  = 500 // and that are looked at, until one is understood
)

// preview says how the first records of a source's logs are understood, and whether any of
// them was: a call, or well-formed and none.
func (w *workspace) preview(ctx context.Context, s config.Source) (t render.Table, understood bool, err error) {
	t = render.Table{Title: "The first records of its logs", Columns: []render.Column{{Name: "LINE", Right: true}, {Name: "FORMAT"}, {Name: "TIME"}, {Name: "CALLER"}, {Name: "OPERATION"}, {Name: "PATH", Path: true}, {Name: "OUTCOME", Wrap: true}}}
	mk, err := w.logFormats(s)
	if err != nil {
		return t, false, err
	}
	show := func(line int, format string, e *auditlog.Event, fault error) {
		var skip *auditlog.Skip
		understood = understood || fault == nil || errors.As(fault, &skip)
		if len(t.Rows) < previewed {
			previewRow(&t, line, format, e, fault)
		}
	}
	formats := mk()
	looked := 0
	for p, err := range w.files(s, s.Logs).Logs(ctx, "") {
		if err != nil {
			break // the check itself has said so
		}
		for _, f := range formats {
			if h, ok := f.(interface{ Header([]byte) }); ok {
				h.Header(p.Header)
			}
		}
		if p.Rows != nil {
			if err := p.Rows(func(n int, e *auditlog.Event, fault error) bool {
				show(n, "parquet", e, fault)
				looked++
				return looked < lookedAt
			}); err != nil {
				show(0, "parquet", nil, err)
			}
		}
		for line, record := range p.Chunk.Records(p.Quoted) {
			if looked++; looked > lookedAt {
				break
			}
			line = p.Chunk.Line.Next(line).Number()
			known := false
			for _, f := range formats {
				if f.Sniff(record) {
					known = true
					if err := f.Parse(record, func(e *auditlog.Event) error { show(line, f.Name(), e, nil); return nil }); err != nil {
						show(line, f.Name(), nil, err)
					}
					break
				}
			}
			if !known {
				show(line, "unknown", nil, auditlog.ErrForeign)
			}
		}
		if p.Message != "" {
			show(p.Chunk.Line.Number(), "", nil, errors.New(p.Message))
		}
		if understood || looked >= lookedAt {
			break
		}
	}
	return t, understood || looked == 0, nil
}

func previewRow(t *render.Table, line int, format string, e *auditlog.Event, fault error) {
	if fault != nil {
		tone := render.Bad
		var skip *auditlog.Skip
		if errors.As(fault, &skip) {
			tone = render.Dim
		}
		t.Row(render.C(fmt.Sprint(line)), render.C(format), render.C(""), render.C(""), render.C(""), render.C(""), render.Cell{Text: fault.Error(), Tone: tone})
		return
	}
	who := string(e.Who.Text)
	if len(e.ActingFor.Text) > 0 {
		who += " for " + string(e.ActingFor.Text)
	}
	t.Row(render.C(fmt.Sprint(line)), render.C(format), render.C(time.UnixMilli(e.Time).UTC().Format("2006-01-02 15:04:05")), render.C(who), render.C(string(e.Operation)), render.C(string(e.Path)), render.C(string(e.Outcome)))
}
