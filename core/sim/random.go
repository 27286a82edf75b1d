package sim

import (
	"math"
	"math/rand/v2"

	"ironweir/core/model"
)

// randomStream is one source of random numbers, a PCG of its own for each name and
// purpose, so that a change in one place leaves the luck of all others alone.
type randomStream struct {
	rand.PCG
	ahead uint64 // the next number: it is made when the one before is taken, so that nothing waits for it
	// the exponential number which that one makes by itself, if that has been looked for; below 0: there is none
	quick float64
}

// newStream seeds a stream from what it is for (FNV-1a, then splitmix64).
func newStream(seed uint64, replication int, name, purpose string) *randomStream {
	h := uint64(14695981039346656037)
	add := func(b byte) { h = (h ^ uint64(b)) * 1099511628211 }
	for _, s := range []string{name, "\x00", purpose} {
		for i := 0; i < len(s); i++ {
			add(s[i])
		}
	}
	mixed := splitmix(h ^ splitmix(seed+splitmix(uint64(replication))))
	s := &randomStream{}
	s.Seed(mixed, splitmix(mixed))
	s.ahead, s.quick = s.PCG.Uint64(), -1
	return s
}

// Uint64 gives the next number.
func (s *randomStream) Uint64() uint64 {
	u := s.ahead
	s.ahead, s.quick = s.PCG.Uint64(), -1
	return u
}

func splitmix(x uint64) uint64 {
	x += 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// unit gives a number in [0, 1).
func (s *randomStream) unit() float64 { return unitOf(s.Uint64()) }

// unitOf is the number in [0, 1) that a number makes.
func unitOf(u uint64) float64 { return float64(u>>11) * 0x1p-53 }

// happens draws whether what has a share of all happens; of what never or always does,
// nothing is drawn.
func (s *randomStream) happens(share float64) bool {
	return share > 0 && (share >= 1 || s.unit() < share)
}

// The exponential ziggurat of Marsaglia and Tsang (2000), 256 layers, 53 bits.
const zigR = 7.69711747013104972

type zigTables struct {
	w, f [256]float64
	k    [256]uint64
}

var zig = *makeZig()

func makeZig() *zigTables {
	const m, ve = 0x1p53, 3.949659822581571993e-3
	z := &zigTables{}
	de, te := zigR, zigR
	q := ve / math.Exp(-de)
	z.k[0], z.k[1] = uint64(de/q*m), 0
	z.w[0], z.w[255] = q/m, de/m
	z.f[0], z.f[255] = 1, math.Exp(-de)
	for i := 254; i >= 1; i-- {
		de = -math.Log(ve/de + math.Exp(-de))
		z.k[i+1] = uint64(de / te * m)
		te = de
		z.f[i], z.w[i] = math.Exp(-de), de/m
	}
	return z
}

// exponential gives an exponential number of mean 1, and looks for the next one.
func (s *randomStream) exponential() float64 {
	x := s.quick
	if x < 0 {
		x = s.exponentialSlow()
	} else {
		s.ahead = s.PCG.Uint64()
	}
	if i, j := s.ahead&255, s.ahead>>11; j < zig.k[i] {
		s.quick = float64(j) * zig.w[i]
	} else {
		s.quick = -1
	}
	return x
}

// exponentialSlow does so with as many numbers as that takes.
//
//go:noinline
func (s *randomStream) exponentialSlow() float64 {
	for {
		u := s.Uint64()
		i, j := u&255, u>>11
		x := float64(j) * zig.w[i]
		if j < zig.k[i] {
			return x
		}
		if i == 0 {
			return zigR - math.Log(1-s.unit())
		}
		if zig.f[i]+s.unit()*(zig.f[i-1]-zig.f[i]) < math.Exp(-x) {
			return x
		}
	}
}

// normal gives a standard normal number (Marsaglia's polar method).
func (s *randomStream) normal() float64 {
	for {
		u, v := 2*s.unit()-1, 2*s.unit()-1
		if q := u*u + v*v; q < 1 && q > 0 {
			return u * math.Sqrt(-2*math.Log(q)/q)
		}
	}
}

// gamma gives a gamma number of shape k and mean k (Marsaglia and Tsang 2000).
func (s *randomStream) gamma(k float64) float64 {
	if k < 1 {
		return s.gamma(k+1) * math.Pow(1-s.unit(), 1/k)
	}
	d := k - 1.0/3
	c := 1 / math.Sqrt(9*d)
	for {
		x := s.normal()
		v := 1 + c*x
		if v <= 0 {
			continue
		}
		v = v * v * v
		u := 1 - s.unit()
		if math.Log(u) < x*x/2+d-d*v+d*math.Log(v) {
			return d * v
		}
	}
}

// sampler draws from a distribution.
type sampler struct {
	shape  samplerShape
	a, b   float64
	values []float64
}

type samplerShape uint8

const (
	constant samplerShape = iota
	exponential
	uniform
	lognormal
	gamma
	samples
)

func newSampler(d model.Distribution) sampler {
	switch d.Dist {
	case "exponential":
		return sampler{shape: exponential, a: d.Mean}
	case "uniform":
		return sampler{shape: uniform, a: d.Min, b: d.Max - d.Min}
	case "lognormal":
		return sampler{shape: lognormal, a: math.Log(d.P50), b: d.Sigma}
	case "gamma":
		k := 1 / (d.CV * d.CV)
		return sampler{shape: gamma, a: d.Mean / k, b: k}
	case "samples":
		return sampler{shape: samples, values: d.Values}
	}
	return sampler{shape: constant, a: d.Mean}
}

func (p *sampler) draw(s *randomStream) float64 {
	switch p.shape {
	case exponential:
		return p.a * s.exponential()
	case uniform:
		return p.a + p.b*s.unit()
	case lognormal:
		return math.Exp(p.a + p.b*s.normal())
	case gamma:
		return p.a * s.gamma(p.b)
	case samples:
		return p.values[int(s.unit()*float64(len(p.values)))]
	}
	return p.a
}

// zero tells whether the sampler always gives 0.
func (p *sampler) zero() bool { return p.shape == constant && p.a == 0 }

// maxWait bounds a drawn time, far beyond every run.
const maxWait = int64(model.MaxDuration)

// nanos turns drawn seconds into nanoseconds.
func nanos(seconds float64) int64 {
	if ns := seconds * 1e9; ns < float64(maxWait) {
		return int64(ns + 0.5)
	}
	return maxWait
}
