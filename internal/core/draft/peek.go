package draft

import (
	"clipfence/internal/core/risk"
	"fmt"
	"math"
	"sync"
)

func (w *Worth) Peek() (*risk.Past, *risk.Model) { return w.past, w.model }

var PeekMu sync.Mutex
var PeekBy = map[string][3]float64{}

func (d *drafter) peek(c *candidate, perm int, was, now, weight float64, group bool) {
	PeekMu.Lock()
	defer PeekMu.Unlock()
	k := fmt.Sprintf("%-12s %v group=%v", c.class, d.x.Level(perm), group)
	v := PeekBy[k]
	v[0]++
	v[1] += weight * (math.Log2(1+now) - math.Log2(1+was))
	v[2] += c.hazard
	PeekBy[k] = v
}
