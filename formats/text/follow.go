package text

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"ironweir/core/sim"
	"ironweir/core/study"
)

// Follow prints what happened to a followed message as a tree: each copy below what made
// it, equal branches once. With payloads, each event is followed by its data.
func Follow(w io.Writer, doc *study.FollowDocument, payloads bool, s Style) error {
	p := newPage(w, s)
	p.tree(doc.Steps, payloads)
	p.line("")
	if doc.Stopped != "" {
		p.line("%s", p.paint(red, "Cut off "+doc.Stopped+": the message circulates, or fans out very widely."))
	}
	var fates []string
	for _, name := range sorted(doc.Fates) {
		fates = append(fates, fmt.Sprintf("%d %s", doc.Fates[name], strings.ReplaceAll(name, "_", "-")))
	}
	colour := green
	if doc.Outcome == "failed" {
		colour = red
	}
	p.line("%s: %s", p.paint(colour, doc.Outcome), strings.Join(fates, ", "))
	var work []string
	if doc.Runs > 0 {
		work = append(work, fmt.Sprintf("%s of %s in all", plural(int(doc.Runs), "run"), seconds(doc.RunTime)))
	}
	if doc.ColdStarts > 0 {
		work = append(work, plural(int(doc.ColdStarts), "cold start"))
	}
	if doc.Cost != nil && doc.Cost.Total > 0 {
		work = append(work, fmt.Sprintf("cost %s %s without storage", doc.Cost.Currency, smallAmount(doc.Cost.Total)))
	}
	if len(work) > 0 {
		p.line("%s", strings.Join(work, ", "))
	}
	return p.Flush()
}

// row is one line of a tree. Lines without a time continue the one above.
type row struct {
	t      float64
	timed  bool
	indent string
	text   string
}

// tree prints steps, each below the one that it came from. Of branches beside each other
// that differ in nothing but their times, the first stands for all.
func (p *page) tree(steps []sim.Step, payloads bool) {
	children := map[int][]int{}
	for i, step := range steps {
		children[step.Parent] = append(children[step.Parent], i)
	}
	var branches func(list []int, indent string) []row
	branches = func(list []int, indent string) []row {
		var out []row
		var same string // of the branch before, all but its times
		var first, times int
		var last float64
		fold := func() {
			if times > 1 {
				out[first].text += p.paint(bold, fmt.Sprintf(" ×%d", times))
				if last > out[first].t {
					out[first].text += p.paint(faint, ", the last at "+seconds(last))
				}
			}
		}
		for _, i := range list {
			if i > 0 && steps[i].ID > steps[i-1].ID+1 {
				fold()
				same, times = "", 0
				left := count(int64(steps[i].ID - steps[i-1].ID - 1))
				out = append(out, row{indent: indent, text: p.paint(yellow, "… "+left+" steps left out")})
			}
			rows := append(p.step(&steps[i], indent, payloads), branches(children[steps[i].ID], indent+"  ")...)
			var key strings.Builder
			for _, r := range rows {
				key.WriteString(r.indent + r.text + "\n")
			}
			if times > 0 && key.String() == same {
				times++
				last = steps[i].T
				continue
			}
			fold()
			same, first, times, last = key.String(), len(out), 1, steps[i].T
			out = append(out, rows...)
		}
		fold()
		return out
	}
	for _, r := range branches(children[0], "") {
		at := strings.Repeat(" ", 11)
		if r.timed {
			at = fmt.Sprintf("%9s  ", seconds(r.t))
		}
		p.line("%s", p.paint(faint, at)+r.indent+r.text)
	}
}

// step writes one step, and with payloads the data of its event below it.
func (p *page) step(s *sim.Step, indent string, payloads bool) []row {
	colour := paint("")
	words := s.Why
	var head string
	switch s.What {
	case "enters", "held":
		head = s.Node + " receives"
	case "offered":
		head, colour = "✓ "+s.Link, green
	case "declined":
		head, colour = "✗ "+s.Link, faint
	case "runs":
		if rest, ok := strings.CutPrefix(s.Why, "task "); ok { // of a workflow
			head, words = s.Node+": task "+rest, ""
			break
		}
		head = s.Node + " runs" + tryOf(s)
	case "calls":
		head = s.Node + " calls " + target(s.Link) + tryOf(s)
	case "sends":
		head = s.Node + " sends"
		if s.Link != "" {
			head += " " + s.Link
		}
	case "ends":
		if rest, ok := strings.CutPrefix(s.Why, "task "); ok {
			head, words = s.Node+": task "+rest+" ends", ""
			break
		}
		head = s.Node + " ends"
	case "waits":
		head = s.Node + " waits"
	case "parked":
		head, colour = "parked in "+s.Node, yellow
	case "lost":
		head, colour = "LOST at "+s.Node, red
	case "returned":
		head, words = s.Node+" answers", strings.TrimPrefix(s.Why, "answered ")
	}
	if strings.HasPrefix(s.Why, "failed") {
		colour = red
	}
	if subject, ok := s.Event["subject"]; ok && s.What == "enters" {
		words = strings.Trim(words+" "+fmt.Sprint(subject), " ")
	}
	if s.Fate != "" && (s.What == "enters" || s.What == "held") {
		head += " → " + strings.ReplaceAll(s.Fate, "_", "-")
	}
	line := p.paint(colour, head)
	if words != "" {
		line += p.paint(faint, "  "+words)
	}
	rows := []row{{s.T, true, indent, line}}
	if payloads && s.Event != nil {
		for _, l := range payloadLines(s.Event) {
			rows = append(rows, row{indent: indent + "    ", text: p.paint(faint, l)})
		}
	}
	return rows
}

// smallAmount writes an amount of money with three significant digits and no exponent.
func smallAmount(x float64) string {
	return strconv.FormatFloat(x, 'f', max(2, 2-int(math.Floor(math.Log10(x)))), 64)
}

func tryOf(s *sim.Step) string {
	if s.Try > 1 {
		return fmt.Sprintf(" (try %d)", s.Try)
	}
	return ""
}

// widest is how many characters of JSON are written on one line.
const widest = 100

// payloadLines writes the data of an event: on one line where it is short.
func payloadLines(event map[string]any) []string {
	label := ""
	if kind, ok := event["type"].(string); ok {
		label = fmt.Sprintf("%s from %v: ", kind, event["source"])
	}
	data, ok := event["data"]
	if binary, is := event["data_base64"].(string); is {
		data, ok = binary, true
		label += "base64 "
	}
	if !ok {
		return []string{label + "no payload"}
	}
	source, err := json.Marshal(data)
	if err != nil {
		return []string{label + "the payload cannot be written: " + err.Error()}
	}
	if len(source) <= widest {
		return []string{label + string(source)}
	}
	var b bytes.Buffer
	if json.Indent(&b, source, "", "  ") != nil {
		return []string{label + string(source)}
	}
	return strings.Split(label+b.String(), "\n")
}

func target(link string) string { return link[strings.IndexByte(link, ':')+1:] }

// MatchTable says which links take which keys.
type MatchTable struct {
	Links []string
	Rows  []MatchRow
}

// MatchRow is one key, with why each link declines it (empty: it takes it).
type MatchRow struct {
	Key string
	Why []string
}

// Match prints a table of keys against links.
func Match(w io.Writer, t *MatchTable, s Style) error {
	p := newPage(w, s)
	rows := [][]string{}
	var whys []string
	for _, r := range t.Rows {
		row := []string{r.Key}
		for k, why := range r.Why {
			if why == "" {
				row = append(row, "accepts")
			} else {
				row = append(row, "–")
				whys = append(whys, fmt.Sprintf("%s, %s: %s", r.Key, t.Links[k], why))
			}
		}
		rows = append(rows, row)
	}
	p.table(append([]string{"key"}, t.Links...), rows)
	if len(whys) > 0 {
		p.line("")
	}
	for _, why := range whys {
		p.wrap("  ", why)
	}
	return p.Flush()
}
