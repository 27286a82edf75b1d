package text

import (
	"io"
	"time"
)

// Schedule is a schedule with its next instants.
type Schedule struct {
	Name    string            `json:"name"`
	Text    string            `json:"text"`
	Words   string            `json:"words"`
	Zone    string            `json:"zone"`
	Enabled bool              `json:"enabled"`
	Next    []Fire            `json:"next"`
	Layouts map[string]string `json:"layouts"` // the same in other field layouts
}

// Fire is one instant.
type Fire struct {
	Local  time.Time `json:"local"`
	UTC    time.Time `json:"utc"`
	Change string    `json:"change,omitempty"` // what a clock change does to it
}

// Fires prints schedules in words, with their next instants.
func Fires(w io.Writer, list []Schedule, s Style) error {
	p := newPage(w, s)
	for i, c := range list {
		if i > 0 {
			p.line("")
		}
		off := ""
		if !c.Enabled {
			off = p.paint(yellow, "  (switched off)")
		}
		p.line("%s  %s%s", p.paint(bold, c.Name), c.Text, off)
		p.line("  %s (%s)", c.Words, c.Zone)
		rows := [][]string{}
		for _, f := range c.Next {
			rows = append(rows, []string{f.Local.Format("Mon 2 Jan 2006 15:04:05 MST"), f.UTC.Format("2006-01-02 15:04:05Z"), f.Change})
		}
		if len(rows) > 0 {
			p.table([]string{"in " + c.Zone, "in UTC", ""}, rows)
		} else {
			p.line("  it never fires again")
		}
		for _, layout := range sorted(c.Layouts) {
			p.line("  %s", p.paint(faint, layout+": "+c.Layouts[layout]))
		}
	}
	if len(list) == 0 {
		p.line("The model has no schedules.")
	}
	return p.Flush()
}
