package study

import (
	"fmt"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/model"
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

// ReadFires reads a schedule from words and returns it with its next instants in a zone,
// and as the fields of a model: `every` or `cron`.
func ReadFires(words, zone string, start time.Time, count int) (*Schedule, map[string]string, error) {
	read, err := cadence.ParseWords(words)
	if err != nil {
		return nil, nil, err
	}
	n := &model.Node{
		Name:       "cron",
		Kind:       model.Schedule,
		Every:      read.Every,
		Cron:       read.Cron,
		CronFields: "standard",
		Zone:       zone,
		Enabled:    true,
	}
	fields := map[string]string{"cron": read.Cron}
	if read.Every > 0 {
		n.Name, fields = "every", map[string]string{"every": model.FormatDuration(read.Every)}
	}
	s, err := NextFires(n, start, count)
	return s, fields, err
}

// NextFires reports when a schedule fires next, from an instant on, so many times: in
// words, in its zone and in UTC. A schedule `every` so often that states no `from`
// begins at that instant.
func NextFires(n *model.Node, start time.Time, count int) (*Schedule, error) {
	zone, err := time.LoadLocation(n.Zone)
	if err != nil || n.Zone == "Local" {
		return nil, fmt.Errorf("unknown zone %q; use an IANA name such as Europe/London", n.Zone)
	}
	s := &Schedule{Name: n.Name, Zone: n.Zone, Enabled: n.Enabled, Layouts: map[string]string{}}
	if n.Every > 0 {
		s.Text, s.Words = model.FormatDuration(n.Every), "every "+model.FormatDuration(
			n.Every,
		)+", from the start of a run"
		t := start
		if n.From != nil {
			t = *n.From
			s.Words = "every " + model.FormatDuration(n.Every) + ", from " + n.From.Format(time.RFC3339)
			for t.Before(start) {
				t = t.Add(start.Sub(t).Truncate(n.Every))
				if t.Before(start) {
					t = t.Add(n.Every)
				}
			}
			t = t.Add(-n.Every)
		}
		for range count {
			t = t.Add(n.Every)
			s.Next = append(s.Next, Fire{UTC: t.UTC(), Local: t.In(zone)})
		}
		return s, nil
	}
	c, err := cadence.Parse(n.Cron, n.CronFields, n.Sunday)
	if err != nil {
		return nil, err
	}
	s.Text, s.Words = n.Cron, c.Words()
	for _, layout := range cadence.Layouts {
		if other, ok := c.In(layout, n.Sunday); ok && layout != c.Layout {
			s.Layouts[layout] = other
		}
	}
	t := start.Add(-time.Nanosecond)
	for range count {
		next, ok := c.Next(t, zone)
		if !ok || n.Until != nil && !next.Before(*n.Until) {
			break
		}
		t = next
		s.Next = append(s.Next, Fire{UTC: t.UTC(), Local: t.In(zone), Change: string(c.ChangeAt(t, zone))})
	}
	return s, nil
}
