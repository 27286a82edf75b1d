package sensitivity

import (
	"math"
	"math/rand/v2"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"
)

// Function is what is looked at: of points in the unit cube, a number each. It gets all
// points of a step at once, so that it can work on several of them at the same time.
type Function func(points [][]float64) ([]float64, error)

// Effect is the mean of the elementary effects of an input: how much the output moves
// when the input goes from one end of its range to the other, at random places of the
// others.
type Effect struct {
	Mean float64     // of the signed effects
	Size float64     // of their absolute values (μ* of Campolongo et al. 2007)
	CI   *[2]float64 // of Mean, 95%; nil: one trajectory says nothing about its spread
}

// levels of the grid on which trajectories run, and their step (Morris 1991).
const (
	levels = 4
	stride = levels / 2 / float64(levels-1) // 2/3
)

// screen works out elementary effects on r trajectories through the inputs, each of
// which moves every input once: r·(d+1) values (Morris, Technometrics 33, 1991).
func screen(f Function, inputs, r int, random *rand.Rand) ([]Effect, error) {
	var points [][]float64
	orders := make([][]int, r)
	for t := range r {
		at := make([]float64, inputs)
		for i := range at {
			at[i] = float64(random.IntN(levels/2)) / (levels - 1)
			if random.IntN(2) == 1 {
				at[i] += stride
			}
		}
		points = append(points, slices.Clone(at))
		orders[t] = random.Perm(inputs)
		for _, i := range orders[t] {
			if at[i] >= stride-1e-9 {
				at[i] -= stride
			} else {
				at[i] += stride
			}
			at[i] = min(max(at[i], 0), 1)
			points = append(points, slices.Clone(at))
		}
	}
	values, err := f(points)
	if err != nil {
		return nil, err
	}
	effects := make([][]float64, inputs)
	for t := range r {
		for k, i := range orders[t] {
			a := t*(inputs+1) + k
			effects[i] = append(effects[i], (values[a+1]-values[a])/(points[a+1][i]-points[a][i]))
		}
	}
	out := make([]Effect, inputs)
	for i, list := range effects {
		mean, size := 0.0, 0.0
		for _, e := range list {
			mean += e / float64(r)
			size += math.Abs(e) / float64(r)
		}
		out[i] = Effect{Mean: mean, Size: size}
		if r > 1 {
			squares := 0.0
			for _, e := range list {
				squares += (e - mean) * (e - mean)
			}
			half := math.Sqrt(squares/float64(r-1)/float64(r)) *
				distuv.StudentsT{Mu: 0, Sigma: 1, Nu: float64(r - 1)}.Quantile(0.975)
			out[i].CI = &[2]float64{mean - half, mean + half}
		}
	}
	return out, nil
}

// Share is the part of an output's variance that an input explains: alone, and with all
// its interactions.
type Share struct {
	First, Total     float64
	FirstCI, TotalCI [2]float64 // 95%
}

// shares estimates the variance shares from n·(d+2) values: the first by the estimator of
// Saltelli et al. (Computer Physics Communications 181, 2010, table 2b), the total by
// that of Jansen (1999). Without variance all are 0.
func shares(f Function, inputs, n int, random *rand.Rand) ([]Share, error) {
	a, b := cube(inputs, n, random), cube(inputs, n, random)
	points := append(slices.Clone(a), b...)
	for i := range inputs {
		for k := range n {
			mixed := slices.Clone(a[k])
			mixed[i] = b[k][i]
			points = append(points, mixed)
		}
	}
	values, err := f(points)
	if err != nil {
		return nil, err
	}
	out := make([]Share, inputs)
	all := make([]int, n)
	for k := range all {
		all[k] = k
	}
	estimate(values, all, out)
	again, sample := make([]Share, inputs), make([]int, n)
	firsts, totals := make([][]float64, inputs), make([][]float64, inputs)
	for range resamples {
		for k := range sample {
			sample[k] = random.IntN(n)
		}
		estimate(values, sample, again)
		for i, x := range again {
			firsts[i], totals[i] = append(firsts[i], x.First), append(totals[i], x.Total)
		}
	}
	for i := range out {
		out[i].FirstCI, out[i].TotalCI = middle(firsts[i]), middle(totals[i])
	}
	return out, nil
}

// resamples of the points, with replacement, give the intervals of the shares (bootstrap,
// Archer, Saltelli and Sobol 1997).
const resamples = 400

// middle returns the bounds of the middle 95% of some numbers.
func middle(list []float64) [2]float64 {
	slices.Sort(list)
	return [2]float64{list[len(list)/40], list[len(list)-1-len(list)/40]}
}

// estimate works out shares from the values at some of the points.
func estimate(values []float64, of []int, out []Share) {
	clear(out)
	n := len(values) / (len(out) + 2)
	ya, yb := values[:n], values[n:2*n]
	size, mean, variance := float64(len(of)), 0.0, 0.0
	for _, k := range of {
		mean += (ya[k] + yb[k]) / (2 * size)
	}
	for _, k := range of {
		variance += ((ya[k]-mean)*(ya[k]-mean) + (yb[k]-mean)*(yb[k]-mean)) / (2 * size)
	}
	if variance <= 1e-24*mean*mean {
		return
	}
	for i := range out {
		yc := values[(2+i)*n : (3+i)*n]
		first, total := 0.0, 0.0
		for _, k := range of {
			first += (yb[k] - mean) * (yc[k] - ya[k]) / size
			total += (ya[k] - yc[k]) * (ya[k] - yc[k]) / (2 * size)
		}
		out[i].First = min(max(first/variance, 0), 1)
		out[i].Total = min(max(total/variance, 0), 1)
	}
}

// cube returns n points of a Latin hypercube: each input takes a value in each of n
// equal parts of its range.
func cube(inputs, n int, random *rand.Rand) [][]float64 {
	points := make([][]float64, n)
	for k := range points {
		points[k] = make([]float64, inputs)
	}
	for i := range inputs {
		for k, part := range random.Perm(n) {
			points[k][i] = (float64(part) + random.Float64()) / float64(n)
		}
	}
	return points
}
