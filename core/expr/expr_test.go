package expr

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func event() *Event {
	return &Event{
		ID:      "7",
		Source:  "desk",
		Type:    "written",
		Subject: "inbound/gannet/8812.csv",
		Time:    time.Date(2026, 3, 27, 14, 0, 0, 0, time.UTC),
		Size:    2000,
		Hops:    2,
		Try:     3,
		Age:     90 * time.Second,
		Data: map[string]any{
			"kg":     44.5,
			"urgent": true,
			"lines":  []any{"a", "b"},
			"van":    map[string]any{"plate": "K 12"},
		},
	}
}

func TestConditions(t *testing.T) {
	for source, want := range map[string]bool{
		`event.data.kg > 44`:                                 true,
		`event.data.urgent`:                                  true,
		`event.data.van.plate == "K 12"`:                     true,
		`event.subject.startsWith("inbound/")`:               true,
		`event.type == "deleted"`:                            false,
		`event.size >= 2000 && event.hops == 2`:              true,
		`event.try < 3`:                                      false,
		`event.age > duration("1m")`:                         true,
		`event.time.getHours() == 14`:                        true,
		`event.source == "desk" && event.id == "7"`:          true,
		`has(event.data.missing) && event.data.missing == 1`: false,
		`event.data.lines.exists(l, l == "b")`:               true,
	} {
		x, err := Compile(source, "bool")
		require.NoError(t, err, source)
		got, err := x.Truth(event())
		require.NoError(t, err, source)
		require.Equal(t, want, got, source)
	}
	x, err := Compile("event.data.missing > 1", "bool")
	require.NoError(t, err)
	got, err := x.Truth(event())
	require.Error(t, err, "a missing field is an error for those who ask why")
	require.False(t, got)
}

func TestValues(t *testing.T) {
	x, err := Compile(`{"kg": event.data.kg * 2.0, "who": [event.source], "at": index}`, "any")
	require.NoError(t, err)
	require.True(t, x.ReadsData)
	v, err := x.Value(event())
	require.NoError(t, err)
	require.Equal(t, map[string]any{"kg": 89.0, "who": []any{"desk"}, "at": 0.0}, v)
	x, err = Compile("event.data.lines", "list")
	require.NoError(t, err)
	l, err := x.List(event())
	require.NoError(t, err)
	require.Equal(t, []any{"a", "b"}, l)
	x, err = Compile("size(event.data.lines) + 1", "number")
	require.NoError(t, err)
	n, err := x.Number(event())
	require.NoError(t, err)
	require.Equal(t, 3.0, n)
	x, err = Compile("1 < 2", "bool")
	require.NoError(t, err)
	v, constant := x.Constant()
	require.True(t, constant)
	require.Equal(t, true, v)
}

func TestRefusedExpressions(t *testing.T) {
	for source, says := range map[string]string{
		"event.dta":                      "there is no `event.dta` (did you mean 'event.data'?); expressions see event.id",
		"event.data.kg >":                "does not compile: column 16: it ends too early",
		"event.type = 'a'":               "column 12: `=` has no meaning here; what is equal is `==`",
		"event.try > 1 & event.hops > 1": "column 15: `&` has no meaning here; write `&&`",
		"event.type == 'a":               "column 15: a quotation mark is not closed",
		"event.try + 'a' > 2":            "column 11: `+` cannot be used with (int, string)",
		"event.type ==\n ) 'a'":          "line 2, column 2: `)` is not expected here",
		"1 + 1":                          "a bool is needed here",
		strings.Repeat("1+", 3000) + "1": "at most 4096",
	} {
		_, err := Compile(source, "bool")
		require.ErrorContains(t, err, says)
	}
	// Costly ones are cut off, not waited for.
	x, err := Compile(`event.data.l.all(a, event.data.l.all(b, event.data.l.all(c, a + b + c > -1.0)))`, "bool")
	require.NoError(t, err)
	long := make([]any, 2000)
	for i := range long {
		long[i] = 1.0
	}
	began := time.Now()
	_, err = x.Truth(&Event{Data: map[string]any{"l": long}})
	require.ErrorContains(t, err, "cost")
	require.Less(t, time.Since(began), 30*time.Second)
}

func TestJudgements(t *testing.T) {
	j, err := CompileJudgement("run.ledger.lost.total == 0 && run.nodes['a-b'].depth.max < 10")
	require.NoError(t, err)
	doc := map[string]any{
		"ledger": map[string]any{"lost": map[string]any{"total": 0.0}},
		"nodes":  map[string]any{"a-b": map[string]any{"depth": map[string]any{"max": 3.0}}},
	}
	holds, err := j.Holds(doc)
	require.NoError(t, err)
	require.True(t, holds)
	j, err = CompileJudgement("run.nothing == 0")
	require.NoError(t, err)
	_, err = j.Holds(doc)
	require.ErrorContains(t, err, "no such key")
	_, err = CompileJudgement("1 + 1")
	require.ErrorContains(t, err, "must be true or false")
}

// [PE-14] [PE-15] [PE-16]
func TestTemplates(t *testing.T) {
	f := Filling{
		Subject: "inbound/gannet/8812.csv",
		ID:      4,
		Seq:     9,
		Time:    time.Date(2026, 3, 27, 0, 0, 0, 0, time.UTC),
		Data:    map[string]any{"van": map[string]any{"plate": "K 12"}, "kg": 4.5, "l": []any{"x"}},
	}
	for source, want := range map[string]string{
		"stamped/{stem}.pdf":      "stamped/8812.pdf",
		"{key}":                   "inbound/gannet/8812.csv",
		"{dir}/{name}.{ext}":      "inbound/gannet/8812.csv.csv",
		"{date}/{seq}-{id}":       "2026-03-27/9-4",
		"{data.van.plate}":        "K 12",
		"{data.kg}/{data.l.0}":    "4.5/x",
		"{data.missing.at.all}":   "",
		"no variables/at all.txt": "no variables/at all.txt",
	} {
		tmpl, err := ParseTemplate(source, false)
		require.NoError(t, err, source)
		require.Equal(t, want, string(tmpl.Append(nil, &f)), source)
	}
	for source, says := range map[string]string{"a/{stem": "does not close it", "a/}b": "did not open",
		"a/{st em}": "a name is letters", "a/{haulier}": "it may use"} {
		_, err := ParseTemplate(source, false)
		require.ErrorContains(t, err, says, source)
	}
	free, err := ParseTemplate("in/{haulier}/{seq}", true)
	require.NoError(t, err)
	require.Equal(t, "in/haulier-3/9", string(free.Append(nil, &f)))
}

// TestShapesCoverWhatTemplatesMake draws templates and keys: the shape that is
// worked out holds every key that is really made, so a filter that it calls
// impossible never takes one, and one that it calls certain always does.
func TestShapesCoverWhatTemplatesMake(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[ab./]{0,4}`)
		part := rapid.OneOf(
			word,
			rapid.SampledFrom([]string{"{key}", "{dir}", "{name}", "{stem}", "{ext}", "{seq}", "{date}", "{id}"}),
		)
		template := func(label string) *Template {
			tmpl, err := ParseTemplate(strings.Join(rapid.SliceOfN(part, 1, 4).Draw(t, label), ""), false)
			require.NoError(t, err)
			return tmpl
		}
		first, second := template("first"), template("second")
		subject := rapid.StringMatching(`[ab./]{0,8}`).Draw(t, "subject")
		fill := func(tmpl *Template, subject string) string {
			return string(tmpl.Append(nil, &Filling{Subject: subject, Seq: 3, ID: 4, Time: time.Unix(0, 0)}))
		}
		middle := fill(first, subject)
		key := fill(second, middle)
		for _, from := range []KeyShape{first.Shape(AnyKey), ExactKey(middle)} {
			shape := second.Shape(from)
			require.True(
				t,
				strings.HasPrefix(key, shape.Prefix),
				"%q starts with %q (%s)",
				key,
				shape.Prefix,
				second.Source,
			)
			require.True(
				t,
				strings.HasSuffix(key, shape.Suffix),
				"%q ends with %q (%s)",
				key,
				shape.Suffix,
				second.Source,
			)
			if shape.Exact {
				require.Equal(t, shape.Prefix, key)
			}
			filter := word.Draw(t, "filter")
			switch shape.HasPrefix(filter) {
			case Certain:
				require.True(t, strings.HasPrefix(key, filter))
			case Impossible:
				require.False(t, strings.HasPrefix(key, filter))
			}
			switch shape.HasSuffix(filter) {
			case Certain:
				require.True(t, strings.HasSuffix(key, filter))
			case Impossible:
				require.False(t, strings.HasSuffix(key, filter))
			}
		}
	})
}

// TestSetsOfShapesSettle adds shapes without end: a set stays small, covers all
// that was added, and in the end no longer changes.
func TestSetsOfShapesSettle(t *testing.T) {
	var s Shapes
	key, changes := "", 0
	for range 200 {
		key = "x/" + key
		var changed bool
		if s, changed = s.Add(KeyShape{Prefix: key, Suffix: ".csv", Least: len(key)}); changed {
			changes++
		}
		require.LessOrEqual(t, len(s), MaxShapes)
	}
	require.Less(t, changes, 40)
	same, changed := s.Add(KeyShape{Prefix: key, Suffix: ".csv", Least: len(key)})
	require.False(t, changed)
	require.Equal(t, s, same)
}

func FuzzCompile(f *testing.F) {
	for _, s := range []string{"event.data.kg > 44", "[1,2].map(x, x*2)", "event.age > duration('1m')", "a ? b : c", "{'a': event.data}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, source string) {
		if x, err := Compile(source, "any"); err == nil {
			_, _ = x.Value(event())
		}
		if tmpl, err := ParseTemplate(source, true); err == nil {
			tmpl.Append(nil, &Filling{Subject: source, Data: event().Data})
			tmpl.Shape(AnyKey)
		}
	})
}

// A list is needed where items are sent, and a number where they are counted.
func TestWhatAnExpressionGives(t *testing.T) {
	_, err := Compile("[1, 2]", "list")
	require.NoError(t, err)
	_, err = Compile("1 + 1", "list")
	require.ErrorContains(t, err, "a list is needed here")
	_, err = Compile("1 + 1", "number")
	require.NoError(t, err)
	_, err = Compile("[1, 2]", "number")
	require.ErrorContains(t, err, "a number is needed here")
}

// A measure that holds or not is 1 or 0.
func TestMeasuresThatHold(t *testing.T) {
	j, err := CompileMeasure("run.runs > 3")
	require.NoError(t, err)
	for runs, want := range map[float64]float64{4: 1, 3: 0} {
		got, err := j.Number(map[string]any{"runs": runs})
		require.NoError(t, err)
		require.InDelta(t, want, got, 0)
	}
}

// A schema without a type has one that its keywords are about.
func TestExamplesByKeyword(t *testing.T) {
	list, isList := Example(map[string]any{"items": map[string]any{"type": "string"}, "minItems": 1.0}).([]any)
	require.True(t, isList)
	require.Len(t, list, 1)
	number, isNumber := Example(map[string]any{"minimum": 3.0}).(float64)
	require.True(t, isNumber)
	require.GreaterOrEqual(t, number, 3.0)
	_, isText := Example(map[string]any{"minLength": 2.0}).(string)
	require.True(t, isText)
}

// What is only an example in a payload decides nothing; what is known does.
func TestPayloadsKnownInPart(t *testing.T) {
	of := func(schema map[string]any) error {
		s, err := CompileSchema(schema)
		require.NoError(t, err)
		return s.FitsApart(map[string]any{"event": map[string]any{}, "node": "scale"}, []string{"event"})
	}
	require.ErrorContains(t, of(map[string]any{"type": "string"}), "want string")
	require.ErrorContains(t, of(map[string]any{"required": []any{"kg"}}), "kg")
	require.Error(t, of(map[string]any{"properties": map[string]any{"node": map[string]any{"type": "number"}}}))
	require.NoError(t, of(map[string]any{"required": []any{"event"}}))
	unsure := map[string]any{"properties": map[string]any{"event": map[string]any{"required": []any{"id"}}}}
	require.NoError(t, of(unsure))
	either := func(other map[string]any) map[string]any { return map[string]any{"anyOf": []any{unsure, other}} }
	require.NoError(t, of(either(map[string]any{"type": "string"})), "the first may fit")
	require.NoError(t, of(map[string]any{"enum": []any{"a", "b"}}), "of a whole with unknown parts, nothing is said")
}
