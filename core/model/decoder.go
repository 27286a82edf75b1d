package model

import (
	"fmt"
	"math"
	"regexp"
	"sort"
	"strings"
	"time"
)

// decoder reads Values into Go values and collects every fault.
type decoder struct {
	problems Problems
	guesses  []Guess
}

func (d *decoder) problem(pos Position, path, format string, args ...any) {
	d.problems = append(d.problems, Problem{Position: pos, Path: path, Message: fmt.Sprintf(format, args...)})
}

func (d *decoder) wants(v *Value, path, what string) {
	got := v.Shape.String()
	if v.Shape != Map && v.Shape != List && v.Shape != Null {
		got = fmt.Sprintf("%q", v.Scalar)
	}
	d.problem(v.Pos, path, "this must be %s, not %s", what, got)
}

// object reads the fields of one map and knows afterwards which it did not ask
// for.
type object struct {
	*decoder
	v     *Value
	path  string
	asked []string
}

func (d *decoder) object(v *Value, path string) *object {
	if v.Shape != Map {
		if v.Shape != Null {
			d.wants(v, path, "a map")
		}
		v = &Value{Shape: Map, Pos: v.Pos}
	}
	return &object{decoder: d, v: v, path: path}
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

func (o *object) at(key string) string { return join(o.path, key) }

func (o *object) get(key string) *Value {
	o.asked = append(o.asked, key)
	v := o.v.Get(key)
	if v != nil && v.Shape == Null {
		return nil
	}
	return v
}

// written gives a field that is there as it stands, of Shape Null where nothing
// stands behind its name; get takes that for a field that is not there.
func (o *object) written(key string) *Value {
	o.asked = append(o.asked, key)
	return o.v.Get(key)
}

func (o *object) pos(key string) Position {
	if v := o.v.Get(key); v != nil {
		return v.Pos
	}
	return o.v.Pos
}

// done reports the fields that nothing asked for. elsewhere may tell where a
// field belongs.
func (o *object) done(elsewhere func(key string) string) {
	for _, f := range o.v.Fields {
		known := false
		for _, a := range o.asked {
			known = known || a == f.Key
		}
		if known {
			continue
		}
		message := fmt.Sprintf("unknown field %q%s", f.Key, didYouMean(f.Key, o.asked))
		if f.Value.Shape == Null && strings.Contains(f.Key, " ") {
			message += "; in a one-line map a text with a comma must be quoted"
		}
		if elsewhere != nil {
			if more := elsewhere(f.Key); more != "" {
				message = more
			}
		}
		o.problem(f.Pos, o.at(f.Key), "%s", message)
	}
}

// plainScalar unwraps {guess: …} and {measured: …, source: …}.
func (d *decoder) plainScalar(v *Value, path, what string) (string, bool) {
	if v.Shape == Map {
		if g := v.Get("guess"); g != nil {
			o := d.object(v, path)
			o.get("guess")
			o.get("range") // see quantity
			o.done(nil)
			return d.plainScalar(g, path, what)
		}
		if m := v.Get("measured"); m != nil {
			o := d.object(v, path)
			o.get("measured")
			o.text("source")
			o.done(nil)
			return d.plainScalar(m, path, what)
		}
	}
	if v.Shape == Map || v.Shape == List || v.Shape == Null {
		d.wants(v, path, what)
		return "", false
	}
	return strings.TrimSpace(v.Scalar), true
}

func (o *object) text(key string) string {
	v := o.get(key)
	if v == nil {
		return ""
	}
	if v.Shape == Map || v.Shape == List {
		o.wants(v, o.at(key), "text")
		return ""
	}
	return v.Scalar
}

func (o *object) oneOf(key, fallback string, values ...string) string {
	v := o.get(key)
	if v == nil {
		return fallback
	}
	for _, c := range values {
		if v.Scalar == c && v.Shape != Map && v.Shape != List {
			return c
		}
	}
	o.problem(
		v.Pos,
		o.at(key),
		"%q is not one of %s%s",
		v.Scalar,
		strings.Join(values, ", "),
		didYouMean(v.Scalar, values),
	)
	return fallback
}

func (o *object) truth(key string, fallback bool) bool {
	v := o.get(key)
	if v == nil {
		return fallback
	}
	if v.Shape != Bool {
		o.wants(v, o.at(key), "true or false")
		return fallback
	}
	return strings.EqualFold(v.Scalar, "true")
}

func quantity[T any](d *decoder, v *Value, path, what string, parse func(string) (T, error)) (out T, ok bool) {
	s, ok := d.plainScalar(v, path, what)
	if !ok {
		return out, false
	}
	out, err := parse(s)
	if err != nil {
		d.problem(v.Pos, path, "%v", err)
		return out, false
	}
	if v.Shape == Map && v.Get("guess") != nil {
		d.guess(v, path, s, func(s string) (float64, error) {
			x, err := parse(s)
			return number(x), err
		})
	}
	return out, true
}

// guess notes a guess and the range within which the true value may lie.
func (d *decoder) guess(v *Value, path, value string, parse func(string) (float64, error)) {
	g := Guess{Path: path, Value: value}
	if r := v.Get("range"); r != nil {
		if r.Shape != List || len(r.Items) != 2 {
			d.problem(r.Pos, path+".range", "a range has two values, the lower first, as in `{guess: 5s, range: [2s, 20s]}`")
			return
		}
		g.Low, g.High = strings.TrimSpace(r.Items[0].Scalar), strings.TrimSpace(r.Items[1].Scalar)
		var ends [3]float64
		for i, s := range []string{g.Low, value, g.High} {
			x, err := parse(s)
			if err != nil {
				d.problem(r.Pos, path+".range", "%v", err)
				return
			}
			ends[i] = x
		}
		if ends[0] > ends[1] || ends[1] > ends[2] || ends[0] == ends[2] {
			d.problem(r.Pos, path+".range", "the guess %s does not lie between %s and %s", value, g.Low, g.High)
			return
		}
	}
	d.guesses = append(d.guesses, g)
}

// number returns a quantity as a number, in the unit in which it is kept.
func number(x any) float64 {
	switch x := x.(type) {
	case float64:
		return x
	case int:
		return float64(x)
	case int64:
		return float64(x)
	case time.Duration:
		return float64(x)
	}
	return 0
}

func (o *object) duration(key string, fallback time.Duration) time.Duration {
	if p := o.durationOrNil(key); p != nil {
		return *p
	}
	return fallback
}

func (o *object) durationOrNil(key string) *time.Duration {
	v := o.get(key)
	if v == nil {
		return nil
	}
	if out, ok := quantity(o.decoder, v, o.at(key), "a duration", ParseDuration); ok {
		return &out
	}
	return nil
}

// positive is a duration that may not be 0.
func (o *object) positive(key string, fallback time.Duration) time.Duration {
	out := o.duration(key, fallback)
	if out == 0 && o.v.Get(key) != nil && fallback != 0 {
		o.problem(o.pos(key), o.at(key), "this must be more than 0s")
		return fallback
	}
	return out
}

func (o *object) rate(key string) float64 {
	v := o.get(key)
	if v == nil {
		return 0
	}
	out, _ := quantity(o.decoder, v, o.at(key), "a rate", ParseRate)
	return out
}

func (o *object) share(key string, fallback float64) float64 {
	v := o.get(key)
	if v == nil {
		return fallback
	}
	out, ok := quantity(o.decoder, v, o.at(key), "a share", ParseShare)
	if !ok {
		return fallback
	}
	return out
}

func (o *object) size(key string, fallback int64) int64 {
	v := o.get(key)
	if v == nil {
		return fallback
	}
	out, ok := quantity(o.decoder, v, o.at(key), "a size", ParseSize)
	if !ok {
		return fallback
	}
	return out
}

func (o *object) number(key string) *float64 {
	v := o.get(key)
	if v == nil {
		return nil
	}
	out, ok := quantity(o.decoder, v, o.at(key), "a number", parseNumber)
	if !ok {
		return nil
	}
	return &out
}

// whole is an integer of at least least.
func (o *object) whole(key string, fallback, least int) int {
	n := o.number(key)
	if n == nil {
		return fallback
	}
	if *n != math.Trunc(*n) || *n < float64(least) || *n > 1e9 {
		o.problem(o.pos(key), o.at(key), "%v is not a whole number from %d to 1000000000", *n, least)
		return fallback
	}
	return int(*n)
}

func (o *object) time(key string) *time.Time {
	v := o.get(key)
	if v == nil {
		return nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02"} {
		if t, err := time.Parse(layout, v.Scalar); err == nil {
			return &t
		}
	}
	o.problem(v.Pos, o.at(key), "%q is not a valid time: use RFC 3339, such as 2026-03-27T12:00:00Z", v.Scalar)
	return nil
}

// list reads one text or a list of them.
func (o *object) list(key string) []string {
	v := o.get(key)
	if v == nil {
		return nil
	}
	items := []*Value{v}
	if v.Shape == List {
		items = v.Items
	}
	var out []string
	for i, item := range items {
		if item.Shape == Map || item.Shape == List || item.Shape == Null {
			o.wants(item, fmt.Sprintf("%s[%d]", o.at(key), i), "text")
			continue
		}
		out = append(out, item.Scalar)
	}
	return out
}

// each calls do for every entry of the map under key, in the order written.
func (o *object) each(key string, do func(name string, pos Position, v *Value, path string)) {
	v := o.get(key)
	if v == nil {
		return
	}
	if v.Shape != Map {
		o.wants(v, o.at(key), "a map of names")
		return
	}
	for _, f := range v.Fields {
		do(f.Key, f.Pos, f.Value, o.at(key)+"."+f.Key)
	}
}

func (o *object) texts(key string) map[string]string {
	var out map[string]string
	o.each(key, func(name string, _ Position, v *Value, path string) {
		if v.Shape == Map || v.Shape == List {
			o.wants(v, path, "text")
			return
		}
		if out == nil {
			out = map[string]string{}
		}
		out[name] = v.Scalar
	})
	return out
}

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

func (d *decoder) checkName(name string, pos Position, path string) {
	if !nameForm.MatchString(name) {
		d.problem(pos, path, "%q is not a valid name: use 1 to 63 of a-z, 0-9 and -, a letter first", name)
	}
}

// distribution reads a duration (a plain number where plain is set) or a map
// with `dist`.
func (o *object) distribution(key string, fallback Distribution, plain bool) Distribution {
	v := o.get(key)
	if v == nil {
		return fallback
	}
	out, ok := o.decoder.distribution(v, o.at(key), plain)
	if !ok {
		return fallback
	}
	return out
}

func (d *decoder) distribution(v *Value, path string, plain bool) (Distribution, bool) {
	what := "a duration or a distribution"
	parse := func(s string) (float64, error) {
		t, err := ParseDuration(s)
		return t.Seconds(), err
	}
	if plain {
		what = "a number or a distribution"
		parse = func(s string) (float64, error) {
			n, err := parseNumber(s)
			if err == nil && (n < 0 || n > 1e6) {
				err = fmt.Errorf("%v must lie between 0 and 1000000", n)
			}
			return n, err
		}
	}
	if v.Shape != Map || v.Get("dist") == nil && (v.Get("guess") != nil || v.Get("measured") != nil) {
		if inner := v.Get("guess"); inner != nil && inner.Shape == Map {
			d.guesses = append(d.guesses, Guess{Path: path})
			return d.distribution(inner, path, plain)
		}
		if inner := v.Get("measured"); inner != nil && inner.Shape == Map {
			return d.distribution(inner, path, plain)
		}
		x, ok := quantity(d, v, path, what, parse)
		return Constant(x), ok
	}
	return d.stated(v, path, what, parse)
}

// stated reads a distribution with its parameters, of quantities that parse reads.
func (d *decoder) stated(
	v *Value,
	path, what string,
	parse func(string) (float64, error),
) (Distribution, bool) {
	o := d.object(v, path)
	if o.v.Get("dist") == nil {
		d.problem(v.Pos, path, "a distribution needs `dist`: exponential, uniform, lognormal, gamma or samples")
		return Distribution{}, false
	}
	out := Distribution{
		Dist: o.oneOf("dist", "", "constant", "exponential", "uniform", "lognormal", "gamma", "samples"),
	}
	before := len(d.problems)
	need := func(key string, atLeast float64) float64 {
		f := o.get(key)
		if f == nil {
			d.problem(v.Pos, path, "%s needs `%s`", out.Dist, key)
			return atLeast
		}
		p := parse
		if key == "cv" {
			p = parseNumber
		}
		x, ok := quantity(d, f, o.at(key), what, p)
		if ok && (x < atLeast || atLeast == 0 && x <= 0 && key != "min") {
			d.problem(f.Pos, o.at(key), "`%s` is too small here", key)
		}
		return x
	}
	switch out.Dist {
	case "constant":
		out.Mean = need("mean", 0)
	case "exponential":
		out.Mean = need("mean", 0)
	case "uniform":
		out.Min = need("min", 0)
		out.Max = need("max", out.Min)
	case "lognormal":
		out.P50 = need("p50", 0)
		if o.v.Get("p99") != nil {
			out.Sigma = math.Log(need("p99", out.P50)/out.P50) / 2.3263478740408408
		} else {
			out.Sigma = math.Log(need("p95", out.P50)/out.P50) / 1.6448536269514722
		}
	case "gamma":
		out.Mean = need("mean", 0)
		out.CV = need("cv", 0)
	case "samples":
		values := o.get("values")
		if values == nil || values.Shape != List || len(values.Items) == 0 {
			d.problem(v.Pos, path, "samples needs `values`, a list that is not empty")
			break
		}
		for i, item := range values.Items {
			if x, ok := quantity(d, item, fmt.Sprintf("%s.values[%d]", path, i), what, parse); ok {
				out.Values = append(out.Values, x)
			}
		}
		sort.Float64s(out.Values)
	default:
		return out, false
	}
	o.done(nil)
	return out, len(d.problems) == before
}
