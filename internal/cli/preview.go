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

const previewed = 5 // records of the first log

// preview says how the first records of a source's logs are understood.
func (w *workspace) preview(ctx context.Context, s config.Source) (render.Table, error) {
	t := render.Table{Title: "The first records of its logs", Columns: []render.Column{{Name: "LINE", Right: true}, {Name: "FORMAT"}, {Name: "TIME"}, {Name: "CALLER"}, {Name: "OPERATION"}, {Name: "PATH", Path: true}, {Name: "OUTCOME", Wrap: true}}}
	mk, err := w.logFormats(s)
	if err != nil {
		return t, err
	}
	formats := mk()
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
				previewRow(&t, n, "parquet", e, fault)
				return len(t.Rows) < previewed
			}); err != nil {
				previewRow(&t, 0, "parquet", nil, err)
			}
		}
		for line, record := range p.Chunk.Records(p.Quoted) {
			if len(t.Rows) >= previewed {
				break
			}
			line = p.Chunk.Line.Next(line).Number()
			known := false
			for _, f := range formats {
				if f.Sniff(record) {
					known = true
					if err := f.Parse(record, func(e *auditlog.Event) error { previewRow(&t, line, f.Name(), e, nil); return nil }); err != nil {
						previewRow(&t, line, f.Name(), nil, err)
					}
					break
				}
			}
			if !known {
				previewRow(&t, line, "unknown", nil, auditlog.ErrForeign)
			}
		}
		if p.Message != "" {
			previewRow(&t, p.Chunk.Line.Number(), "", nil, errors.New(p.Message))
		}
		if len(t.Rows) > 0 {
			break
		}
	}
	return t, nil
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
