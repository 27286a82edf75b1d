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

// MeanInterval gives the mean of values and its interval by the normal
// approximation.
func MeanInterval(values []float64) (mean float64, in Interval) {
	n := float64(len(values))
	sum, squares := 0.0, 0.0
	for _, v := range values {
		sum += v
	}
	mean = sum / n
	for _, v := range values {
		squares += (v - mean) * (v - mean)
	}
	half := z99 * math.Sqrt(squares/max(n-1, 1)/n)
	return mean, Interval{mean - half, mean + half}
}

// ShareInterval gives Wilson's score interval of a share: k of n.
func ShareInterval(k, n int) (share float64, in Interval) {
	p, N := float64(k)/float64(n), float64(n)
	centre := (p + z99*z99/(2*N)) / (1 + z99*z99/N)
	half := z99 / (1 + z99*z99/N) * math.Sqrt(p*(1-p)/N+z99*z99/(4*N*N))
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
}

// String says how the distribution was chosen.
func (f *Fit) String() string {
	switch f.Name {
	case "constant":
		return "all the same"
	case "samples":
		return fmt.Sprintf(
			"no distribution fits (the nearest is %.3f away, of at most %.3f), so the quantiles that were measured",
			f.Distance,
			f.Limit,
		)
	}
	return fmt.Sprintf("%s, %.3f away by Kolmogorov and Smirnov, of at most %.3f", f.Name, f.Distance, f.Limit)
}

// mostApart is how many times the limit a distribution may be away and still be taken: a
// measured time is never exactly of any.
const mostApart = 1.25

// fit finds the distribution of values: constant, or the first of exponential, gamma,
// lognormal and uniform (fitted by their moments) whose distance from the values is below
// the limit, or the nearest where none is much above it, or else quantiles of the values.
func fit(values []float64) *Fit {
	sorted := append([]float64(nil), values...)
	sort.Float64s(sorted)
	mean, _ := MeanInterval(values)
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
	const z95 = 1.6449
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
		cdf   func(float64) float64
	}{
		{of("exponential", "mean", duration(mean)), func(v float64) float64 { return 1 - math.Exp(-v/mean) }},
		{
			of("gamma", "mean", duration(mean)).Add("cv", model.NumberValue(strconv.FormatFloat(cv, 'g', 3, 64))),
			gamma.CDF,
		},
		{
			of("lognormal", "p50", duration(math.Exp(logMean)), "p95", duration(math.Exp(logMean+z95*sigma))),
			func(v float64) float64 {
				return 0.5 * math.Erfc(-(math.Log(max(v, 1e-9))-logMean)/(sigma*math.Sqrt2))
			},
		},
		{
			of("uniform", "min", duration(low), "max", duration(high)),
			func(v float64) float64 { return (v - low) / (high - low) },
		},
	}
	best := &Fit{Distance: math.Inf(1), Limit: 1.36 / math.Sqrt(float64(n)), Count: n}
	for _, c := range candidates {
		apart := 0.0
		for i, v := range sorted {
			f := c.cdf(v)
			apart = max(apart, math.Abs(f-float64(i)/float64(n)), math.Abs(float64(i+1)/float64(n)-f))
		}
		if apart < best.Distance {
			best.Value, best.Name, best.Distance = c.value, c.value.Get("dist").Scalar, apart
		}
		if apart <= best.Limit {
			break
		}
	}
	if best.Distance > mostApart*best.Limit && n >= leastSampled {
		best.Name, best.Value = "samples", quantiles(sorted)
	}
	return best
}

// leastSampled is how many values are needed to describe a distribution by its quantiles.
const leastSampled = 100

// quantiles describes sorted values by a hundred of them, the last one the greatest.
func quantiles(sorted []float64) *model.Value {
	list := model.ListValue()
	const points = 100
	for i := range points {
		at := (2*i + 1) * len(sorted) / (2 * points)
		list.Items = append(list.Items, model.TextValue(duration(sorted[at])))
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
