package risk

import (
	"maps"
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"
)

// ridge is the penalty on each squared coefficient but the constant.
const ridge = 4

// logit is a logistic regression of how often parts of one class are needed, on their facts.
type logit struct {
	sizes []int                    // of each fact
	from  func(bin uint32) float64 // the log odds without a past
	firm  float64                  // the penalty on leaving those as a whole
	beta  []float64
	known map[uint32]float64 // answers of chance
}

// cell is how many parts with the same facts there were, and how many of them were needed.
type cell struct {
	on   []int   // the columns that are 1
	from float64 // log odds without a past
	n, k float64
}

// columns returns which columns of the regression are 1 for a part: the constant, one of each
// fact, and one of the pairs of the first two.
func columns(sizes []int, bin uint32) []int {
	facts := make([]int, len(sizes))
	for i := len(sizes) - 1; i >= 0; i-- {
		facts[i] = int(bin) % sizes[i]
		bin /= uint32(sizes[i])
	}
	on := make([]int, 1, len(sizes)+2)
	at := 1
	for i, f := range facts {
		on = append(on, at+f)
		at += sizes[i]
	}
	if len(sizes) > 1 {
		on = append(on, at+facts[0]*sizes[1]+facts[1])
	}
	return on
}

// width is how many columns there are.
func width(sizes []int) int {
	n := 1
	for _, s := range sizes {
		n += s
	}
	if len(sizes) > 1 {
		n += sizes[0] * sizes[1]
	}
	return n
}

// fit fits a ridge logistic regression (le Cessie and van Houwelingen, Ridge estimators in
// logistic regression, Applied Statistics, 1992) to what was counted, by iteratively reweighted
// least squares with halved steps. What the chances are without a past is where it starts from.
func (l *logit) fit(bins map[uint32]tally) {
	var cells []cell
	for _, b := range slices.Sorted(maps.Keys(bins)) {
		cells = append(cells, cell{columns(l.sizes, b), l.from(b), bins[b].n, bins[b].k})
	}
	p := width(l.sizes)
	l.known = nil
	l.beta = make([]float64, p)
	loss := l.loss(cells)
	for range 50 {
		h := mat.NewSymDense(p, nil)
		g := mat.NewVecDense(p, nil)
		for i := range p {
			pen := float64(ridge)
			if i == 0 {
				pen = l.firm
			}
			h.SetSym(i, i, pen)
			g.SetVec(i, -pen*l.beta[i])
		}
		for _, c := range cells {
			mu := l.at(c.on, c.from)
			w := c.n * mu * (1 - mu)
			for a, i := range c.on {
				g.SetVec(i, g.AtVec(i)+c.k-c.n*mu)
				for _, j := range c.on[a:] {
					h.SetSym(i, j, h.At(i, j)+w)
				}
			}
		}
		var chol mat.Cholesky
		var step mat.VecDense
		if !chol.Factorize(h) || chol.SolveVecTo(&step, g) != nil {
			break
		}
		old := slices.Clone(l.beta)
		better := false
		for s := 1.0; s > 1e-3; s /= 2 {
			for i := range l.beta {
				l.beta[i] = old[i] + s*step.AtVec(i)
			}
			if x := l.loss(cells); x <= loss {
				better = loss-x > 1e-9*(1+math.Abs(loss))
				loss = x
				break
			}
			copy(l.beta, old)
		}
		if !better {
			break
		}
	}
}

// at returns the chance for some columns.
func (l *logit) at(on []int, x float64) float64 {
	for _, i := range on {
		x += l.beta[i]
	}
	return 1 / (1 + math.Exp(-x))
}

// loss is the penalised negative log likelihood.
func (l *logit) loss(cells []cell) float64 {
	x := 0.0
	for _, c := range cells {
		mu := min(max(l.at(c.on, c.from), 1e-12), 1-1e-12)
		x -= c.k*math.Log(mu) + (c.n-c.k)*math.Log(1-mu)
	}
	for _, b := range l.beta[1:] {
		x += ridge / 2 * b * b
	}
	return x + l.firm/2*l.beta[0]*l.beta[0]
}

// chance returns how likely a part with some facts is needed.
func (l *logit) chance(bin uint32) float64 {
	c, ok := l.known[bin]
	if !ok {
		c = l.at(columns(l.sizes, bin), l.from(bin))
		if l.known == nil {
			l.known = map[uint32]float64{}
		}
		l.known[bin] = c
	}
	return c
}
