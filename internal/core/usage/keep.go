package usage

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"iter"
	"maps"
	"slices"
	"time"

	"clipfence/internal/core/model"
)

// What takes all uses of a source to know can be kept, so that a question about few reads theirs alone: what each log
// held, which nodes the log shows to have been there, and the uses themselves, as many at a time as are asked for
// together.

// AppendUses writes uses after b, each of another key, for [Gather.AddUses]: a [Table], its length before it, and
// behind it which of the rows are the least that there were. All numbers are uvarints.
func AppendUses(b []byte, uses iter.Seq2[int, Use]) ([]byte, error) {
	t := &Table{}
	var least []byte
	for _, u := range uses {
		if u.AtLeast {
			least = binary.AppendUvarint(least, uint64(t.Len()))
		}
		t.MergeUse(u)
	}
	table, err := t.AppendBinary(nil)
	if err != nil {
		return b, err
	}
	b = append(binary.AppendUvarint(b, uint64(len(table))), table...)
	return append(b, least...), nil
}

// AddUses takes in what [AppendUses] wrote. After [ErrTable] nothing that was gathered is of use.
func (g *Gather) AddUses(b []byte) error {
	r := &tableReader{b: b}
	table := r.take(r.uint(uint64(len(b))))
	least := map[uint64]bool{}
	for len(r.b) > 0 && !r.bad {
		least[r.uint(uint64(len(b)))] = true
	}
	if r.bad {
		return ErrTable
	}
	n := uint64(0)
	err := decodeTable(table, &g.ids, &g.perms, &g.paths, &g.nets,
		func(k RowKey, count, first, last int64, days Days, counts Counts, hours Hours) {
			g.add(k, count, first, last, days, counts, hours, least[n])
			n++
		})
	for i := range least {
		if err == nil && i >= n {
			err = ErrTable
		}
	}
	return err
}

// keptLogs is what is kept of a [Coverage]: what uses tell of it.
type keptLogs struct {
	First time.Time
	Logs  []keptLog `json:",omitempty"`
}

type keptLog struct {
	Node           model.Path
	Service, Class string
	First, Last    time.Time
	Days           []byte `json:",omitempty"`
	Events         int64  `json:",omitempty"`
	Callers        int    `json:",omitempty"`
	Gaps           []Gap  `json:",omitempty"`
	Refused        bool   `json:",omitempty"`
	Mute           int    `json:",omitempty"`
}

// Observed writes what [Coverage.Observe] saw, for [Coverage.Recall].
func (c *Coverage) Observed() ([]byte, error) {
	k := keptLogs{First: c.read.First}
	for at, s := range c.streams {
		days, err := s.Days.MarshalBinary()
		if err != nil {
			return nil, err
		}
		k.Logs = append(k.Logs, keptLog{at.node, at.service, at.class, s.First, s.Last, days, s.Events, s.Callers,
			s.Gaps, s.Refused, s.Mute})
	}
	return json.Marshal(k)
}

// Observed is what [Coverage.Observe] saw.
type Observed struct {
	first   time.Time
	streams map[coverageKey]*Stream
}

// Recall takes for observed what [Coverage.Observed] wrote of a coverage of the same records, that read the same.
func (c *Coverage) Recall(b []byte) error {
	o, err := ReadObserved(b)
	if err == nil {
		c.Take(o)
	}
	return err
}

// Take does what [Coverage.Recall] does, with what was read.
func (c *Coverage) Take(o *Observed) { c.streams, c.read.First = o.streams, o.first }

// ReadObserved reads what [Coverage.Observed] wrote, for one coverage.
func ReadObserved(b []byte) (*Observed, error) {
	var k keptLogs
	if err := json.Unmarshal(b, &k); err != nil {
		return nil, fmt.Errorf("what logs held: %w", err)
	}
	streams := map[coverageKey]*Stream{}
	for _, l := range k.Logs {
		s := &Stream{First: l.First, Last: l.Last, Events: l.Events, Callers: l.Callers, Gaps: l.Gaps,
			Refused: l.Refused, Mute: l.Mute}
		if err := s.Days.UnmarshalBinary(l.Days); err != nil {
			return nil, fmt.Errorf("what the log of %s held: %w", l.Node, err)
		}
		streams[coverageKey{l.Node, l.Service, l.Class}] = s
	}
	return &Observed{k.First, streams}, nil
}

// Witnessed returns what [Inventory.Witness] saw, in order, for [Inventory.Recall].
func (v *Inventory) Witnessed() []model.Path {
	return slices.SortedFunc(maps.Keys(v.saw), model.Path.Compare)
}

// Recall takes for witnessed what [Inventory.Witnessed] said of the same inventory.
func (v *Inventory) Recall(saw []model.Path) {
	v.saw = map[model.Path]bool{}
	for _, p := range saw {
		v.saw[p] = true
	}
}
