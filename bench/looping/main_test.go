package main

import (
	"encoding/json"
	"encoding/xml"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

// TestThePictureTellsTheJourney draws the journey of a message that is tried four times
// and lost: every try is said, the message falls, and the picture is that of the README.
func TestThePictureTellsTheJourney(t *testing.T) {
	data, err := os.ReadFile("testdata/tide-times.json")
	require.NoError(t, err)
	var d struct {
		Model string `json:"model"`
		Steps []step `json:"steps"`
	}
	require.NoError(t, json.Unmarshal(data, &d))
	text, err := os.ReadFile("../../demo/kittiwake-draft.yaml")
	require.NoError(t, err)
	m, err := model.Parse("draft", text, model.Options{})
	require.NoError(t, err)

	svg := picture(m, d.Model, d.Steps)
	require.NoError(t, xml.Unmarshal([]byte(svg), new(struct{ XMLName xml.Name })))
	for _, says := range []string{"fetch-tides runs, try 4", "tide-office fails", "Lost: the tries are exhausted"} {
		require.Contains(t, svg, says)
	}
	require.Equal(t, 4, strings.Count(svg, "tide-office runs"))
	require.Less(t, len(svg), 1_000_000)
	shown, err := os.ReadFile("../../docs/lost.svg")
	require.NoError(t, err)
	require.Equal(t, string(shown), svg, "sh docs/make-screenshots.sh makes it anew")
}
