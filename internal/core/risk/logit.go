package risk

import (
	"maps"
	"math"
	"slices"

	"gonum.org/v1/gonum/integrate/quad"
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
	cov   *mat.SymDense      // of beta, as far as it is known
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
// What was counted again times over is that much less evidence. How well the odds are known is told by the
// curvature there (Laplace's approximation).
func (l *logit) fit(bins map[uint32]tally, again float64) {
	var cells []cell
	for _, b := range slices.Sorted(maps.Keys(bins)) {
		t := bins[b]
		cells = append(cells, cell{columns(l.sizes, b), l.from(b), (t.n + t.more) / again, t.k / again})
	}
	p := width(l.sizes)
	l.known = nil
	l.beta = make([]float64, p)
	loss := l.loss(cells)
	var chol mat.Cholesky
	for range 50 {
		g := mat.NewVecDense(p, nil)
		for i := range p {
			g.SetVec(i, -l.penalty(i)*l.beta[i])
		}
		for _, c := range cells {
			mu := l.at(c.on, c.from)
			for _, i := range c.on {
				g.SetVec(i, g.AtVec(i)+c.k-c.n*mu)
			}
		}
		var step mat.VecDense
		if !chol.Factorize(l.curvature(cells)) || chol.SolveVecTo(&step, g) != nil {
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
	l.cov = mat.NewSymDense(p, nil)
	if !chol.Factorize(l.curvature(cells)) || chol.InverseTo(l.cov) != nil {
		l.cov = nil // the likeliest chances have to do
	}
}

// penalty is what a squared coefficient costs, twice.
func (l *logit) penalty(i int) float64 {
	if i == 0 {
		return l.firm
	}
	return ridge
}

// curvature is that of the penalised negative log likelihood.
func (l *logit) curvature(cells []cell) *mat.SymDense {
	p := width(l.sizes)
	h := mat.NewSymDense(p, nil)
	for i := range p {
		h.SetSym(i, i, l.penalty(i))
	}
	for _, c := range cells {
		mu := l.at(c.on, c.from)
		w := c.n * mu * (1 - mu)
		for a, i := range c.on {
			for _, j := range c.on[a:] {
				h.SetSym(i, j, h.At(i, j)+w)
			}
		}
	}
	return h
}

// nodes and weights are those of Gauss-Hermite quadrature (Abramowitz and Stegun, Handbook of Mathematical
// Functions, 25.4.46).
var nodes, weights = func() (x, w []float64) {
	x, w = make([]float64, 15), make([]float64, 15)
	quad.Hermite{}.FixedLocations(x, w, math.Inf(-1), math.Inf(1))
	return x, w
}()

// mean returns the mean chance where the log odds are known with an error of some variance (MacKay, The
// evidence framework applied to classification networks, Neural Computation, 1992).
func mean(odds, variance float64) float64 {
	sum := 0.0
	for i, x := range nodes {
		sum += weights[i] / (1 + math.Exp(-odds-x*math.Sqrt(2*variance)))
	}
	return sum / math.SqrtPi
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

// unknown is the variance of what the facts of a part add, where nothing was counted.
func (l *logit) unknown() float64 { return float64(len(columns(l.sizes, 0))-1) / ridge }

// variance is that of the sum of some coefficients.
func (l *logit) variance(on []int) (v float64) {
	if l.cov == nil {
		return 0
	}
	for _, i := range on {
		for _, j := range on {
			v += l.cov.At(i, j)
		}
	}
	return v
}

// chance returns how likely a part with some facts is needed. A search takes away what looks least likely
// of very many parts, and of those that look so are many whose chance is only little known: more of them
// are needed than the likeliest chances add up to. So it is the mean over what the odds may be, where that
// is more. A prior is meant as a mean already: the less was learned beside it, the less is added.
func (l *logit) chance(bin uint32) float64 {
	c, ok := l.known[bin]
	if !ok {
		on := columns(l.sizes, bin)
		odds := l.from(bin)
		for _, i := range on {
			odds += l.beta[i]
		}
		// What is uncertain is what the facts add, less what the constant makes up for. The constant itself has a
		// prior of so many observations: the likeliest odds of a beta distribution are those of its mean.
		variance := min(l.variance(on), l.variance(on[1:]))
		c = max(mean(odds, 0), mean(odds, variance*max(0, 1-variance/l.unknown())))
		if l.known == nil {
			l.known = map[uint32]float64{}
		}
		l.known[bin] = c
	}
	return c
}
