package openapi_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
	"ironweir/formats/openapi"
)

// quay is a document of version 3.0, as somebody else would write it.
const quay = `
openapi: 3.0.3
info: {title: Quay Bookings, version: "2", description: Lanes for hauliers.}
paths:
  /bookings:
    post:
      operationId: bookLane
      summary: Book a lane.
      requestBody:
        content:
          application/json:
            schema: {$ref: "#/components/schemas/Booking"}
      responses: {"201": {description: booked}}
    get: {responses: {"200": {description: all of them}}}
  /bookings/{id}:
    parameters: [{name: id, in: path, required: true, schema: {type: string}}]
    delete: {operationId: cancel, responses: {"204": {description: gone}}}
    put:
      operationId: move
      requestBody: {$ref: "#/components/requestBodies/Moved"}
      responses: {"200": {description: moved}}
components:
  requestBodies:
    Moved: {content: {application/vnd.quay+json: {schema: {type: object, required: [lane], properties: {lane: {type: integer, minimum: 0, exclusiveMinimum: true}}}}}}
  schemas:
    Booking:
      type: object
      required: [haulier, load]
      properties:
        haulier: {type: string, minLength: 1, example: Kittiwake}
        note: {type: string, nullable: true}
        load: {$ref: "#/components/schemas/Load"}
        example: {type: boolean}
    Load:
      type: object
      properties:
        parts: {type: array, items: {$ref: "#/components/schemas/Load"}}
        kg: {type: number}
`

func TestOperationsBecomeEndpoints(t *testing.T) {
	root, comments, missing, err := openapi.Read("quay.yaml", []byte(quay))
	require.NoError(t, err)
	out := model.WriteDocument(root, comments)
	m, err := model.Parse("drafted.yaml", out, model.Options{})
	require.NoError(t, err, string(out))
	require.Equal(t, "quay-bookings", m.Name)
	require.Equal(t, "Lanes for hauliers.", m.About)
	var drawn []string
	for _, n := range m.Nodes {
		drawn = append(drawn, strings.TrimSpace(string(n.Kind)+" "+n.Name+" "+n.Method+" "+n.Path))
	}
	require.Equal(t, []string{
		"endpoint get-bookings GET /bookings", "endpoint booklane POST /bookings",
		"endpoint move PUT /bookings/{id}", "endpoint cancel DELETE /bookings/{id}",
		"function quay-bookings",
	}, drawn)
	require.NotNil(t, m.Node("cancel").Link("quay-bookings"))
	require.Contains(t, strings.Join(missing, "\n"), "how much comes to cancel (rate)")
	require.Contains(t, string(out), "# Guessed: one function stands for the whole application")

	accepts := func(node string, payload any) bool { return m.Node(node).Accepts.Fits(payload) == nil }
	whole := map[string]any{"haulier": "K", "load": map[string]any{"kg": 3.0, "parts": []any{map[string]any{"kg": 1.0}}}}
	require.True(t, accepts("booklane", whole))
	whole["note"] = nil
	require.True(t, accepts("booklane", whole), "nullable")
	whole["load"].(map[string]any)["parts"] = []any{map[string]any{"kg": "heavy"}}
	require.False(t, accepts("booklane", whole), "what is referred to counts, within itself too")
	require.False(t, accepts("booklane", map[string]any{"load": map[string]any{}}), "haulier is required")
	require.True(t, accepts("move", map[string]any{"lane": 1}))
	require.False(t, accepts("move", map[string]any{"lane": 0}), "the bound itself is excluded")
}

func TestFaults(t *testing.T) {
	for source, says := range map[string]string{
		"a: 1\n":                           "no `openapi` field",
		"swagger: \"2.0\"\n":               "versions 3.0 and 3.1 are read",
		"openapi: 4.0.0\n":                 "OpenAPI 4.0.0",
		"openapi: 3.1.0\ninfo: {title: x}": "no operations",
		"openapi: [":                       "f.yaml",
	} {
		_, _, _, err := openapi.Read("f.yaml", []byte(source))
		require.ErrorContains(t, err, says)
	}
	_, _, missing, err := openapi.Read("f.yaml", []byte(`
openapi: 3.1.0
info: {title: far}
webhooks: {done: {}}
paths: {/a: {post: {requestBody: {content: {application/json: {schema: {$ref: "other.yaml#/X"}}}}}}, /b: {$ref: "#/nowhere"}}
`))
	require.NoError(t, err)
	require.Contains(t, strings.Join(missing, "\n"), "other.yaml#/X is in another document")
	require.Contains(t, strings.Join(missing, "\n"), "#/nowhere points to nothing")
	require.Contains(t, strings.Join(missing, "\n"), "web hooks")
}
