package check

import (
	"encoding/binary"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"

	"ironweir/core/model"
)

// law is the distribution of a time in seconds, of which part may be missing: its
// mass is the chance that the time is reached at all. It is a list of atoms; while
// it is a single distribution shifted by a constant, that is kept, so that its tail
// is exact.
type law struct {
	atoms []atom // by time
	exact *model.Distribution
	shift float64
	mass  float64
}

type atom struct{ at, p float64 }

// maxAtoms bounds the atoms of a law that is a sum.
const maxAtoms = 64

// surely is the law of a constant.
func surely(at float64) law { return law{atoms: []atom{{at, 1}}, mass: 1} }

// lawOf returns the law of a distribution, slow times as long.
func lawOf(d model.Distribution) law {
	switch d.Dist {
	case "", "constant":
		return surely(d.Mean)
	case "samples":
		l := law{mass: 1}
		for _, v := range d.Values {
			l.atoms = append(l.atoms, atom{v, 1 / float64(len(d.Values))})
		}
		return l
	}
	if d.Largest() == d.Expected() || d.Expected() == 0 {
		return surely(d.Expected())
	}
	// Cells of equal chance, finer towards the long tail.
	l := law{exact: &d, mass: 1}
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
		l.atoms = append(l.atoms, atom{at, to - from})
		sum += at * (to - from)
		from = to
	}
	if scale := d.Expected() / sum; scale > 0.5 && scale < 2 {
		for i := range l.atoms {
			l.atoms[i].at *= scale
		}
	}
	return l
}

// tail returns the chance that the time is reached and over a limit.
func (l law) tail(limit float64) float64 {
	if l.exact != nil {
		return l.mass * (1 - cdf(*l.exact, limit-l.shift))
	}
	sum := 0.0
	for _, a := range l.atoms {
		if a.at > limit*(1+1e-9) {
			sum += a.p
		}
	}
	return sum
}

// within returns the law up to a limit; what is over it is left out.
func (l law) within(limit float64) law {
	over := l.tail(limit)
	if over == 0 {
		return l
	}
	out := law{mass: max(l.mass-over, 0)}
	sum := 0.0
	for _, a := range l.atoms {
		if a.at <= limit*(1+1e-9) {
			out.atoms = append(out.atoms, a)
			sum += a.p
		}
	}
	if sum == 0 && out.mass > 0 { // all of it lies below the first atom
		out.atoms = []atom{{limit, out.mass}}
	}
	for i := range out.atoms {
		if sum > 0 {
			out.atoms[i].p *= out.mass / sum
		}
	}
	return out
}

// times returns the law with its chances multiplied.
func (l law) times(p float64) law {
	if p == 1 {
		return l
	}
	out := law{exact: l.exact, shift: l.shift, mass: l.mass * p, atoms: slices.Clone(l.atoms)}
	for i := range out.atoms {
		out.atoms[i].p *= p
	}
	return out
}

// plus returns the law of the sum of two independent times.
func (l law) plus(o law) law {
	if l.mass == 0 || o.mass == 0 {
		return law{}
	}
	if len(l.atoms) == 1 {
		l, o = o, l
	}
	out := law{mass: l.mass * o.mass}
	if len(o.atoms) == 1 {
		by := o.atoms[0]
		out.exact, out.shift = l.exact, l.shift+by.at
		out.atoms = make([]atom, len(l.atoms))
		for i, a := range l.atoms {
			out.atoms[i] = atom{a.at + by.at, a.p * by.p}
		}
		return out
	}
	out.atoms = make([]atom, 0, len(l.atoms)*len(o.atoms))
	for _, a := range l.atoms {
		for _, b := range o.atoms {
			out.atoms = append(out.atoms, atom{a.at + b.at, a.p * b.p})
		}
	}
	out.atoms = fewer(out.atoms)
	return out
}

// sums remembers sums of laws, which take long to work out and are the same in every proof
// of a remedy.
type sums struct {
	known map[string]law
	key   []byte
}

// mostSums bounds the sums that are remembered: each takes some kilobytes.
const mostSums = 2_000

// of returns the law of the sum of two independent times.
func (s *sums) of(l, o law) law {
	if len(l.atoms) < 2 || len(o.atoms) < 2 || l.mass == 0 || o.mass == 0 {
		return l.plus(o) // which is soon done
	}
	s.key = s.key[:0]
	for _, one := range []law{l, o} {
		s.key = binary.LittleEndian.AppendUint64(s.key, math.Float64bits(one.mass))
		s.key = binary.LittleEndian.AppendUint32(s.key, uint32(len(one.atoms)))
		for _, a := range one.atoms {
			s.key = binary.LittleEndian.AppendUint64(s.key, math.Float64bits(a.at))
			s.key = binary.LittleEndian.AppendUint64(s.key, math.Float64bits(a.p))
		}
	}
	if known, ok := s.known[string(s.key)]; ok {
		return known
	}
	sum := l.plus(o)
	if len(s.known) < mostSums {
		s.known[string(s.key)] = sum
	}
	return sum
}

// or returns the law of either of two times that exclude each other.
func (l law) or(o law) law {
	switch {
	case l.mass == 0:
		return o
	case o.mass == 0:
		return l
	}
	out := law{mass: l.mass + o.mass, atoms: append(slices.Clone(l.atoms), o.atoms...)}
	out.atoms = fewer(out.atoms)
	return out
}

// fewer sorts atoms and merges neighbours until they are few enough, some hundred at
// most; each step of the merge keeps the mean.
func fewer(atoms []atom) []atom {
	slices.SortFunc(atoms, func(a, b atom) int {
		switch {
		case a.at < b.at:
			return -1
		case a.at > b.at:
			return 1
		}
		return 0
	})
	out := atoms[:0]
	total := 0.0
	for _, a := range atoms {
		total += a.p
		if n := len(out); n > 0 && a.at-out[n-1].at <= 1e-12*a.at {
			out[n-1].p += a.p
		} else if a.p > 0 {
			out = append(out, a)
		}
	}
	if len(out) <= maxAtoms {
		return out
	}
	// Half of the atoms for the bulk, half for the last hundredth, which is what
	// limits cut off.
	merged := make([]atom, 0, maxAtoms)
	done := 0.0
	var now atom
	flush := func() {
		if now.p > 0 {
			merged = append(merged, atom{now.at / now.p, now.p})
		}
		now = atom{}
	}
	for _, a := range out {
		left := total - done
		most := total / (maxAtoms / 2)
		if left < 0.05*total {
			most = max(left/6, 1e-9*total)
		}
		if now.p > 0 && now.p+a.p > most {
			flush()
		}
		now.at += a.at * a.p
		now.p += a.p
		done += a.p
	}
	flush()
	return merged
}

// mean returns the mean of the time where it is reached, 0 where it never is.
func (l law) mean() float64 {
	switch {
	case l.mass == 0:
		return 0
	case l.exact != nil:
		return l.exact.Expected() + l.shift
	}
	sum := 0.0
	for _, a := range l.atoms {
		sum += a.at * a.p
	}
	return sum / l.mass
}

// square returns the mean square of the time where it is reached, 0 where it never is.
func (l law) square() float64 {
	if l.mass == 0 {
		return 0
	}
	sum := 0.0
	for _, a := range l.atoms {
		sum += a.at * a.at * a.p
	}
	return sum / l.mass
}

// smallest returns the smallest value of a distribution.
func smallest(d model.Distribution) float64 {
	switch d.Dist {
	case "uniform":
		return d.Min
	case "samples":
		return d.Values[0]
	case "exponential", "lognormal", "gamma":
		return 0
	}
	return d.Mean
}

// cdf returns the chance that a distribution gives at most x.
func cdf(d model.Distribution, x float64) float64 {
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
