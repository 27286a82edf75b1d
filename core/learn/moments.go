package learn

import (
	"math"

	"gonum.org/v1/gonum/stat/distuv"
)

// Moments are the number of values, their sum and the sum of their squares about the mean: enough for a mean and
// its interval, and exact when those of several hours are put together.
type Moments struct {
	Count   int     `json:"count"`
	Sum     float64 `json:"sum"`
	Squares float64 `json:"squares"`
}

// momentsOf gives the moments of values.
func momentsOf(values []float64) Moments {
	m := Moments{Count: len(values)}
	for _, v := range values {
		m.Sum += v
	}
	for _, v := range values {
		m.Squares += (v - m.Mean()) * (v - m.Mean())
	}
	return m
}

// Mean is the mean of the values; 0 of none.
func (m Moments) Mean() float64 { return m.Sum / float64(max(m.Count, 1)) }

// add puts other values to these (Chan, Golub and LeVeque's formula for the squares).
func (m *Moments) add(other Moments) {
	if m.Count > 0 && other.Count > 0 {
		apart := other.Mean() - m.Mean()
		a, b := float64(m.Count), float64(other.Count)
		m.Squares += apart * apart * a * b / (a + b)
	}
	m.Count += other.Count
	m.Sum += other.Sum
	m.Squares += other.Squares
}

// interval is that of the mean by the normal approximation, z standard errors to either side.
func (m Moments) interval(z float64) Interval {
	n := float64(max(m.Count, 1))
	half := z * math.Sqrt(m.Squares/max(n-1, 1)/n)
	return Interval{m.Mean() - half, m.Mean() + half}
}

// leastBatches is how many hours are needed to judge how much hours differ.
const leastBatches = 5

// batchInterval is the interval of a ratio of sums over hours (of a mean: time over runs; of a share: failures over
// runs) by the spread between the hours, which bursts and dependent runs widen: the ratio estimator of a sample of
// clusters, with Student's t. ok is false where there are too few hours.
func batchInterval(numerators, counts []float64, confidence float64) (in Interval, ok bool) {
	n := float64(len(counts))
	if n < leastBatches {
		return in, false
	}
	sum, count := 0.0, 0.0
	for i := range counts {
		sum += numerators[i]
		count += counts[i]
	}
	ratio, squares := sum/count, 0.0
	for i := range counts {
		d := numerators[i] - ratio*counts[i]
		squares += d * d
	}
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: n - 1}.Quantile(0.5 + confidence/2)
	half := t * math.Sqrt(squares*n/(n-1)) / count
	return Interval{ratio - half, ratio + half}, true
}

// quantileOf is how many standard errors to either side hold a normal mean with a confidence.
func quantileOf(confidence float64) float64 { return distuv.UnitNormal.Quantile(0.5 + confidence/2) }

// wider gives the interval that holds both.
func (in Interval) wider(other Interval) Interval {
	return Interval{min(in[0], other[0]), max(in[1], other[1])}
}
