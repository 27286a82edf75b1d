package sensitivity

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"ironweir/core/check/remedy"

	"ironweir/core/model"
)

// guess is a number with a range, in its unit: seconds, a share, a rate, bytes or a plain
// number.
type guess struct {
	model.Guess
	value, low, high float64
	write            func(float64) string
}

// newGuess reads a guess and its range, by default half to double the guess.
func newGuess(m model.Guess) (guess, error) {
	g := guess{Guess: m}
	read, write := unitOf(m.Value)
	if read == nil {
		return g, fmt.Errorf("%s: %q cannot be varied", m.Path, m.Value)
	}
	g.write = write
	var err error
	if g.value, err = read(m.Value); err != nil {
		return g, err
	}
	if g.low, g.high = g.value/2, g.value*2; m.Low != "" {
		if g.low, err = read(m.Low); err == nil {
			g.high, err = read(m.High)
		}
	} else if strings.HasSuffix(m.Value, "%") {
		g.high = min(g.high, 1)
	}
	return g, err
}

// unitOf returns how a value like this one is read and written.
func unitOf(text string) (read func(string) (float64, error), write func(float64) string) {
	plain := func(s string) (float64, error) { return strconv.ParseFloat(s, 64) }
	digits := func(x float64) string { return strconv.FormatFloat(x, 'g', 4, 64) }
	if strings.HasSuffix(text, "%") {
		return model.ParseShare, func(x float64) string { return digits(x*100) + "%" }
	}
	if _, err := strconv.ParseInt(text, 10, 64); err == nil {
		return plain, func(x float64) string { return strconv.FormatFloat(math.Round(x), 'f', 0, 64) }
	}
	if _, err := plain(text); err == nil {
		return plain, digits
	}
	if _, err := model.ParseDuration(text); err == nil {
		return func(s string) (float64, error) {
				d, err := model.ParseDuration(s)
				return d.Seconds(), err
			}, func(x float64) string {
				unit := time.Millisecond
				if x > 100 {
					unit = time.Second
				}
				return model.FormatDuration(time.Duration(x * 1e9).Round(unit))
			}
	}
	if strings.Contains(text, "/") {
		return model.ParseRate, func(x float64) string { return digits(x*86400) + "/d" }
	}
	if _, err := model.ParseSize(text); err == nil {
		return func(s string) (float64, error) {
			n, err := model.ParseSize(s)
			return float64(n), err
		}, func(x float64) string { return strconv.FormatInt(int64(x), 10) + "B" }
	}
	return nil, nil
}

// at writes the value at a part of the range, from 0 to 1. Where the bounds are more than
// three times apart, equal parts are equal factors.
func (g *guess) at(part float64) string {
	if g.byFactor() {
		return g.write(g.low * math.Pow(g.high/g.low, part))
	}
	return g.write(g.low + part*(g.high-g.low))
}

func (g *guess) byFactor() bool { return g.low > 0 && g.high > 3*g.low }

// asWritten is the part of the range at which the guess itself lies.
func (g *guess) asWritten() float64 {
	if g.byFactor() {
		return math.Log(g.value/g.low) / math.Log(g.high/g.low)
	}
	return (g.value - g.low) / (g.high - g.low)
}

// set is the change that writes a value in the place of the guess.
func (g *guess) set(value string) remedy.Remedy {
	steps := strings.Split(g.Path, ".")
	var patch any = value
	for k := len(steps) - 1; k >= 0; k-- {
		patch = map[string]any{steps[k]: patch}
	}
	return remedy.Remedy{Say: g.Path, Patch: patch.(map[string]any)}
}
