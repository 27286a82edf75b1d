package picture

import (
	"fmt"
	"html"
	"io"
	"math"
	"strconv"
	"strings"

	"ironweir/core/sensitivity"
)

// Sizes of a tornado chart, in pixels.
const (
	tornadoWidth            = 920.0
	tornadoRow              = 30.0
	tornadoTitle            = 44.0
	tornadoFoot             = 46.0
	tornadoLeft             = 330.0 // of the names
	tornadoRight            = 110.0 // of the shares
	tornadoBars             = tornadoWidth - tornadoLeft - tornadoRight
	tornadoLow, tornadoHigh = "#8fb3cf", "#1f5f8b" // the result at the lower and at the upper end of a range
)

// Tornado draws a chart for each output of a sensitivity, as one SVG document: a row for
// each guess, the most decisive on top, with a bar from the result as written to the result
// at either end of the guess's range.
func Tornado(w io.Writer, doc *sensitivity.Document) error {
	height := 0.0
	outputs := doc.Outputs()
	for _, o := range outputs {
		height += tornadoHeight(o)
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg width="%g" height="%g" viewBox="0 0 %g %g" xmlns="http://www.w3.org/2000/svg" `+
		`font-family="system-ui, 'DejaVu Sans', sans-serif" font-size="13" fill="#1b2430">`+"\n",
		tornadoWidth, height, tornadoWidth, height)
	fmt.Fprintf(&b, `<rect width="%g" height="%g" fill="#fff"/>`+"\n", tornadoWidth, height)
	top := 0.0
	for _, o := range outputs {
		drawTornado(&b, o, top)
		top += tornadoHeight(o)
	}
	b.WriteString("</svg>\n")
	_, err := io.WriteString(w, b.String())
	return err
}

func tornadoHeight(o *sensitivity.Output) float64 {
	if !o.Moved() {
		return tornadoTitle + tornadoRow
	}
	return tornadoTitle + tornadoRow*float64(len(o.Inputs)) + tornadoFoot
}

func drawTornado(b *strings.Builder, o *sensitivity.Output, top float64) {
	low, high := o.Value, o.Value // of all bars
	for _, in := range o.Inputs {
		low, high = min(low, in.Values[0], in.Values[1]), max(high, in.Values[0], in.Values[1])
	}
	x := func(value float64) float64 {
		if high == low { // its ends do not move it: the one line stands in the middle
			return tornadoLeft + tornadoBars/2
		}
		return tornadoLeft + tornadoBars*(value-low)/(high-low)
	}
	write := func(x, y float64, anchor, style, words string) {
		fmt.Fprintf(b, `<text x="%.1f" y="%.1f" text-anchor="%s"%s>%s</text>`+"\n", x, y, anchor, style,
			html.EscapeString(words))
	}
	const faint, strong = ` fill="#5b6675" font-size="11"`, ` font-weight="600"`
	state := ""
	if o.Holds != nil {
		state = map[bool]string{true: ": holds", false: ": fails"}[*o.Holds]
	}
	write(8, top+20, "start", strong, shorten(o.Of, 100)+" ("+tornadoNumber(o.Value)+state+")")
	if !o.Moved() {
		write(8, top+38, "start", faint, "No guess changes it within its range.")
		return
	}
	write(tornadoWidth-8, top+38, "end", faint, "of the variance")
	bottom := top + tornadoTitle + tornadoRow*float64(len(o.Inputs))
	for k, in := range o.Inputs {
		y := top + tornadoTitle + tornadoRow*float64(k)
		write(8, y+13, "start", "", shorten(in.Path, 44))
		write(8, y+26, "start", faint, in.Range[0]+" to "+in.Range[1])
		for end, colour := range [2]string{tornadoLow, tornadoHigh} {
			from, to := x(o.Value), x(in.Values[end])
			fmt.Fprintf(b, `<rect x="%.1f" y="%.1f" width="%.1f" height="18" fill="%s"><title>%s at %s: %s</title></rect>`+"\n",
				min(from, to), y+5, math.Abs(to-from), colour,
				html.EscapeString(in.Path), html.EscapeString(in.Range[end]), tornadoNumber(in.Values[end]))
		}
		if in.Share != nil {
			write(tornadoWidth-8, y+18, "end", "", fmt.Sprintf("%.0f%%", 100*in.Share.Total))
		}
	}
	fmt.Fprintf(b, `<line x1="%.1f" x2="%.1f" y1="%.1f" y2="%.1f" stroke="#1b2430"/>`+"\n",
		x(o.Value), x(o.Value), top+tornadoTitle, bottom)
	if low < o.Value {
		write(tornadoLeft, bottom+14, "middle", faint, tornadoNumber(low))
	}
	if high > o.Value {
		write(tornadoLeft+tornadoBars, bottom+14, "middle", faint, tornadoNumber(high))
	}
	if at := x(o.Value); at > tornadoLeft+60 && at < tornadoLeft+tornadoBars-60 {
		write(at, bottom+14, "middle", faint, tornadoNumber(o.Value))
	}
	legend := bottom + 34
	fmt.Fprintf(b, `<rect x="%g" y="%.1f" width="12" height="12" fill="%s"/>`+"\n", tornadoLeft, legend-10, tornadoLow)
	write(tornadoLeft+18, legend, "start", faint, "at the lower end of its range")
	fmt.Fprintf(b, `<rect x="%g" y="%.1f" width="12" height="12" fill="%s"/>`+"\n", tornadoLeft+220, legend-10, tornadoHigh)
	write(tornadoLeft+238, legend, "start", faint, "at the upper end")
}

func tornadoNumber(x float64) string { return strconv.FormatFloat(x, 'g', 3, 64) }

// shorten cuts words that are longer than a place for them.
func shorten(words string, most int) string {
	if runes := []rune(words); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return words
}
