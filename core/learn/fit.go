package learn

import (
	"math"
	"sort"
	"time"

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

// fit gives the distribution that comes nearest to values, by the largest
// distance of the distribution functions (Kolmogorov and Smirnov): constant,
// exponential, uniform or lognormal, each fitted by its moments.
func fit(values []float64) *model.Value {
	sorted := append([]float64(nil), values...)
	sort.Float64s(sorted)
	mean, _ := MeanInterval(values)
	n := len(sorted)
	low, high := sorted[0], sorted[n-1]
	if n < 5 || high-low <= 0.01*mean {
		return model.TextValue(duration(sorted[n/2]))
	}
	logs, logMean := 0.0, 0.0
	for _, v := range sorted {
		logMean += math.Log(max(v, 1e-9)) / float64(n)
	}
	for _, v := range sorted {
		d := math.Log(max(v, 1e-9)) - logMean
		logs += d * d / float64(n-1)
	}
	sigma := math.Sqrt(logs)
	best, at := math.Inf(1), 0
	for k, cdf := range []func(float64) float64{
		func(v float64) float64 { return 1 - math.Exp(-v/mean) },
		func(v float64) float64 { return (v - low) / (high - low) },
		func(v float64) float64 {
			return 0.5 * math.Erfc(-(math.Log(max(v, 1e-9))-logMean)/(sigma*math.Sqrt2))
		},
	} {
		worst := 0.0
		for i, v := range sorted {
			f := cdf(v)
			worst = max(worst, math.Abs(f-float64(i)/float64(n)), math.Abs(float64(i+1)/float64(n)-f))
		}
		if worst < best {
			best, at = worst, k
		}
	}
	out := model.MapValue()
	switch at {
	case 0:
		return out.Add("dist", model.TextValue("exponential")).Add("mean", model.TextValue(duration(mean)))
	case 1:
		return out.Add("dist", model.TextValue("uniform")).Add("min", model.TextValue(duration(low))).Add("max", model.TextValue(duration(high)))
	}
	const z95 = 1.6449
	return out.Add("dist", model.TextValue("lognormal")).Add("p50", model.TextValue(duration(math.Exp(logMean)))).Add("p95", model.TextValue(duration(math.Exp(logMean+z95*sigma))))
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
