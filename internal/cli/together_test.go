package cli

import (
	"fmt"
	"testing"

	"clipfence/internal/core/fence"
	"clipfence/internal/core/model"
	"clipfence/internal/core/rehearse"
	"clipfence/internal/work"
)

// TestFailingFirst: of many fences those that do not hold are told first, the others in their order behind
// them, and a few commands to go on with.
func TestFailingFirst(t *testing.T) {
	j := &work.Joint{Joint: &rehearse.Joint{}, Risk: &work.Risk{}}
	for i := range 40 {
		r := &rehearse.Result{}
		if i == 7 || i >= 25 {
			r.Changed = []string{"grant g is not what it was"}
		}
		j.Each = append(j.Each, r)
		j.Fences = append(j.Fences, &fence.Fence{For: model.MustID(fmt.Sprintf("s:person/p%02d", i))})
		j.Names = append(j.Names, fmt.Sprintf("drafts/p%02d.fence.yaml", i))
	}
	d := jointly(j, false)
	rows := d.Rows.([]jointRow)
	got := ""
	for _, r := range rows[:3] {
		got += fmt.Sprint(r.File, " ", r.OK, "; ")
	}
	if want := "drafts/p07.fence.yaml false; drafts/p25.fence.yaml false; drafts/p26.fence.yaml false; "; got != want {
		t.Errorf("first %s, want %s", got, want)
	}
	if at := len(rows) - 24; len(rows) != 40 || rows[at].File != "drafts/p00.fence.yaml" || !rows[at].OK {
		t.Errorf("%d rows, %+v", len(rows), rows[at])
	}
	if d.Head != "DO NOT HOLD: 16 of 40 fences alone" {
		t.Error(d.Head)
	}
	if len(d.Next) != 10 || d.Next[0] != "clipfence rehearse drafts/p07.fence.yaml" {
		t.Errorf("%d: %v", len(d.Next), d.Next)
	}
}
