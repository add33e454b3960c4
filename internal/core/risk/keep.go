package risk

import (
	"encoding/json"
	"errors"
	"fmt"
)

// kept is a model as it is written down: what was counted, from which it is fitted again.
type kept struct {
	Late, Soon keptOutlook
	Seen       [classes]float64
	Young      [2]float64
	Together   [classes][2]float64
	Popular    map[string][2]float64 // by permission: the share that uses it, and how many hold it where it is seen
}

type keptOutlook struct {
	Days, Ahead float64
	Again       float64
	Bins        [classes]map[uint32][3]float64
}

// Keep writes down what was learned, for [Recall].
func (m *Model) Keep(p *Past) ([]byte, error) {
	k := kept{Late: m.late.keep(), Soon: m.soon.keep(), Seen: m.seen, Young: [2]float64{m.young.n, m.young.k},
		Popular: map[string][2]float64{}}
	for c, t := range m.together {
		k.Together[c] = [2]float64{t.n, t.k}
	}
	for perm, n := range p.holders {
		k.Popular[p.x.Permission(perm).Permission.String()] = [2]float64{p.popular[perm], n}
	}
	return json.Marshal(k)
}

func (o *outlook) keep() keptOutlook {
	k := keptOutlook{Days: o.days, Ahead: o.ahead, Again: o.again}
	for c, bins := range o.bins {
		k.Bins[c] = map[uint32][3]float64{}
		for bin, t := range bins {
			k.Bins[c][bin] = [3]float64{t.n, t.k, t.more}
		}
	}
	return k
}

// ErrKept is returned for what is no model that was kept.
var ErrKept = errors.New("not what was learned")

// Recall reads what [Model.Keep] wrote, and gives the past what was learned about it. The past must
// be of the same estate, uses and day as the one that was learned from, which is the caller's to
// know; it must not have been learned from itself.
func Recall(p *Past, data []byte) (*Model, error) {
	m, popular, err := readKept(data)
	if err != nil {
		return nil, err
	}
	p.popular, p.holders = map[int]float64{}, map[int]float64{}
	for i := range p.x.Numbers() {
		if t, ok := popular[p.x.Permission(i).Permission.String()]; ok {
			p.popular[i], p.holders[i] = t[0], t[1]
		}
	}
	m.fit()
	return m, nil
}

// mostKept is more than any count that was kept.
const mostKept = 1e12

// readKept reads a model that is yet to be fitted, and how many use each permission.
func readKept(data []byte) (*Model, map[string][2]float64, error) {
	var k kept
	if err := json.Unmarshal(data, &k); err != nil {
		return nil, nil, fmt.Errorf("%w: %w", ErrKept, err)
	}
	m := &Model{seen: k.Seen, young: tally{n: k.Young[0], k: k.Young[1]}}
	for c, t := range k.Together {
		if !(t[0] >= t[1] && t[1] >= 0 && t[0] <= mostKept) {
			return nil, nil, fmt.Errorf("%w: %g of %g needed together", ErrKept, t[0], t[1])
		}
		m.together[c] = tally{n: t[0], k: t[1]}
	}
	for _, o := range []struct {
		from keptOutlook
		to   *outlook
		days float64
	}{{k.Late, &m.late, Horizon}, {k.Soon, &m.soon, Soon}} {
		if o.from.Days != o.days || !(o.from.Ahead >= 1) || !(o.from.Again >= 1 && o.from.Again <= mostKept) {
			return nil, nil, fmt.Errorf("%w: a horizon of %g days", ErrKept, o.from.Days)
		}
		*o.to = newOutlook(o.days, o.days)
		o.to.ahead, o.to.again = o.from.Ahead, o.from.Again
		for c, bins := range o.from.Bins {
			for bin, t := range bins {
				if !(t[0] >= t[1] && t[1] >= 0 && t[0] <= mostKept && t[2] >= 0 && t[2] <= mostKept) {
					return nil, nil, fmt.Errorf("%w: %g of %g needed, and %g more", ErrKept, t[1], t[0], t[2])
				}
				o.to.bins[c][bin] = tally{n: t[0], k: t[1], more: t[2]}
			}
		}
	}
	for _, n := range k.Seen {
		if !(n >= 0 && n <= mostKept) {
			return nil, nil, fmt.Errorf("%w: %g parts of a class", ErrKept, n)
		}
	}
	return m, k.Popular, nil
}
