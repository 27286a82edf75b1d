package learn

import (
	"fmt"
	"math"
	"sort"
	"strconv"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"ironweir/core/model"
)

// Interval is a 99% confidence interval.
type Interval [2]float64

// z99 is the 99.5% quantile of the normal distribution.
const z99 = 2.5758

// ShareInterval gives a share, k of n, and its interval.
func ShareInterval(k, n int) (share float64, in Interval) { return scoreInterval(k, n, z99) }

// scoreInterval gives a share, k of n, and Wilson's score interval of z standard errors.
func scoreInterval(k, n int, z float64) (share float64, in Interval) {
	p, N := float64(k)/float64(n), float64(n)
	centre := (p + z*z/(2*N)) / (1 + z*z/N)
	half := z / (1 + z*z/N) * math.Sqrt(p*(1-p)/N+z*z/(4*N*N))
	in = Interval{max(centre-half, 0), min(centre+half, 1)}
	if k == 0 {
		in[0] = 0 // exactly, whatever the rounding
	}
	return p, in
}

func (in Interval) holds(v float64) bool { return v >= in[0]-1e-12 && v <= in[1]+1e-12 }

// Fit is the distribution that describes values best.
type Fit struct {
	Value    *model.Value
	Name     string
	Distance float64 // the largest between the distribution functions (Kolmogorov and Smirnov)
	Limit    float64 // of the distance, at 5%, of a distribution that holds: 1.36/√n
	Count    int
	Within   []Parameter // its parameters; none of a constant, and of quantiles
}

// Parameter is a parameter of a distribution, with its 99% interval.
type Parameter struct {
	Name     string
	Interval Interval
}

// String says how the distribution was chosen.
func (f *Fit) String() string {
	switch f.Name {
	case "constant":
		return "all the same"
	case "samples":
		return fmt.Sprintf(
			"no distribution fits (the nearest is %.3f away, of at most %.3f), so the means of equal shares of what was measured",
			f.Distance,
			f.Limit,
		)
	}
	out := fmt.Sprintf("%s, %.3f away by Kolmogorov and Smirnov, of at most %.3f", f.Name, f.Distance, f.Limit)
	if f.Distance > f.Limit {
		out = fmt.Sprintf("%s, which is near but does not fit: %.3f away by Kolmogorov and Smirnov, where a fit is at most "+
			"%.3f away", f.Name, f.Distance, f.Limit)
	}
	for i, p := range f.Within {
		joint := ", "
		if i == 0 {
			joint = "; 99% intervals: "
		}
		from, to := duration(max(p.Interval[0], 0)), duration(p.Interval[1])
		if p.Name == "cv" {
			from, to = fmt.Sprintf("%.3g", p.Interval[0]), fmt.Sprintf("%.3g", p.Interval[1])
		}
		out += joint + p.Name + " " + from + " to " + to
	}
	return out
}

// parameters gives the intervals of a distribution's parameters, fitted to sorted values: of means by the normal
// approximation, of the quantiles of a lognormal by those of the normal distribution of the logarithms (whose variance
// at μ + zσ is σ²/n + z²σ²/2n), of a coefficient of variation by the jackknife, and of the ends of a uniform
// distribution by the distribution of the least and the greatest of n.
func parameters(name string, sorted []float64, logMean, sigma float64) []Parameter {
	n := float64(len(sorted))
	about := func(name string, value, error float64) Parameter {
		return Parameter{name, Interval{value - z99*error, value + z99*error}}
	}
	moments := momentsOf(sorted)
	mean := Parameter{"mean", moments.interval(z99)}
	switch name {
	case "exponential":
		return []Parameter{mean}
	case "gamma":
		return []Parameter{mean, about("cv", moments.cv(), jackknife(sorted))}
	case "lognormal":
		p50 := about("p50", logMean, sigma/math.Sqrt(n))
		p95 := about("p95", logMean+z95*sigma, sigma*math.Sqrt(1/n+z95*z95/(2*n)))
		for _, p := range []*Parameter{&p50, &p95} {
			p.Interval = Interval{math.Exp(p.Interval[0]), math.Exp(p.Interval[1])}
		}
		return []Parameter{p50, p95}
	case "uniform":
		low, high := sorted[0], sorted[len(sorted)-1]
		beyond := (high - low) * (math.Pow(0.01, -1/n) - 1)
		return []Parameter{{"min", Interval{low - beyond, low}}, {"max", Interval{high, high + beyond}}}
	}
	return nil
}

// cv is the coefficient of variation.
func (m Moments) cv() float64 {
	return math.Sqrt(m.Squares/max(float64(m.Count)-1, 1)) / m.Mean()
}

// jackknife gives the standard error of the coefficient of variation of values (Tukey's).
func jackknife(values []float64) float64 {
	all := momentsOf(values)
	n := float64(len(values))
	left := make([]float64, len(values)) // the coefficient without each one
	for i, v := range values {
		rest := Moments{Count: all.Count - 1, Sum: all.Sum - v}
		apart := v - rest.Mean()
		rest.Squares = all.Squares - apart*apart*(n-1)/n
		left[i] = rest.cv()
	}
	return math.Sqrt((n - 1) / n * momentsOf(left).Squares)
}

// z95 is the 95% quantile of the normal distribution.
const z95 = 1.6449

// mostApart is how many times the limit a distribution may be away and still be taken: a
// measured time is never exactly of any.
const mostApart = 1.25

// fit finds the distribution of values: constant, or the first of exponential, gamma, lognormal and uniform (fitted by
// their moments) whose distance from the values is below the limit, or the nearest where none is much above it, or else
// quantiles of the values. How long messages wait depends on how much the times vary (Pollaczek and Khinchine), so the
// coefficient of variation must agree too, within its 99% interval.
func fit(values []float64) *Fit {
	sorted := append([]float64(nil), values...)
	sort.Float64s(sorted)
	mean := momentsOf(values).Mean()
	n := len(sorted)
	low, high := sorted[0], sorted[n-1]
	if n < 5 || high-low <= 0.01*mean {
		return &Fit{Value: model.TextValue(duration(sorted[n/2])), Name: "constant", Count: n}
	}
	logs, logMean, squares := 0.0, 0.0, 0.0
	for _, v := range sorted {
		logMean += math.Log(max(v, 1e-9)) / float64(n)
	}
	for _, v := range sorted {
		d := math.Log(max(v, 1e-9)) - logMean
		logs += d * d / float64(n-1)
		squares += (v - mean) * (v - mean) / float64(n-1)
	}
	sigma, cv := math.Sqrt(logs), math.Sqrt(squares)/mean
	of := func(name string, fields ...string) *model.Value {
		v := model.MapValue().Add("dist", model.TextValue(name))
		for i := 0; i < len(fields); i += 2 {
			v.Add(fields[i], model.TextValue(fields[i+1]))
		}
		return v
	}
	gamma := distuv.Gamma{Alpha: 1 / (cv * cv), Beta: 1 / (cv * cv * mean)}
	candidates := []struct {
		value *model.Value
		cv    float64
		cdf   func(float64) float64
	}{
		{of("exponential", "mean", duration(mean)), 1, func(v float64) float64 { return 1 - math.Exp(-v/mean) }},
		{
			of("gamma", "mean", duration(mean)).Add("cv", model.NumberValue(strconv.FormatFloat(cv, 'g', 3, 64))),
			cv,
			gamma.CDF,
		},
		{
			of("lognormal", "p50", duration(math.Exp(logMean)), "p95", duration(math.Exp(logMean+z95*sigma))),
			math.Sqrt(math.Expm1(logs)),
			func(v float64) float64 {
				return 0.5 * math.Erfc(-(math.Log(max(v, 1e-9))-logMean)/(sigma*math.Sqrt2))
			},
		},
		{
			of("uniform", "min", duration(low), "max", duration(high)),
			(high - low) / math.Sqrt(12) / mean,
			func(v float64) float64 { return (v - low) / (high - low) },
		},
	}
	best := &Fit{Distance: math.Inf(1), Limit: 1.36 / math.Sqrt(float64(n)), Count: n}
	agrees, unsure := false, z99*jackknife(values)
	for _, c := range candidates {
		apart := 0.0
		for i, v := range sorted {
			f := c.cdf(v)
			apart = max(apart, math.Abs(f-float64(i)/float64(n)), math.Abs(float64(i+1)/float64(n)-f))
		}
		varies := math.Abs(c.cv-cv) <= unsure
		nearer := apart < best.Distance && varies == agrees
		if nearer || varies && !agrees && apart <= mostApart*best.Limit {
			best.Value, best.Name, best.Distance = c.value, c.value.Get("dist").Scalar, apart
			agrees = varies
		}
		if agrees && apart <= best.Limit {
			break
		}
	}
	if (best.Distance > mostApart*best.Limit || !agrees) && n >= leastSampled {
		best.Name, best.Value = "samples", quantiles(sorted)
	}
	best.Within = parameters(best.Name, sorted, logMean, sigma)
	return best
}

// leastSampled is how many values are needed to describe a distribution by its quantiles.
const leastSampled = 100

// mostShares is by how many equal shares values are described: the 90th, 95th and 99th percentiles lie within one, and
// not between two, of which the last may be far above the one before.
const mostShares = 125

// quantiles describes sorted values by the means of equal shares of them, whose mean is that of all.
func quantiles(sorted []float64) *model.Value {
	list := model.ListValue()
	points := min(mostShares, len(sorted))
	for i := range points {
		share := momentsOf(sorted[i*len(sorted)/points : (i+1)*len(sorted)/points])
		list.Items = append(list.Items, model.TextValue(duration(share.Mean())))
	}
	return model.MapValue().Add("dist", model.TextValue("samples")).Add("values", list)
}

// duration writes seconds with three digits that count.
func duration(seconds float64) string {
	d := time.Duration(seconds * 1e9)
	unit := time.Duration(1)
	for d/unit >= 10_000 {
		unit *= 10
	}
	return model.FormatDuration(d.Round(max(unit, time.Microsecond)))
}
