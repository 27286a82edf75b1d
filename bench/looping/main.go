// Command looping draws the journey of one message as a looping picture (SVG, animated without a script): it reads what
// `ironweir follow MODEL … -format json` prints, for a journey along a line, and writes the picture.
//
//	ironweir follow demo/kittiwake-draft.yaml -node tide-times -fail tide-office -format json |
//	  go run ./bench/looping demo/kittiwake-draft.yaml > docs/lost.svg
package main

import (
	"encoding/json"
	"fmt"
	"html"
	"log"
	"os"
	"strings"
	"time"

	"ironweir/core/model"
)

type step struct {
	At   float64 `json:"t_s"`
	Node string  `json:"node"`
	What string  `json:"what"`
	Why  string  `json:"why"`
	Try  int     `json:"try"`
}

// Sizes in pixels, times in seconds of the picture.
const (
	wide, high   = 900.0, 270.0
	boxW, boxH   = 176.0, 52.0
	top          = 84.0
	moves, waits = 0.45, 0.7
	rests        = 2.5
)

// scene is where the message is from a moment on, and what is said of it.
type scene struct {
	at      float64
	x, y    float64
	says    string
	failed  bool
	lost    bool
	running string
}

func main() {
	log.SetFlags(0)
	if len(os.Args) != 2 {
		log.Fatal("usage: ironweir follow MODEL … -format json | looping MODEL")
	}
	var d struct {
		Model string `json:"model"`
		Steps []step `json:"steps"`
	}
	if err := json.NewDecoder(os.Stdin).Decode(&d); err != nil {
		log.Fatalf("looping: what follow prints with -format json is expected: %v", err)
	}
	text, err := os.ReadFile(os.Args[1])
	if err != nil {
		log.Fatal(err)
	}
	m, err := model.Parse(os.Args[1], text, model.Options{})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Print(picture(m, d.Model, d.Steps))
}

func picture(m *model.Topology, name string, steps []step) string {
	var line []string // nodes in the order in which the message comes to them
	place := map[string]float64{}
	for _, s := range steps {
		if _, ok := place[s.Node]; !ok {
			place[s.Node] = 0
			line = append(line, s.Node)
		}
	}
	gap := (wide - 2*30 - boxW) / float64(max(len(line)-1, 1))
	for i, n := range line {
		place[n] = 30 + boxW/2 + float64(i)*gap
	}
	scenes := storyboard(steps, place)
	total := scenes[len(scenes)-1].at + rests

	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %g %g" width="%g" height="%g" `+
		`font-family="sans-serif" role="img" aria-label="%s">`+"\n", wide, high, wide, high,
		html.EscapeString(scenes[len(scenes)-1].says))
	fmt.Fprintf(&b, `<rect width="%g" height="%g" fill="#f4f4f4"/>`+"\n", wide, high)
	fmt.Fprintf(&b, `<text x="30" y="36" font-size="15" font-weight="600" fill="#161616">%s: one message, followed`+
		`</text>`+"\n", html.EscapeString(name))
	for i := 1; i < len(line); i++ {
		x1, x2 := place[line[i-1]]+boxW/2, place[line[i]]-boxW/2
		dash := ""
		if m.Node(line[i]).Kind == model.Outside {
			dash = ` stroke-dasharray="7 4"`
		}
		fmt.Fprintf(&b, `<path d="M%g %gH%g" stroke="#6f6f6f" stroke-width="2"%s/><path d="M%g %gl-9 -5v10z" `+
			`fill="#6f6f6f"/>`+"\n", x1, top, x2-8, dash, x2, top)
	}
	for _, n := range line {
		box(&b, m.Node(n), place[n], scenes, total)
	}
	for k, s := range scenes {
		until := total
		if k+1 < len(scenes) {
			until = scenes[k+1].at
		}
		colour := "#161616"
		if s.lost {
			colour = "#ba4e00"
		}
		fmt.Fprintf(&b, `<text x="30" y="%g" font-size="16" fill="%s" opacity="0">%s`+
			`<animate attributeName="opacity" calcMode="discrete" values="0;1;0" keyTimes="0;%.5f;%.5f" dur="%.2fs" `+
			`repeatCount="indefinite"/></text>`+"\n", high-26, colour, html.EscapeString(s.says), s.at/total,
			min(until/total, 0.99999), total)
	}
	dot(&b, scenes, total)
	b.WriteString("</svg>\n")
	return b.String()
}

// storyboard turns the steps of a journey into scenes.
func storyboard(steps []step, place map[string]float64) []scene {
	var out []scene
	now := 0.0
	show := func(s scene, length float64) {
		s.at = now
		out = append(out, s)
		now += length
	}
	for _, s := range steps {
		at := scene{x: place[s.Node], y: top, failed: s.What == "lost"}
		length := waits
		switch {
		case s.What == "enters":
			at.says = s.Node + " sends a message"
		case s.What == "held":
			at.says, length = s.Node+" gets it", moves
		case s.What == "runs":
			at.says, at.running = s.Node+" runs", s.Node
			if s.Try > 1 {
				at.says += fmt.Sprintf(", try %d", s.Try)
			}
		case s.What == "ends" && strings.HasPrefix(s.Why, "failed"):
			at.says, length = s.Node+" fails", moves
			at.failed, at.running = true, s.Node
		case s.What == "waits":
			at.says = "it waits " + s.Why
		case s.What == "lost":
			at.says, length = "at "+s.Node+": "+s.Why, moves
		default:
			continue
		}
		at.says = model.FormatDuration(time.Duration(s.At*1e9).Round(100*time.Millisecond)) + " · " + at.says
		show(at, length)
		if s.What == "lost" {
			show(scene{x: at.x, y: high - 66, lost: true, says: "Lost: " + s.Why + "."}, waits)
		}
	}
	return out
}

// box draws a node; it lights up while it runs.
func box(b *strings.Builder, n *model.Node, x float64, scenes []scene, total float64) {
	shape := fmt.Sprintf(`<rect x="%g" y="%g" width="%g" height="%g"`, x-boxW/2, top-boxH/2, boxW, boxH)
	switch n.Kind {
	case model.Outside:
		shape += ` rx="8" stroke-dasharray="3 3"`
	case model.Schedule, model.Endpoint:
		shape += ` rx="20"`
	}
	values, times := []string{"#ffffff"}, []string{"0"}
	last := "#ffffff"
	for _, s := range scenes {
		colour := "#ffffff"
		if s.running == n.Name {
			colour = "#d0e2ff"
			if s.failed {
				colour = "#ffd9be"
			}
		}
		if colour != last {
			values, times = append(values, colour), append(times, fmt.Sprintf("%.5f", s.at/total))
			last = colour
		}
	}
	fmt.Fprintf(b, `%s fill="#ffffff" stroke="#525252" stroke-width="1.5"><animate attributeName="fill" `+
		`calcMode="discrete" values="%s" keyTimes="%s" dur="%.2fs" repeatCount="indefinite"/></rect>`+"\n",
		shape, strings.Join(values, ";"), strings.Join(times, ";"), total)
	fmt.Fprintf(b, `<text x="%g" y="%g" font-size="15" font-weight="600" text-anchor="middle" fill="#161616">%s</text>`+
		`<text x="%g" y="%g" font-size="11" text-anchor="middle" fill="#525252">%s</text>`+"\n",
		x, top-1, n.Name, x, top+17, strings.TrimPrefix(strings.TrimPrefix(n.Kind.Noun(), "an "), "a "))
}

// dot draws the message: it moves to each scene's place, and falls out at the end.
func dot(b *strings.Builder, scenes []scene, total float64) {
	var xs, ys, times, colours []string
	add := func(at float64, s scene) {
		xs, ys = append(xs, fmt.Sprint(s.x-boxW/2+16)), append(ys, fmt.Sprint(s.y))
		times = append(times, fmt.Sprintf("%.5f", min(at/total, 1)))
		colour := "#0f62fe"
		if s.lost {
			colour = "#ba4e00"
		}
		colours = append(colours, colour)
	}
	for k, s := range scenes {
		if k > 0 && (s.x != scenes[k-1].x || s.y != scenes[k-1].y) {
			add(s.at, scenes[k-1])
			add(s.at+moves*0.8, s)
		} else {
			add(s.at, s)
		}
	}
	add(total, scenes[len(scenes)-1])
	animate := func(attribute string, values []string) {
		fmt.Fprintf(b, `<animate attributeName="%s" values="%s" keyTimes="%s" dur="%.2fs" repeatCount="indefinite"/>`,
			attribute, strings.Join(values, ";"), strings.Join(times, ";"), total)
	}
	fmt.Fprintf(b, `<circle cx="%s" cy="%s" r="8" fill="#0f62fe" stroke="#ffffff" stroke-width="2">`, xs[0], ys[0])
	animate("cx", xs)
	animate("cy", ys)
	animate("fill", colours)
	b.WriteString("</circle>\n")
}
