package model

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
)

var durationPart = regexp.MustCompile(`^(\d+(?:\.\d+)?)(ns|us|ms|s|m|h|d)`)

var durationUnits = map[string]float64{"ns": 1, "us": 1e3, "ms": 1e6, "s": 1e9, "m": 60e9, "h": 3600e9, "d": 86400e9}

// MaxDuration bounds every duration that a file may name.
const MaxDuration = 100 * 365 * 24 * time.Hour

// ParseDuration reads 250ms, 30s, 1h30m, 4d. It takes no sign and at most
// MaxDuration.
func ParseDuration(s string) (time.Duration, error) {
	rest, total := s, 0.0
	for rest != "" {
		m := durationPart.FindStringSubmatch(rest)
		if m == nil {
			if _, err := strconv.ParseFloat(s, 64); err == nil {
				if strings.HasPrefix(s, "-") {
					return 0, fmt.Errorf("%q is negative; a duration is 0s or more", s)
				}
				if s == "0" {
					return 0, nil
				}
				return 0, fmt.Errorf("%q has no unit; write %ss, %sms or %sm", s, s, s, s)
			}
			if strings.HasPrefix(s, "-") {
				return 0, fmt.Errorf("%q is negative; a duration is 0s or more", s)
			}
			return 0, fmt.Errorf("%q is not a valid duration: use 250ms, 30s, 5m, 1h30m or 4d", s)
		}
		n, _ := strconv.ParseFloat(m[1], 64)
		total += n * durationUnits[m[2]]
		rest = rest[len(m[0]):]
	}
	if s == "" {
		return 0, fmt.Errorf("an empty duration; write it as 250ms, 30s, 5m, 1h30m or 4d")
	}
	if total > float64(MaxDuration) {
		return 0, fmt.Errorf("%q is more than 100 years", s)
	}
	return time.Duration(math.Round(total)), nil
}

// FormatDuration writes d as the files do, at most three units.
func FormatDuration(d time.Duration) string {
	if d == 0 {
		return "0s"
	}
	var b strings.Builder
	if d < 0 {
		b.WriteByte('-')
		d = -d
	}
	for _, u := range []struct {
		name string
		size time.Duration
	}{{"d", 24 * time.Hour}, {"h", time.Hour}, {"m", time.Minute}} {
		if n := d / u.size; n > 0 {
			fmt.Fprintf(&b, "%d%s", n, u.name)
			d -= n * u.size
		}
	}
	switch {
	case d >= time.Second:
		b.WriteString(strconv.FormatFloat(float64(d)/1e9, 'f', -1, 64) + "s")
	case d > 0:
		b.WriteString(strconv.FormatFloat(float64(d)/1e6, 'f', -1, 64) + "ms")
	}
	return b.String()
}

func parseNumber(s string) (float64, error) {
	n, err := strconv.ParseFloat(strings.ReplaceAll(s, "_", ""), 64)
	if err != nil || math.IsNaN(n) || math.IsInf(n, 0) {
		return 0, fmt.Errorf("%q is not a number", s)
	}
	return n, nil
}

// MaxRate bounds every rate, per second.
const MaxRate = 1e7

// ParseRate reads 20/s, 600/m, 5000/h, 2/d and gives events per second.
func ParseRate(s string) (float64, error) {
	number, unit, ok := strings.Cut(s, "/")
	size := map[string]float64{"s": 1, "m": 60, "h": 3600, "d": 86400}[strings.TrimSpace(unit)]
	n, err := parseNumber(strings.TrimSpace(number))
	if !ok || size == 0 || err != nil {
		return 0, fmt.Errorf("%q is not a valid rate: use 20/s, 600/m, 5000/h or 2/d", s)
	}
	if n < 0 {
		return 0, fmt.Errorf("%q is negative; a rate is 0/s or more", s)
	}
	if n/size > MaxRate {
		return 0, fmt.Errorf("%q is over %.0f/s, more than a run can simulate", s, float64(MaxRate))
	}
	return n / size, nil
}

// FormatShare writes a share of 0 to 1 in percent, with two digits that say something: of what is left to 100% where
// that is little. One that is not nothing, or not all, never looks like it.
func FormatShare(x float64) string {
	switch {
	case x <= 0:
		return "0%"
	case x >= 1:
		return "100%"
	case x < 1e-6:
		return "under 0.0001%"
	case 1-x < 1e-6:
		return "over 99.9999%"
	case x < 0.99:
		return fmt.Sprintf("%.2g%%", 100*x)
	}
	digits := math.Ceil(-math.Log10(1-x)) - 1
	size := math.Pow(10, digits)
	return strconv.FormatFloat(math.Floor(100*x*size+1e-6)/size, 'f', -1, 64) + "%"
}

// FormatRate writes a rate per second in the unit in which it reads best.
// A rate that no document would state (under one in a century) is "under 0.00003/d".
func FormatRate(perSecond float64) string {
	const day = 86400
	if perSecond > 0 && perSecond*day < 3e-5 {
		return "under 0.00003/d"
	}
	for _, u := range []struct {
		name string
		size float64
	}{{"s", 1}, {"m", 60}, {"h", 3600}} {
		if perSecond*u.size >= 1 || perSecond == 0 {
			return strconv.FormatFloat(round3(perSecond*u.size), 'f', -1, 64) + "/" + u.name
		}
	}
	return strconv.FormatFloat(round3(perSecond*86400), 'f', -1, 64) + "/d"
}

func round3(x float64) float64 {
	if x == 0 {
		return 0
	}
	scale := math.Pow(10, 2-math.Floor(math.Log10(math.Abs(x))))
	return math.Round(x*scale) / scale
}

// ParseShare reads 0.5% or 0.005 and gives 0 to 1.
func ParseShare(s string) (float64, error) {
	text, percent := strings.CutSuffix(s, "%")
	n, err := parseNumber(strings.TrimSpace(text))
	if err != nil {
		return 0, fmt.Errorf("%q is not a valid share: use 0.5%% or 0.005", s)
	}
	if percent {
		n /= 100
	}
	if n < 0 || n > 1 {
		return 0, fmt.Errorf("%q is not a valid share: it must lie between 0 and 100%%", s)
	}
	return n, nil
}

var sizeUnits = map[string]float64{
	"B":   1,
	"KB":  1e3,
	"MB":  1e6,
	"GB":  1e9,
	"KiB": 1 << 10,
	"MiB": 1 << 20,
	"GiB": 1 << 30,
}

// ParseSize reads 256B, 64KB, 10MB (powers of 1000), KiB and MiB (powers of
// 1024) and gives bytes.
func ParseSize(s string) (int64, error) {
	i := strings.IndexFunc(s, func(r rune) bool { return (r < '0' || r > '9') && r != '.' })
	if i > 0 {
		if unit, ok := sizeUnits[strings.TrimSpace(s[i:])]; ok {
			if n, err := parseNumber(s[:i]); err == nil && n*unit <= 1e15 {
				return int64(math.Round(n * unit)), nil
			}
		}
	}
	return 0, fmt.Errorf("%q is not a valid size: use 256B, 64KB, 10MB, 64KiB or 1MiB", s)
}

// FormatSize writes bytes in powers of 1000.
func FormatSize(n int64) string {
	for _, u := range []struct {
		name string
		size float64
	}{{"GB", 1e9}, {"MB", 1e6}, {"KB", 1e3}} {
		if float64(n) >= u.size {
			return strconv.FormatFloat(round3(float64(n)/u.size), 'f', -1, 64) + u.name
		}
	}
	return strconv.FormatInt(n, 10) + "B"
}

// Distribution is a random number: seconds where the field is a time, a plain
// number where it is a count.
type Distribution struct {
	Dist   string // constant exponential uniform lognormal gamma samples
	Mean   float64
	Min    float64
	Max    float64
	P50    float64
	Sigma  float64 // of the logarithm, for lognormal
	CV     float64
	Values []float64
}

// Constant gives the distribution that is always x.
func Constant(x float64) Distribution { return Distribution{Dist: "constant", Mean: x} }

// Expected gives the mean.
func (d Distribution) Expected() float64 {
	switch d.Dist {
	case "uniform":
		return (d.Min + d.Max) / 2
	case "lognormal":
		return d.P50 * math.Exp(d.Sigma*d.Sigma/2)
	case "samples":
		sum := 0.0
		for _, v := range d.Values {
			sum += v
		}
		return sum / float64(len(d.Values))
	}
	return d.Mean
}

// Variation gives the squared coefficient of variation, the variance over the squared mean;
// 0 for a constant.
func (d Distribution) Variation() float64 {
	mean := d.Expected()
	switch {
	case mean == 0:
		return 0
	case d.Dist == "uniform":
		return (d.Max - d.Min) * (d.Max - d.Min) / 12 / (mean * mean)
	case d.Dist == "exponential":
		return 1
	case d.Dist == "gamma":
		return d.CV * d.CV
	case d.Dist == "lognormal":
		return math.Expm1(d.Sigma * d.Sigma)
	case d.Dist == "samples":
		sum := 0.0
		for _, v := range d.Values {
			sum += (v - mean) * (v - mean)
		}
		return sum / float64(len(d.Values)) / (mean * mean)
	}
	return 0
}

// Typical gives the median, or the mean where the median has no closed form.
func (d Distribution) Typical() float64 {
	switch d.Dist {
	case "lognormal":
		return d.P50
	case "exponential":
		return d.Mean * math.Ln2
	case "samples":
		return d.Values[len(d.Values)/2]
	}
	return d.Expected()
}

// Laplace gives E[e^(−sX)], the Laplace transform of the distribution at s, for
// s at least 0: closed forms, and for the lognormal the trapezoidal sum over its
// normal, which is exact to machine precision.
func (d Distribution) Laplace(s float64) float64 {
	switch d.Dist {
	case "exponential":
		return 1 / (1 + s*d.Mean)
	case "uniform":
		if w := s * (d.Max - d.Min); w > 1e-9 {
			return math.Exp(-s*d.Min) * -math.Expm1(-w) / w
		}
	case "gamma":
		if v := d.CV * d.CV; v > 0 {
			return math.Pow(1+s*d.Mean*v, -1/v)
		}
	case "lognormal":
		sum, step := 0.0, 1.0/32
		for z := -9.0; z <= 9; z += step {
			sum += math.Exp(-z*z/2 - s*d.P50*math.Exp(d.Sigma*z))
		}
		return sum * step / math.Sqrt(2*math.Pi)
	case "samples":
		sum := 0.0
		for _, v := range d.Values {
			sum += math.Exp(-s * v)
		}
		return sum / float64(len(d.Values))
	}
	return math.Exp(-s * d.Expected())
}

// Largest gives the largest value that can come out; +Inf without bound.
func (d Distribution) Largest() float64 {
	switch d.Dist {
	case "uniform":
		return d.Max
	case "samples":
		return d.Values[len(d.Values)-1]
	case "exponential", "lognormal", "gamma":
		return math.Inf(1)
	}
	return d.Mean
}

// Smallest gives the smallest value that can come out.
func (d Distribution) Smallest() float64 {
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

// IsZero reports whether the distribution is always 0.
func (d Distribution) IsZero() bool { return d.Largest() == 0 }
