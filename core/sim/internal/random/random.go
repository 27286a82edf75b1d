// Package random draws numbers: a reproducible stream for each name and purpose, and
// the distributions of a model on it.
package random

import (
	"math"
	"math/rand/v2"

	"ironweir/core/model"
)

// Stream is one source of random numbers, a PCG of its own for each name and
// purpose, so that a change in one place leaves the luck of all others alone.
type Stream struct {
	rand.PCG
	ahead uint64 // the next number: it is made when the one before is taken, so that nothing waits for it
	// the exponential number which that one makes by itself, if that has been looked for; below 0: there is none
	quick float64
}

// New seeds a stream from what it is for (FNV-1a, then splitmix64).
func New(seed uint64, replication int, name, purpose string) *Stream {
	h := uint64(14695981039346656037)
	add := func(b byte) { h = (h ^ uint64(b)) * 1099511628211 }
	for _, s := range []string{name, "\x00", purpose} {
		for i := 0; i < len(s); i++ {
			add(s[i])
		}
	}
	mixed := Splitmix(h ^ Splitmix(seed+Splitmix(uint64(replication))))
	s := &Stream{}
	s.Seed(mixed, Splitmix(mixed))
	s.ahead, s.quick = s.PCG.Uint64(), -1
	return s
}

// Uint64 gives the next number.
func (s *Stream) Uint64() uint64 {
	u := s.ahead
	s.ahead, s.quick = s.PCG.Uint64(), -1
	return u
}

func Splitmix(x uint64) uint64 {
	x += 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// Unit gives a number in [0, 1).
func (s *Stream) Unit() float64 { return UnitOf(s.Uint64()) }

// UnitOf is the number in [0, 1) that a number makes.
func UnitOf(u uint64) float64 { return float64(u>>11) * 0x1p-53 }

// Happens draws whether what has a share of all happens; of what never or always does,
// nothing is drawn.
func (s *Stream) Happens(share float64) bool {
	return share > 0 && (share >= 1 || s.Unit() < share)
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

// Exponential gives an exponential number of mean 1, and looks for the next one.
func (s *Stream) Exponential() float64 {
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
func (s *Stream) exponentialSlow() float64 {
	for {
		u := s.Uint64()
		i, j := u&255, u>>11
		x := float64(j) * zig.w[i]
		if j < zig.k[i] {
			return x
		}
		if i == 0 {
			return zigR - math.Log(1-s.Unit())
		}
		if zig.f[i]+s.Unit()*(zig.f[i-1]-zig.f[i]) < math.Exp(-x) {
			return x
		}
	}
}

// normal gives a standard normal number (Marsaglia's polar method).
func (s *Stream) normal() float64 {
	for {
		u, v := 2*s.Unit()-1, 2*s.Unit()-1
		if q := u*u + v*v; q < 1 && q > 0 {
			return u * math.Sqrt(-2*math.Log(q)/q)
		}
	}
}

// gamma gives a gamma number of shape k and mean k (Marsaglia and Tsang 2000).
func (s *Stream) gamma(k float64) float64 {
	if k < 1 {
		return s.gamma(k+1) * math.Pow(1-s.Unit(), 1/k)
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
		u := 1 - s.Unit()
		if math.Log(u) < x*x/2+d-d*v+d*math.Log(v) {
			return d * v
		}
	}
}

// Sampler draws from a distribution.
type Sampler struct {
	Shape  Shape
	A, b   float64
	values []float64
}

type Shape uint8

const (
	Constant Shape = iota
	Exponential
	uniform
	lognormal
	gamma
	samples
)

func NewSampler(d model.Distribution) Sampler {
	switch d.Dist {
	case "exponential":
		return Sampler{Shape: Exponential, A: d.Mean}
	case "uniform":
		return Sampler{Shape: uniform, A: d.Min, b: d.Max - d.Min}
	case "lognormal":
		return Sampler{Shape: lognormal, A: math.Log(d.P50), b: d.Sigma}
	case "gamma":
		k := 1 / (d.CV * d.CV)
		return Sampler{Shape: gamma, A: d.Mean / k, b: k}
	case "samples":
		return Sampler{Shape: samples, values: d.Values}
	}
	return Sampler{Shape: Constant, A: d.Mean}
}

func (p *Sampler) Draw(s *Stream) float64 {
	switch p.Shape {
	case Exponential:
		return p.A * s.Exponential()
	case uniform:
		return p.A + p.b*s.Unit()
	case lognormal:
		return math.Exp(p.A + p.b*s.normal())
	case gamma:
		return p.A * s.gamma(p.b)
	case samples:
		return p.values[int(s.Unit()*float64(len(p.values)))]
	}
	return p.A
}

// Zero reports whether the sampler always gives 0.
func (p *Sampler) Zero() bool { return p.Shape == Constant && p.A == 0 }

// MaxWait bounds a drawn time, far beyond every run.
const MaxWait = int64(model.MaxDuration)

// Nanos turns drawn seconds into nanoseconds.
func Nanos(seconds float64) int64 {
	if ns := seconds * 1e9; ns < float64(MaxWait) {
		return int64(ns + 0.5)
	}
	return MaxWait
}
