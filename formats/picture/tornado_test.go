package picture_test

import (
	"bytes"
	"encoding/xml"
	"io"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/sensitivity"
	"ironweir/formats/picture"
)

// TestTheTornadoIsDrawnToScale reads the bars of a chart back: each begins at the result
// as written, and its length is in proportion to how far the guess moves the result.
func TestTheTornadoIsDrawnToScale(t *testing.T) {
	doc := &sensitivity.Document{Output: sensitivity.Output{
		Of:    `run.ledger.parked < 3 & "x"`,
		Value: 4,
		Inputs: []sensitivity.Input{
			{Path: "nodes.scale.takes", Range: [2]string{"1s", "9s"}, Values: [2]float64{2, 10},
				Share: &sensitivity.SharesOf{Total: 0.9}},
			{Path: "nodes.scale.fails", Range: [2]string{"1%", "2%"}, Values: [2]float64{4, 5}},
		},
	}}
	var out bytes.Buffer
	require.NoError(t, picture.Tornado(&out, doc))
	bars := map[string][2]float64{} // x and width, by what the bar says
	texts := ""
	decoder := xml.NewDecoder(&out)
	var last [2]float64
	for {
		token, err := decoder.Token()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		switch e := token.(type) {
		case xml.StartElement:
			for _, a := range e.Attr {
				if e.Name.Local == "rect" && (a.Name.Local == "x" || a.Name.Local == "width") {
					v, err := strconv.ParseFloat(a.Value, 64)
					require.NoError(t, err)
					last[map[string]int{"x": 0, "width": 1}[a.Name.Local]] = v
				}
			}
		case xml.CharData:
			bars[string(e)] = last
			texts += string(e) + "\n"
		}
	}
	low, high := bars["nodes.scale.takes at 1s: 2"], bars["nodes.scale.takes at 9s: 10"]
	require.InDelta(t, low[0]+low[1], high[0], 0.2, "both begin where the result is as written")
	require.InDelta(t, 3, high[1]/low[1], 0.01, "from 4 to 10 is three times as far as from 4 to 2")
	require.Zero(t, bars["nodes.scale.fails at 1%: 4"][1])
	require.InDelta(t, low[1]/2, bars["nodes.scale.fails at 2%: 5"][1], 0.2)
	require.Contains(t, texts, `run.ledger.parked < 3 & "x" (4)`)
	require.Contains(t, texts, "90%")
}

// TestATornadoThatNothingMoves is drawn all the same.
func TestATornadoThatNothingMoves(t *testing.T) {
	doc := &sensitivity.Document{Output: sensitivity.Output{Of: "run.ledger.parked", Value: 0,
		Inputs: []sensitivity.Input{{Path: "nodes.f.takes", Range: [2]string{"1s", "2s"}}}}}
	var out bytes.Buffer
	require.NoError(t, picture.Tornado(&out, doc))
	require.Contains(t, out.String(), "No guess changes it within its range.")
	doc.Inputs[0].Effect.Size = 1 // not at the ends, but within
	out.Reset()
	require.NoError(t, picture.Tornado(&out, doc))
	require.NotContains(t, out.String(), "NaN")
	require.Contains(t, out.String(), "nodes.f.takes at 1s: 0")
}
