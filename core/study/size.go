package study

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"ironweir/core/document"
	"ironweir/core/model"
)

// Range is a field of the model and the bounds within which its least value is
// looked for.
type Range struct {
	Path      string
	Low, High string // as written
	low, high int64
	unit      rangeUnit
}

type rangeUnit uint8

const (
	wholes    rangeUnit = iota
	durations           // in steps of 1 ms, 1 s or 1 m, as the bounds are written
	bytes
)

// ParseRange reads PATH=LO..HI, whole numbers, times or sizes.
func ParseRange(s string) (Range, error) {
	path, bounds, ok := strings.Cut(s, "=")
	low, high, ok2 := strings.Cut(bounds, "..")
	if !ok || !ok2 || path == "" {
		return Range{}, fmt.Errorf("%q: write it as PATH=LO..HI, such as nodes.clear-consignment.concurrency=1..40", s)
	}
	r := Range{Path: path, Low: low, High: high}
	for _, b := range []struct {
		text string
		into *int64
	}{{low, &r.low}, {high, &r.high}} {
		if n, err := strconv.ParseInt(b.text, 10, 64); err == nil {
			*b.into = n
		} else if d, err := model.ParseDuration(b.text); err == nil {
			*b.into, r.unit = int64(d), durations
		} else if n, err := model.ParseSize(b.text); err == nil {
			*b.into, r.unit = n, bytes
		} else {
			return Range{}, fmt.Errorf("%q: %q is not a whole number, a duration or a size", s, b.text)
		}
	}
	if r.low > r.high {
		return Range{}, fmt.Errorf("%q: the lower bound comes first", s)
	}
	return r, nil
}

// step is the distance between two values that are told apart.
func (r *Range) step() int64 {
	if r.unit != durations {
		return 1
	}
	for _, s := range []time.Duration{time.Minute, time.Second, time.Millisecond} {
		if r.low%int64(s) == 0 && r.high%int64(s) == 0 && r.high-r.low >= 4*int64(s) {
			return int64(s)
		}
	}
	return 1
}

func (r *Range) write(n int64) string {
	switch r.unit {
	case durations:
		return model.FormatDuration(time.Duration(n))
	case bytes:
		return strconv.FormatInt(n, 10) + "B"
	}
	return strconv.FormatInt(n, 10)
}

// Size is the result of looking for the least values that meet the
// expectations.
type Size struct {
	document.Head
	Scenario string              `json:"scenario"`
	Seed     uint64              `json:"seed"`
	Met      bool                `json:"met"`
	Values   map[string]string   `json:"values"` // null where nothing meets the expectations
	Below    map[string]Tried    `json:"below"`  // for each path, the next smaller value, which does not
	Confirm  *Confirmation       `json:"confirmation"`
	Tried    []Tried             `json:"tried"`
	Partial  bool                `json:"partial"`
	Vary     map[string][]string `json:"vary"`
}

// Tried is one set of values with how many replications met all expectations.
type Tried struct {
	Values map[string]string `json:"values"`
	Meets  bool              `json:"meets"` // in all replications
	HoldIn int               `json:"holds_in"`
	Of     int               `json:"of"`
}

// Confirmation is a second look at what was found, with luck of its own.
type Confirmation struct {
	Seed   uint64   `json:"seed"`
	HoldIn int      `json:"holds_in"`
	Of     int      `json:"of"`
	Share  float64  `json:"share"`
	CI     Interval `json:"share_ci"` // 95%, exact (Clopper and Pearson 1934)
}

// FindSize looks for the least values within ranges that meet all expectations
// of the scenario in every replication. Each field in the order given is made as
// small as it can be by bisection, the others being what they are by then: the
// runs grow with the logarithm of the ranges, and it is taken for granted that
// more of a field is never worse. What is found is run again with other luck.
func FindSize(
	ranges []Range,
	build Build,
	workers int,
	progress func(done, most int),
	stop func() string,
) (*Size, error) {
	out := &Size{Below: map[string]Tried{}, Vary: map[string][]string{}}
	now := make([]int64, len(ranges))
	most := 2
	for i, r := range ranges {
		now[i] = r.high
		out.Vary[r.Path] = []string{r.Low, r.High}
		most += int(math.Ceil(math.Log2(float64((r.high-r.low)/r.step() + 1))))
	}
	search := &sizeSearch{ranges, build, workers, progress, stop, most, out}
	first, err := search.try(now, 0)
	if err != nil || !first.Meets || out.Partial {
		return out, err
	}
	for i := range ranges {
		r := &ranges[i]
		step := r.step()
		fails := r.low - step // not known to meet
		for now[i]-fails > step {
			middle := fails + (now[i]-fails)/2/step*step
			values := append([]int64(nil), now...)
			values[i] = middle
			t, err := search.try(values, 0)
			if err != nil || out.Partial {
				return out, err
			}
			if t.Meets {
				now[i] = middle
			} else {
				fails = middle
				out.Below[r.Path] = t
			}
		}
	}
	out.Met = true
	out.Values = map[string]string{}
	for i, r := range ranges {
		out.Values[r.Path] = r.write(now[i])
	}
	again, err := search.try(now, 1_000_003)
	if err != nil {
		return out, err
	}
	out.Confirm = &Confirmation{
		Seed:   out.Seed + 1_000_003,
		HoldIn: again.HoldIn,
		Of:     again.Of,
		Share:  float64(again.HoldIn) / float64(again.Of),
		CI:     exactShare(again.HoldIn, again.Of),
	}
	return out, nil
}

// sizeSearch is a search for the smallest sizes.
type sizeSearch struct {
	ranges   []Range
	build    Build
	workers  int
	progress func(done, most int)
	stop     func() string
	most     int // tries
	out      *Size
}

// try simulates some values, with seeds of their own, and judges what is expected.
func (s *sizeSearch) try(values []int64, seedShift uint64) (Tried, error) {
	t := Tried{Values: map[string]string{}}
	var sets []string
	for i, r := range s.ranges {
		t.Values[r.Path] = r.write(values[i])
		sets = append(sets, r.Path+"="+r.write(values[i]))
	}
	p, err := s.build(sets)
	if err != nil {
		return t, err
	}
	if len(p.Scenario.Expect) == 0 {
		return t, fmt.Errorf("the scenario expects nothing; give it `expect`, or use -expect")
	}
	scenario := *p.Scenario
	scenario.Seed += seedShift
	p.Scenario, p.Workers, p.Stop = &scenario, s.workers, s.stop
	s.out.Head, s.out.Scenario, s.out.Seed = p.Head, scenario.Name, scenario.Seed-seedShift
	results, err := p.simulate()
	if err != nil {
		return t, err
	}
	doc, err := p.Merge(results)
	if err != nil {
		return t, err
	}
	s.out.Partial = s.out.Partial || doc.Partial
	t.Of = len(results)
	if t.HoldIn, err = p.heldIn(results); err != nil {
		return t, err
	}
	t.Meets = t.HoldIn == t.Of
	if seedShift == 0 {
		s.out.Tried = append(s.out.Tried, t)
	}
	if s.progress != nil {
		s.progress(len(s.out.Tried), s.most)
	}
	return t, nil
}

// exactShare is the 95% interval of a share seen k times in n (Clopper and
// Pearson 1934).
func exactShare(k, n int) Interval {
	ci := [2]float64{0, 1}
	if k > 0 {
		ci[0] = distuv.Beta{Alpha: float64(k), Beta: float64(n - k + 1)}.Quantile(0.025)
	}
	if k < n {
		ci[1] = distuv.Beta{Alpha: float64(k + 1), Beta: float64(n - k)}.Quantile(0.975)
	}
	return &ci
}
