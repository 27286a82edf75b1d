package report

import (
	"fmt"
	"html"
	"html/template"
	"math"
	"sort"
	"strings"
	"time"

	"ironweir/core/model"
	"ironweir/core/study"
)

// Sizes of a chart, in pixels.
const (
	chartWidth, chartHeight = 560.0, 150.0
	marginLeft, marginRight = 46.0, 10.0
	marginTop, marginBottom = 22.0, 20.0
	mostCharts              = 8
)

// charts draws the nodes in which most waited, and those that failed most.
func charts(d *study.Document, bad []window) []template.HTML {
	if d.Series == nil {
		return nil
	}
	type candidate struct {
		node, what string
		values     []float64
		peak       float64
		class      string
	}
	step := " in " + model.FormatDuration(time.Duration(d.Series.Step*1e9))
	waiting, failed, lost := "messages waiting", "runs that failed"+step, "messages lost"+step
	var all []candidate
	for name, n := range d.Series.Nodes {
		for _, c := range []candidate{{name, waiting, n.Depth, 0, "depth"}, {name, failed, n.Failures, 0, "fail"}, {name, lost, n.Lost, 0, "fail"}} {
			for _, v := range c.values {
				c.peak = max(c.peak, v)
			}
			if c.peak >= 1 {
				all = append(all, c)
			}
		}
	}
	order := map[string]int{lost: 0, waiting: 1, failed: 2}
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i], all[j]
		if order[a.what] != order[b.what] {
			return order[a.what] < order[b.what]
		}
		if a.peak != b.peak {
			return a.peak > b.peak
		}
		return a.node < b.node
	})
	taken := map[string]int{}
	var out []template.HTML
	for _, c := range all {
		if taken[c.what]++; taken[c.what] > mostCharts/2 || len(out) == mostCharts {
			continue
		}
		out = append(out, chart(d, c.node+": "+c.what, c.class, c.values, c.peak, bad))
	}
	return out
}

// chart draws numbers over the length of a run as an area; bands behind it are
// the incidents.
func chart(d *study.Document, title, class string, values []float64, peak float64, bad []window) template.HTML {
	top := niceCeil(peak)
	width, height := chartWidth-marginLeft-marginRight, chartHeight-marginTop-marginBottom
	x := func(s float64) float64 { return marginLeft + width*min(s/d.Length, 1) }
	y := func(v float64) float64 { return marginTop + height*(1-v/top) }
	var b strings.Builder
	fmt.Fprintf(
		&b,
		`<svg class="chart" viewBox="0 0 %g %g" role="img" aria-label="%s, at most %.4g">`,
		chartWidth,
		chartHeight,
		html.EscapeString(title),
		peak,
	)
	fmt.Fprintf(&b, `<text class="title" x="0" y="12">%s</text>`, html.EscapeString(title))
	for _, w := range bad {
		fmt.Fprintf(
			&b,
			`<rect class="incident" x="%.1f" y="%g" width="%.1f" height="%g"><title>%s</title></rect>`,
			x(w.from),
			marginTop,
			max(x(w.to)-x(w.from), 1.5),
			height,
			html.EscapeString(w.name),
		)
	}
	for _, v := range []float64{0, top / 2, top} {
		fmt.Fprintf(
			&b,
			`<line class="grid" x1="%g" x2="%g" y1="%.1f" y2="%.1f"/><text class="tick" x="%g" y="%.1f" text-anchor="end">%s</text>`,
			marginLeft,
			chartWidth-marginRight,
			y(v),
			y(v),
			marginLeft-5,
			y(v)+4,
			short(v),
		)
	}
	for k := 0; k <= 4; k++ {
		s := d.Length * float64(k) / 4
		anchor := []string{"start", "middle", "middle", "middle", "end"}[k]
		fmt.Fprintf(
			&b,
			`<text class="tick" x="%.1f" y="%g" text-anchor="%s">%s</text>`,
			x(s),
			chartHeight-5,
			anchor,
			clockAt(d.Start, s),
		)
	}
	var line strings.Builder
	for i, v := range values {
		fmt.Fprintf(&line, "%.1f,%.1f ", x((float64(i)+0.5)*d.Series.Step), y(v))
	}
	if len(values) > 0 {
		first, last := x(0.5*d.Series.Step), x((float64(len(values))-0.5)*d.Series.Step)
		fmt.Fprintf(
			&b,
			`<polygon class="area %s" points="%.1f,%.1f %s%.1f,%.1f"/><polyline class="curve %s" points="%s"/>`,
			class,
			first,
			y(0),
			line.String(),
			last,
			y(0),
			class,
			strings.TrimSpace(line.String()),
		)
	}
	b.WriteString("</svg>")
	return template.HTML(b.String())
}

// niceCeil gives the next 1, 2 or 5 times a power of ten.
func niceCeil(v float64) float64 {
	power := math.Pow(10, math.Floor(math.Log10(v)))
	for _, k := range []float64{1, 2, 5} {
		if v <= k*power*(1+1e-9) {
			return k * power
		}
	}
	return 10 * power
}

func short(v float64) string {
	switch {
	case v >= 1e6:
		return fmt.Sprintf("%gM", v/1e6)
	case v >= 1e4:
		return fmt.Sprintf("%gk", v/1e3)
	}
	return fmt.Sprintf("%g", v)
}
