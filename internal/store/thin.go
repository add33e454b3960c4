package store

import (
	"database/sql"
	"math"
	"time"

	"clipfence/internal/core/usage"
	"clipfence/internal/source"
)

// How long finished surveys of a source are kept, see [kept], and keptNodes for how many days the names of nodes that
// are gone.
const (
	newestKept = 20
	weeksKept  = 26
	longStep   = 30 // days
	keptNodes  = 430
)

// thin drops surveys of a source that are not kept any more: see [kept]. What holds was first seen, from then on,
// by the next survey that is kept, and last by the one before.
func thin(tx *sql.Tx, src string, now time.Time) error {
	ids, days, err := finished(tx, src)
	if err != nil {
		return err
	}
	keep := kept(days, usage.DayOf(now))
	for i := 0; i < len(ids); i++ {
		if keep[i] {
			continue
		}
		prev, to := int64(0), i
		if i > 0 {
			prev = ids[i-1]
		}
		for !keep[to] { // the newest is
			to++
		}
		next := ids[to]
		i = to
		// The names of nodes are kept as long as their calls may be, from the first survey on that does not show them:
		// who called what is not there any more did no more than that.
		for _, q := range []struct {
			sql  string
			args []any
		}{
			{`insert into past_nodes select source, id, (select min(finished) from surveys where source = ?1 and
				id > held.last and finished is not null) from held where source = ?1 and kind = ?2 and first > ?3 and last < ?4
				on conflict do update set until = max(until, excluded.until)`, []any{src, source.Nodes, prev, next}},
			{`delete from held where source = ? and first > ? and last < ?`, []any{src, prev, next}},
			{`update held set first = ?3 where source = ?1 and first > ?2 and first < ?3`, []any{src, prev, next}},
			{`update held set last = ?2 where source = ?1 and last > ?2 and last < ?3`, []any{src, prev, next}},
			{`delete from surveys where source = ? and finished is not null and id > ? and id < ?`,
				[]any{src, prev, next}},
		} {
			if _, err := tx.Exec(q.sql, q.args...); err != nil {
				return err
			}
		}
	}
	_, err = tx.Exec(`delete from past_nodes where source = ? and until < ?`, src,
		now.UTC().AddDate(0, 0, -keptNodes).Format(time.RFC3339))
	return err
}

// finished returns the finished surveys of a source, with the days on which they were, in order.
func finished(tx *sql.Tx, src string) (ids []int64, days []usage.Day, err error) {
	rows, err := tx.Query(`select id, finished from surveys where source = ? and finished is not null order by id`, src)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var text string
		if err := rows.Scan(&id, &text); err != nil {
			return nil, nil, err
		}
		at, err := stamp(text)
		if err != nil {
			return nil, nil, err
		}
		ids, days = append(ids, id), append(days, usage.DayOf(at))
	}
	return ids, days, rows.Err()
}

// kept says which surveys are kept, of the days of all in order: the newest [newestKept], the first one of each
// week for [weeksKept] weeks, and the first one of each [longStep] days for as long as calls are looked back at.
// Who surveys every day knows what was there a year ago by that, and keeps fifty of them.
func kept(days []usage.Day, today usage.Day) []bool {
	out := make([]bool, len(days))
	last := [2]usage.Day{math.MinInt32, math.MinInt32} // the week, or step, of the last one that was kept for it
	for i, d := range days {
		age := today - d
		week, step := d/7, d/longStep
		switch {
		case i >= len(days)-newestKept:
			out[i] = true
		case age <= 7*weeksKept:
			out[i] = week != last[0]
		case age <= keptNodes:
			out[i] = step != last[1]
		}
		if out[i] {
			last = [2]usage.Day{week, step}
		}
	}
	return out
}
