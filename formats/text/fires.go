package text

import (
	"io"

	"ironweir/core/study"
)

// Fires prints schedules in words, with their next instants.
func Fires(w io.Writer, list []study.Schedule, s Style) error {
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
			rows = append(
				rows,
				[]string{f.Local.Format("Mon 2 Jan 2006 15:04:05 MST"), f.UTC.Format("2006-01-02 15:04:05Z"), f.Change},
			)
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
