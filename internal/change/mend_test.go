package change_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"clipfence/internal/change"
	"clipfence/internal/core/model"
	"clipfence/internal/source"
)

// TestMend switches logs on and lets their writers write, and takes it all back.
func TestMend(t *testing.T) {
	node := "/mooring/harbour:t/berth:p"
	log := func(on bool, writer string) model.CoverageRecord {
		r := model.CoverageRecord{Node: model.MustPath(node), Service: "stow", LogClass: "read", Written: on}
		if writer != "" {
			r.Writer, r.WriterNeeds = model.MustID(writer), model.MustPermission("watch/logbook:write")
		}
		return r
	}
	for _, tt := range []struct {
		name  string
		log   model.CoverageRecord
		bend  func(e *model.Estate)
		steps string // what is done, in order
		err   string
	}{
		{"off, written by nobody in particular", log(false, ""), nil, "change log settings of " + node, ""},
		{"off, its writer may write", log(false, "person/admin"), nil, "change log settings of " + node, ""},
		{"off, and its writer may not", log(false, "workload/x"), nil,
			"add grant log-workload-x-*; change log settings of " + node, ""},
		{"on, and its writer may not", log(true, "workload/x"), nil, "add grant log-workload-x-*", ""},
		{"no role gives just that", log(true, "workload/x"), func(e *model.Estate) { e.Roles = nil },
			"add role log-workload-x-*; add grant log-workload-x-*", ""},
		{"a denial keeps it out", log(true, "workload/x"), func(e *model.Estate) {
			e.Denials = []model.Denial{{ID: "d-1", To: []model.ID{model.MustID("workload/x")},
				Rights: model.Permissions(model.MustPermission("watch/logbook:write")),
				Where:  []model.PathPattern{model.MustPathPattern("/mooring/**")}}}
		}, "", "denial d-1 refuses workload/x"},
		{"its writer is gone", log(true, "workload/nobody"), nil, "", "does not exist"},
		{"its writer cannot sign in", log(true, "workload/x"), func(e *model.Estate) {
			for i := range e.Identities {
				if e.Identities[i].ID == model.MustID("workload/x") {
					e.Identities[i].Disabled = true
				}
			}
		}, "", "is disabled"},
		{"its writer is this tool", log(true, "workload/fence"), func(e *model.Estate) { e.Grants = e.Grants[:3] }, "",
			"does not give itself rights"},
		{"a log that is not there any more", model.CoverageRecord{Node: model.MustPath(node), Service: "post",
			LogClass: "read"}, nil, "", "lists no log post/read"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			r := newRig(t)
			setting := `{"node":"` + node +
				`","writer":"workload/x","keep_days":7,"logs":[{"service":"stow","log_class":"read","written":false},{"service":"stow","log_class":"write","written":false}]}`
			if err := r.changer.Do(t.Context(), source.Step{Kind: source.LogSettings, ID: node,
				After: []byte(setting)}); err != nil {
				t.Fatal(err)
			}
			before := r.dump(t)
			if tt.bend != nil {
				tt.bend(r.estate)
				r.survey(t)
			}
			steps, edits, err := change.Mend(t.Context(), r.changer, r.index, []model.CoverageRecord{tt.log},
				[]model.ID{model.MustID("workload/fence")}, time.Now())
			if tt.err != "" {
				if err == nil || !strings.Contains(err.Error(), tt.err) {
					t.Errorf("error %v, want %q", err, tt.err)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			var said []string
			for _, s := range steps {
				what := change.Say(s)
				if i := strings.Index(what, "log-workload-x-"); i >= 0 {
					what = what[:i] + "log-workload-x-*"
				}
				said = append(said, what)
			}
			if got := strings.Join(said, "; "); got != tt.steps {
				t.Fatalf("steps %q, want %q", got, tt.steps)
			}
			c := &change.Change{ID: "c-1", Source: "mooring"}
			c.Set(steps, edits)
			run := &change.Runner{Changer: r.changer, Ledger: r.ledger, Wait: time.Minute}
			if err := run.Run(t.Context(), c); err != nil {
				t.Fatal(err)
			}
			doc, err := r.changer.Get(t.Context(), source.LogSettings, node)
			if err != nil {
				t.Fatal(err)
			}
			if on := strings.Count(string(doc.Body), `"written":true`); on == 0 != tt.log.Written ||
				!strings.Contains(string(doc.Body), `"keep_days":7`) {
				t.Errorf("the settings are now %s", doc.Body)
			}
			if w := tt.log.Writer; !w.IsZero() && !r.mayOn(t, w.String(), "watch/logbook:write", node) {
				t.Errorf("%s still may not write", w)
			}
			if r.mayOn(t, "workload/x", "watch/logbook:write", node+"/box:b") {
				t.Error("the writer got more than it lacked")
			}
			if err := run.Run(t.Context(), c.Undo("c-2")); err != nil {
				t.Fatal(err)
			}
			doc, err = r.changer.Get(t.Context(), source.LogSettings, node)
			if err != nil || string(doc.Body) != setting {
				t.Errorf("taken back, the settings are %s, %v", doc.Body, err)
			}
			if after := r.dump(t); after != before {
				t.Errorf("taken back, the source is not as it was:\n%s\n%s", before, after)
			}
			// A settings document that somebody edits meanwhile is not written over.
			last := steps[len(steps)-1]
			if last.Kind == source.LogSettings {
				if err := r.changer.Do(t.Context(),
					source.Step{Kind: source.LogSettings, ID: node, Before: last.Before,
						After: []byte(strings.Replace(setting, "7", "8", 1))}); err != nil {
					t.Fatal(err)
				}
				run.Wait = 200 * time.Millisecond
				if err := run.Run(t.Context(), &change.Change{ID: "c-3", Source: "mooring",
					Steps: steps[len(steps)-1:]}); !errors.Is(err, source.ErrConflict) {
					t.Errorf("over somebody's edit: %v", err)
				}
			}
		})
	}
}
