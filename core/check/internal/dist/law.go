// Package dist computes with distributions of times that may never be reached.
package dist

import (
	"encoding/binary"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"

	"ironweir/core/model"
)

// Law is the distribution of a time in seconds, of which part may be missing: its
// mass is the chance that the time is reached at all. It is a list of atoms; while
// it is a single distribution shifted by a constant, that is kept, so that its tail
// is exact.
type Law struct {
	Atoms []Atom // by time
	exact *model.Distribution
	shift float64
	Mass  float64
}

type Atom struct{ At, P float64 }

// maxAtoms bounds the atoms of a law that is a sum.
const maxAtoms = 64

// Constant is the law of a constant.
func Constant(at float64) Law { return Law{Atoms: []Atom{{at, 1}}, Mass: 1} }

// Of returns the law of a distribution, slow times as long.
func Of(d model.Distribution) Law {
	switch d.Dist {
	case "", "constant":
		return Constant(d.Mean)
	case "samples":
		l := Law{Mass: 1}
		for _, v := range d.Values {
			l.Atoms = append(l.Atoms, Atom{v, 1 / float64(len(d.Values))})
		}
		return l
	}
	if d.Largest() == d.Expected() || d.Expected() == 0 {
		return Constant(d.Expected())
	}
	// Cells of equal chance, finer towards the long tail.
	l := Law{exact: &d, Mass: 1}
	sum, from := 0.0, 0.0
	for step := 0.06; from < 1; {
		if 1-from < 8*step {
			step /= 2
		}
		to := from + step
		if to > 1-1e-9 {
			to = 1
		}
		at := quantile(d, (from+to)/2)
		l.Atoms = append(l.Atoms, Atom{at, to - from})
		sum += at * (to - from)
		from = to
	}
	if scale := d.Expected() / sum; scale > 0.5 && scale < 2 {
		for i := range l.Atoms {
			l.Atoms[i].At *= scale
		}
	}
	return l
}

// Tail returns the chance that the time is reached and over a limit.
func (l Law) Tail(limit float64) float64 {
	if l.exact != nil {
		return l.Mass * (1 - CDF(*l.exact, limit-l.shift))
	}
	sum := 0.0
	for _, a := range l.Atoms {
		if a.At > limit*(1+1e-9) {
			sum += a.P
		}
	}
	return sum
}

// Within returns the law up to a limit; what is over it is left out.
func (l Law) Within(limit float64) Law {
	over := l.Tail(limit)
	if over == 0 {
		return l
	}
	out := Law{Mass: max(l.Mass-over, 0)}
	sum := 0.0
	for _, a := range l.Atoms {
		if a.At <= limit*(1+1e-9) {
			out.Atoms = append(out.Atoms, a)
			sum += a.P
		}
	}
	if sum == 0 && out.Mass > 0 { // all of it lies below the first atom
		out.Atoms = []Atom{{limit, out.Mass}}
	}
	for i := range out.Atoms {
		if sum > 0 {
			out.Atoms[i].P *= out.Mass / sum
		}
	}
	return out
}

// Laplace returns the Laplace transform of a law at s, its mass included.
func (l Law) Laplace(s float64) float64 {
	if l.exact != nil {
		return l.Mass * l.exact.Laplace(s) * math.Exp(-s*l.shift)
	}
	sum := 0.0
	for _, a := range l.Atoms {
		sum += a.P * math.Exp(-s*a.At)
	}
	return sum
}

// Times returns the law with its chances multiplied.
func (l Law) Times(p float64) Law {
	if p == 1 {
		return l
	}
	out := Law{exact: l.exact, shift: l.shift, Mass: l.Mass * p, Atoms: slices.Clone(l.Atoms)}
	for i := range out.Atoms {
		out.Atoms[i].P *= p
	}
	return out
}

// Plus returns the law of the sum of two independent times.
func (l Law) Plus(o Law) Law {
	if l.Mass == 0 || o.Mass == 0 {
		return Law{}
	}
	if len(l.Atoms) == 1 {
		l, o = o, l
	}
	out := Law{Mass: l.Mass * o.Mass}
	if len(o.Atoms) == 1 {
		by := o.Atoms[0]
		out.exact, out.shift = l.exact, l.shift+by.At
		out.Atoms = make([]Atom, len(l.Atoms))
		for i, a := range l.Atoms {
			out.Atoms[i] = Atom{a.At + by.At, a.P * by.P}
		}
		return out
	}
	out.Atoms = make([]Atom, 0, len(l.Atoms)*len(o.Atoms))
	for _, a := range l.Atoms {
		for _, b := range o.Atoms {
			out.Atoms = append(out.Atoms, Atom{a.At + b.At, a.P * b.P})
		}
	}
	out.Atoms = reduce(out.Atoms)
	return out
}

// Sums remembers sums of laws, which take long to work out and are the same in every proof
// of a remedy.
type Sums struct {
	known map[string]Law
	key   []byte
}

// NewSums remembers nothing yet.
func NewSums() *Sums { return &Sums{known: map[string]Law{}} }

// mostSums bounds the sums that are remembered: each takes some kilobytes.
const mostSums = 2_000

// Plus returns the law of the sum of two independent times.
func (s *Sums) Plus(l, o Law) Law {
	if len(l.Atoms) < 2 || len(o.Atoms) < 2 || l.Mass == 0 || o.Mass == 0 {
		return l.Plus(o) // which is soon done
	}
	s.key = s.key[:0]
	for _, one := range []Law{l, o} {
		s.key = binary.LittleEndian.AppendUint64(s.key, math.Float64bits(one.Mass))
		s.key = binary.LittleEndian.AppendUint32(s.key, uint32(len(one.Atoms)))
		for _, a := range one.Atoms {
			s.key = binary.LittleEndian.AppendUint64(s.key, math.Float64bits(a.At))
			s.key = binary.LittleEndian.AppendUint64(s.key, math.Float64bits(a.P))
		}
	}
	if known, ok := s.known[string(s.key)]; ok {
		return known
	}
	sum := l.Plus(o)
	if len(s.known) < mostSums {
		s.known[string(s.key)] = sum
	}
	return sum
}

// Or returns the law of either of two times that exclude each other.
func (l Law) Or(o Law) Law {
	switch {
	case l.Mass == 0:
		return o
	case o.Mass == 0:
		return l
	}
	out := Law{Mass: l.Mass + o.Mass, Atoms: append(slices.Clone(l.Atoms), o.Atoms...)}
	out.Atoms = reduce(out.Atoms)
	return out
}

// Meet returns the law of the later, or the earlier, of two independent times.
func (l Law) Meet(o Law, earlier bool) Law {
	out := Law{Mass: l.Mass * o.Mass}
	for _, x := range l.Atoms {
		for _, y := range o.Atoms {
			at := math.Max(x.At, y.At)
			if earlier {
				at = math.Min(x.At, y.At)
			}
			out.Atoms = append(out.Atoms, Atom{at, x.P * y.P})
		}
	}
	out.Atoms = reduce(out.Atoms)
	return out
}

// reduce sorts atoms and merges neighbours until they are few enough, some hundred at
// most; each step of the merge keeps the mean.
func reduce(atoms []Atom) []Atom {
	slices.SortFunc(atoms, func(a, b Atom) int {
		switch {
		case a.At < b.At:
			return -1
		case a.At > b.At:
			return 1
		}
		return 0
	})
	out := atoms[:0]
	total := 0.0
	for _, a := range atoms {
		total += a.P
		if n := len(out); n > 0 && a.At-out[n-1].At <= 1e-12*a.At {
			out[n-1].P += a.P
		} else if a.P > 0 {
			out = append(out, a)
		}
	}
	if len(out) <= maxAtoms {
		return out
	}
	// Half of the atoms for the bulk, half for the last hundredth, which is what
	// limits cut off.
	merged := make([]Atom, 0, maxAtoms)
	done := 0.0
	var now Atom
	flush := func() {
		if now.P > 0 {
			merged = append(merged, Atom{now.At / now.P, now.P})
		}
		now = Atom{}
	}
	for _, a := range out {
		left := total - done
		most := total / (maxAtoms / 2)
		if left < 0.05*total {
			most = max(left/6, 1e-9*total)
		}
		if now.P > 0 && now.P+a.P > most {
			flush()
		}
		now.At += a.At * a.P
		now.P += a.P
		done += a.P
	}
	flush()
	return merged
}

// Mean returns the mean of the time where it is reached, 0 where it never is.
func (l Law) Mean() float64 {
	switch {
	case l.Mass == 0:
		return 0
	case l.exact != nil:
		return l.exact.Expected() + l.shift
	}
	sum := 0.0
	for _, a := range l.Atoms {
		sum += a.At * a.P
	}
	return sum / l.Mass
}

// Square returns the mean square of the time where it is reached, 0 where it never is.
func (l Law) Square() float64 {
	if l.Mass == 0 {
		return 0
	}
	sum := 0.0
	for _, a := range l.Atoms {
		sum += a.At * a.At * a.P
	}
	return sum / l.Mass
}

// CDF returns the chance that a distribution gives at most x.
func CDF(d model.Distribution, x float64) float64 {
	if x < 0 {
		return 0
	}
	switch d.Dist {
	case "exponential":
		return -math.Expm1(-x / d.Mean)
	case "uniform":
		return min(max((x-d.Min)/(d.Max-d.Min), 0), 1)
	case "lognormal":
		if x == 0 {
			return 0
		}
		return distuv.UnitNormal.CDF(math.Log(x/d.P50) / d.Sigma)
	case "gamma":
		shape := 1 / (d.CV * d.CV)
		return distuv.Gamma{Alpha: shape, Beta: shape / d.Mean}.CDF(x)
	case "samples":
		n := 0
		for _, v := range d.Values {
			if v <= x {
				n++
			}
		}
		return float64(n) / float64(len(d.Values))
	}
	if x >= d.Mean {
		return 1
	}
	return 0
}

// quantile returns the x that a continuous distribution is below with chance p.
func quantile(d model.Distribution, p float64) float64 {
	switch d.Dist {
	case "exponential":
		return -d.Mean * math.Log1p(-p)
	case "uniform":
		return d.Min + p*(d.Max-d.Min)
	case "lognormal":
		return d.P50 * math.Exp(d.Sigma*distuv.UnitNormal.Quantile(p))
	case "gamma":
		shape := 1 / (d.CV * d.CV)
		return distuv.Gamma{Alpha: shape, Beta: shape / d.Mean}.Quantile(p)
	}
	return d.Mean
}
