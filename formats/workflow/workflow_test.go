package workflow

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// drafted reads a document and gives the model of its draft, which must be one that runs.
func drafted(t *testing.T, source string) (m *model.Topology, comments map[string]string, missing []string) {
	t.Helper()
	root, comments, missing, err := Read("close.workflow.yaml", []byte(source))
	require.NoError(t, err)
	text := model.WriteDocument(root, comments)
	m, err = model.Parse("model.yaml", text, model.Options{})
	require.NoError(t, err, "%s", text)
	g, err := graph.Compile(m)
	require.NoError(t, err, "%s", text)
	for _, f := range check.Run(g, nil, document.Head{}, time.Now()).Findings {
		require.NotEqual(t, check.Error, f.Severity, "%s: %s\n%s", f.Code, f.Message, text)
	}
	s := model.DefaultScenario()
	s.Length = 3 * time.Hour
	_, err = sim.Run(sim.Plan{Graph: g, Scenario: s})
	require.NoError(t, err)
	return m, comments, missing
}

// TestTheDemosDocumentBecomesAModel: each kind of task is there, with what it calls, and what could not be translated
// is asked.
func TestTheDemosDocumentBecomesAModel(t *testing.T) {
	source, err := os.ReadFile("../../demo/import/sailing-close.workflow.yaml")
	require.NoError(t, err)
	m, comments, missing := drafted(t, string(source))
	kinds := map[string]model.Kind{}
	for _, n := range m.Nodes {
		kinds[n.Name] = n.Kind
	}
	require.Equal(t, map[string]model.Kind{
		"sailing-close": model.Workflow, "sailing-close-schedule": model.Schedule, "tally-sailing": model.Function,
		"ask-mate-event": model.Outside, "manifests-harbour-example": model.Outside, "weigh-lot": model.Function,
		"reopen-sailing": model.Function, "labels": model.Function, "sailing-closed": model.Topic,
		"takers-of-sailing-closed": model.Outside,
	}, kinds)
	w := m.Node("sailing-close")
	require.Equal(t, 20*time.Minute, w.Timeout)
	require.Equal(t, "sailing.closed", w.Link("sailing-closed").Type)
	require.Equal(t, "event.data.tonnes > 900 && event.data.cleared != true", w.Do[1].Switch[0].When)
	require.Equal(t, `"odd" in event.data`, w.Do[1].Switch[1].When)
	require.Empty(t, w.Do[1].Switch[2].When)
	lock := w.Do[3]
	require.Equal(t, "event.data.lots", lock.Try[1].For.In)
	require.Equal(t, "item.kg > 0", lock.Try[1].For.While)
	require.Equal(t, "${ item.id }", lock.Try[1].Do[0].With.Get("lot").Scalar)
	require.Equal(t, "busy", lock.Catch.Type)
	require.Equal(t, model.TaskRetry{Delay: time.Minute, Backoff: "exponential", Count: 3, Pos: lock.Catch.Retry.Pos},
		*lock.Catch.Retry)
	require.Equal(t, "not-closed", lock.Catch.Do[1].Raise)
	require.Equal(t, 30*time.Second, w.Do[4].Fork[1].Wait)
	require.Contains(t, comments["nodes.sailing-close.do"], "do[1].heavy: QUESTION: the case odd holds if ${ .lots | map")
	require.Contains(t, strings.Join(missing, "\n"), "the field crates of a payload")
	require.Contains(t, strings.Join(missing, "\n"), "how long tally-sailing takes, and how often it fails")
}

// TestWhatStartsAWorkflow is its schedule, or the events that it waits for.
func TestWhatStartsAWorkflow(t *testing.T) {
	const rest = "document: {dsl: '1.0.0', namespace: h, name: count, version: '1'}\ndo: [{count: {call: count-crates}}]\n"
	for plan, want := range map[string]string{
		"schedule: {every: {hours: 2, minutes: 30}}\n":                              "schedule",
		"schedule: {after: PT15M}\n":                                                "schedule",
		"schedule: {on: {any: [{with: {type: a.b}}, {with: {type: c.d}}]}}\n":       "topic topic",
		"schedule: {on: {all: [{with: {source: https://harbour.example/gate}}]}}\n": "topic",
		"": "",
	} {
		m, _, missing := drafted(t, plan+rest)
		var kinds []string
		for _, n := range m.Nodes {
			if n.Link("count") != nil {
				kinds = append(kinds, string(n.Kind))
			}
		}
		require.Equal(t, want, strings.Join(kinds, " "), plan)
		if plan == "" {
			require.Contains(t, missing, "what starts count, and how often")
		}
	}
}

// TestExpressionsAreTranslatedOrRefused: what is translated can be compiled, what is not is known to be.
func TestExpressionsAreTranslatedOrRefused(t *testing.T) {
	for jq, cel := range map[string]string{
		`${ .kg > 100 }`:                            `event.data.kg > 100`,
		`.kg > 100`:                                 `event.data.kg > 100`,
		`${ .a.b[0].c == "x" or .d == null }`:       `event.data.a.b[0].c == "x" || event.data.d == null`,
		`${ (.kg + 2) * 3 <= 9 and .open == true }`: `(event.data.kg + 2) * 3 <= 9 && event.data.open == true`,
		`${ .part-no == "7" }`:                      `event.data["part-no"] == "7"`,
		`${ $item.kg < 2.5 }`:                       `item.kg < 2.5`,
		`${ . }`:                                    `event.data`,
		`${ .text == "a and b or .c" }`:             `event.data.text == "a and b or .c"`,
		`${ .lots | length }`:                       "",
		`${ length > 2 }`:                           "",
		`${ $context.kg > 1 }`:                      "",
		`${ .lots[] }`:                              "",
		`${ .a // "b" }`:                            "",
		`${ }`:                                      "",
		`${ {a: .b} }`:                              "",
		`${ .name == 'single' }`:                    "",
		`${ if .a then .b else .c end }`:            "",
	} {
		got, ok := expression(jq)
		require.Equal(t, cel != "", ok, jq)
		if ok {
			require.Equal(t, cel, got, jq)
			_, err := expr.Compile(got, "any")
			require.NoError(t, err, got)
		}
	}
}

// TestWrongDocumentsAreRefused with the place.
func TestWrongDocumentsAreRefused(t *testing.T) {
	const head = "document: {dsl: '1.0.0', namespace: h, name: count, version: '1'}\n"
	deep := head + "do: " + strings.Repeat("[{a: {do: ", 30) + "[{a: {wait: PT1S}}]" + strings.Repeat("}}]", 30)
	for source, want := range map[string]string{
		"openapi: 3.0.0":                     "not a workflow document",
		"specVersion: '0.8'\nstates: []":     "version 0.8 of the DSL; versions 1.x are read",
		"document: {dsl: '2.0.0'}\ndo: []":   "w.yaml:1: a workflow of version 2.0.0",
		head:                                 "no tasks",
		head + "do: [{a: {sing: loud}}]":     "line 2, nodes.count.do[0].a: the task a does none of call, do",
		head + "do: [a]":                     "line 2, nodes.count.do[0]: one named task is needed",
		head + "do: [{a: {do: {b: 1}}}]":     "a list of named tasks is needed",
		head + "do: [{a: {switch: {b: 1}}}]": "`switch` is a list of named cases",
		head + "do: [{a: {switch: [b]}}]":    "one named case is needed",
		head + "do: [{a: {fork: {}}}]":       "nodes.count.do[0].a.branches: a list of named tasks",
		head + "do: [{a: {try: 1}}]":         "a list of named tasks is needed",
		deep:                                 "tasks lie more than 20 deep",
	} {
		_, _, _, err := Read("w.yaml", []byte(source))
		require.ErrorContains(t, err, want, source)
	}
}

// FuzzRead: no document makes the reader panic, and what it gives is a model's text that can be read again.
func FuzzRead(f *testing.F) {
	source, err := os.ReadFile("../../demo/import/sailing-close.workflow.yaml")
	require.NoError(f, err)
	f.Add(source)
	f.Add([]byte("document: {dsl: '1.0.0'}\ndo: [{a: {try: [{b: {emit: 1}}], catch: 3}}, {c: {for: 1, do: [{d: {listen: {}}}]}}]"))
	f.Add([]byte("document: {dsl: '1.0.0'}\ndo: [{a: {raise: 1}}, {b: {set: 1}}, {c: {run: []}}, {d: {call: http}}, {e: {wait: {}}}]"))
	f.Fuzz(func(t *testing.T, source []byte) {
		root, comments, _, err := Read("w.yaml", source)
		if err == nil {
			_, err = model.ReadDocument("m.yaml", model.WriteDocument(root, comments))
			require.NoError(t, err)
		}
	})
}
