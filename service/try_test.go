package service_test

import (
	"testing"

	"github.com/stretchr/testify/require"
)

const small = "ironweir: topology/1\nname: small\nnodes:\n  # mind the comment\n  q: {kind: queue, lease: 5m, links: {f: {retry: {tries: 2}, dead-letter: d}}}\n  f: {kind: function, takes: 1s, accepts: {required: [kg], properties: {kg: {type: number, minimum: 3}}}}\n  d: {kind: queue}\n"

// TestOneMessageIsSampledAndFollowed through a text that is not saved.
func TestOneMessageIsSampledAndFollowed(t *testing.T) {
	r := start(t).signIn()
	event := r.do("POST", "/api/v1/sample", map[string]any{"text": small, "node": "f"}, 200)
	require.Equal(t, map[string]any{"kg": 3.0}, event["data"])
	r.do("POST", "/api/v1/sample", map[string]any{"text": small, "node": "ff"}, 404)

	told := r.do("POST", "/api/v1/follow", map[string]any{"text": small, "node": "q", "data": event["data"]}, 200)
	require.Equal(t, "complete", told["outcome"])
	told = r.do(
		"POST",
		"/api/v1/follow",
		map[string]any{"text": small, "node": "q", "data": map[string]any{"kg": "many"}},
		200,
	)
	require.Equal(t, "failed", told["outcome"])
	require.Equal(t, 1.0, told["fates"].(map[string]any)["parked"])
	told = r.do(
		"POST",
		"/api/v1/follow",
		map[string]any{"text": small, "node": "q", "data": event["data"], "fail": map[string]any{"f": 1}},
		200,
	)
	require.Equal(t, "complete", told["outcome"], "the second try succeeds")
	bad := r.do("POST", "/api/v1/follow", map[string]any{"text": small, "node": "qq"}, 422)
	require.Contains(t, bad["detail"], "did you mean")
	bad = r.do("POST", "/api/v1/follow", map[string]any{"text": "nodes: {}", "node": "q"}, 422)
	require.NotEmpty(t, bad["errors"])
}

// TestWhichLinksTakeAnEvent tells it for every link that has a choice, with the
// reason of those that would not.
func TestWhichLinksTakeAnEvent(t *testing.T) {
	r := start(t).signIn()
	model := "ironweir: topology/1\nnodes:\n  drop: {kind: bucket, links: {csv: {match: {suffix: .csv}}, heavy: {match: {if: event.data.kg > 10}}}}\n  csv: {kind: function}\n  heavy: {kind: queue, links: {csv: {}}}\n"
	asked := func(key string, data any) map[string]any {
		told := map[string]any{}
		for _, l := range r.do("POST", "/api/v1/takes", map[string]any{"text": model, "key": key, "data": data},
			200)["links"].([]any) {
			link := l.(map[string]any)
			told[link["link"].(string)] = link["takes"]
			if link["takes"] == false {
				require.NotEmpty(t, link["why"])
			}
		}
		return told
	}
	require.Equal(
		t,
		map[string]any{"drop:csv": true, "drop:heavy": false, "heavy:csv": true},
		asked("a.csv", map[string]any{"kg": 3}),
	)
	require.Equal(
		t,
		map[string]any{"drop:csv": false, "drop:heavy": true, "heavy:csv": true},
		asked("a.CSV", map[string]any{"kg": 30}),
	)
	r.do("POST", "/api/v1/takes", map[string]any{"text": "nodes: ["}, 422)
}

// TestAPatchIsWrittenIntoTheText with its comments kept.
func TestAPatchIsWrittenIntoTheText(t *testing.T) {
	r := start(t).signIn()
	patch := map[string]any{"nodes": map[string]any{"q": map[string]any{"lease": "10m"}}}
	out := r.do("POST", "/api/v1/apply", map[string]any{"text": small, "patch": patch}, 200)
	require.Contains(t, out["text"], "# mind the comment\n  q: {kind: queue, lease: 10m, links")
	bad := r.do("POST", "/api/v1/apply", map[string]any{"text": "nodes: [", "patch": patch}, 422)
	require.NotEmpty(t, bad["errors"])
	r.do(
		"POST",
		"/api/v1/apply",
		map[string]any{"text": "a: |\n  long\n  text\n", "patch": map[string]any{"a": map[string]any{"b": 1}}},
		422,
	)
}
