package check

import (
	"fmt"
	"math"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// calendarOf gives the calendar and zone of a schedule by cron, or nil.
func calendarOf(n *graph.Node) (*cadence.Calendar, *time.Location) {
	if n.Kind != model.Schedule || n.Cron == "" {
		return nil, nil
	}
	c, err := cadence.Parse(n.Cron, n.CronFields, n.Sunday)
	zone, zoneErr := time.LoadLocation(n.Zone)
	if err != nil || zoneErr != nil {
		return nil, nil
	}
	return c, zone
}

// shortestGap gives the least time between two fires, over the first thousand.
func shortestGap(n *graph.Node) time.Duration {
	if n.Every > 0 {
		return n.Every
	}
	c, zone := calendarOf(n)
	if c == nil {
		return math.MaxInt64
	}
	gap := time.Duration(math.MaxInt64)
	last, ok := c.Next(model.DefaultStart, zone)
	for k := 0; ok && k < 1000; k++ {
		next, more := c.Next(last, zone)
		if !more {
			break
		}
		gap, last = min(gap, next.Sub(last)), next
	}
	return gap
}

var overlappingSchedule = &Rule{Code: "IW601", Title: "Schedule overlaps its own runs", Severity: Warning,
	Doc: `A schedule fires whether or not its last run has ended. A run that takes longer than the gap between two
firings overlaps with the next, on the same data. Make the gap longer than the timeout, or allow one run at
a time (concurrency: 1).`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if n.Kind != model.Schedule || !n.Enabled {
				continue
			}
			gap := p.shortestGap(n)
			for _, id := range n.Out {
				l := p.link(id)
				to := p.node(l.To)
				if to.Kind != model.Function || to.Concurrency == 1 ||
					to.Takes.Largest() < gap.Seconds() && p.runTime(l.To) < gap.Seconds() ||
					to.Timeout > 0 && to.Timeout < gap {
					continue
				}
				p.report(
					l.Pos,
					[]string{n.Name, to.Name},
					[]string{l.Link.ID()},
					map[string]any{"gap_s": gap.Seconds(), "timeout_s": to.Timeout.Seconds()},
					[]Remedy{
						patchNode(
							fmt.Sprintf("Let `%s` run one at a time", to.Name),
							to.Name,
							map[string]any{"concurrency": 1},
						),
					},
					"`%s` fires every %s and a run of `%s` may take %s: runs overlap",
					n.Name,
					model.FormatDuration(gap),
					to.Name,
					model.FormatDuration(to.Timeout),
				)
			}
		}
	}}

var clockChange = &Rule{Code: "IW603", Title: "Clock change affects an instant", Severity: Note,
	Doc: `On the night the clocks go forward this time does not exist (the schedule fires at the end of the gap);
when they go back it comes twice (it fires the first time only). Choose an hour that no change touches,
or a zone without changes, if that matters.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			c, zone := calendarOf(n)
			if c == nil {
				continue
			}
			first := remembered(p.memo.changes, calendarKey(n), func() changedInstant { return firstChanged(c, zone) })
			if first.change == cadence.NoChange {
				continue
			}
			p.report(n.Pos, []string{n.Name}, nil, map[string]any{"at": first.at.UTC().Format(time.RFC3339)}, nil,
				"`%s` on %s: %s", n.Name, first.at.In(zone).Format("2 January 2006 at 15:04 MST"), first.change)
		}
	}}

// changedInstant is an instant that a clock change affects.
type changedInstant struct {
	at     time.Time
	change cadence.Change
}

// firstChanged returns the first instant within a year that a clock change skips or
// repeats.
func firstChanged(c *cadence.Calendar, zone *time.Location) changedInstant {
	t := model.DefaultStart
	for range 1500 {
		next, ok := c.Next(t, zone)
		if !ok || next.Sub(model.DefaultStart) > 370*24*time.Hour {
			break
		}
		t = next
		if change := c.ChangeAt(t, zone); change != cadence.NoChange && change != cadence.Both {
			return changedInstant{t, change}
		}
	}
	return changedInstant{change: cadence.NoChange}
}

var idleSchedule = &Rule{Code: "IW604", Title: "Schedule without effect", Severity: Warning,
	Doc: `The schedule has no link, or its calendar holds no further instant. Link it, or remove it.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if n.Kind != model.Schedule {
				continue
			}
			remedies := []Remedy{patchNode(fmt.Sprintf("Remove `%s`", n.Name), n.Name, nil)}
			if len(n.Out) == 0 {
				p.report(n.Pos, []string{n.Name}, nil, nil, remedies, "`%s` fires, and nothing is linked to it", n.Name)
				continue
			}
			c, zone := calendarOf(n)
			if c == nil {
				continue
			}
			if next, ok := c.Next(model.DefaultStart, zone); !ok || n.Until != nil && !next.Before(*n.Until) {
				p.report(
					n.Pos,
					[]string{n.Name},
					nil,
					nil,
					remedies,
					"`%s` never fires again: %s holds no instant after %s",
					n.Name,
					n.Cron,
					model.DefaultStart.Format("2006-01-02"),
				)
			}
		}
	}}

var uselessKeepWarm = &Rule{Code: "IW605", Title: "Keep-warm interval too long", Severity: Note,
	Doc: `A schedule that keeps a function warm fires less often than an unused instance is kept, so its runs start
cold all the same. Fire more often than cold-start.idle.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if n.Kind != model.Schedule {
				continue
			}
			gap := p.shortestGap(n)
			for _, id := range n.Out {
				l := p.link(id)
				to := p.node(l.To)
				if to.ColdStart == nil || gap <= to.ColdStart.Idle || gap > 2*to.ColdStart.Idle {
					continue
				}
				shorter := model.FormatDuration(to.ColdStart.Idle * 4 / 5)
				var remedies []Remedy
				if n.Every > 0 {
					remedies = []Remedy{
						patchNode(
							fmt.Sprintf("Fire `%s` every %s", n.Name, shorter),
							n.Name,
							map[string]any{"every": shorter},
						),
					}
				}
				p.report(
					l.Pos,
					[]string{n.Name, to.Name},
					[]string{l.Link.ID()},
					map[string]any{"gap_s": gap.Seconds(), "idle_s": to.ColdStart.Idle.Seconds()},
					remedies,
					"`%s` fires every %s, and `%s` is cold after %s without use: its runs start cold",
					n.Name,
					model.FormatDuration(gap),
					to.Name,
					fmt.Sprint(model.FormatDuration(to.ColdStart.Idle)),
				)
			}
		}
	}}

// shortestGap returns the least time between two firings of a schedule.
func (a *Analysis) shortestGap(n *graph.Node) time.Duration {
	return remembered(a.memo.gaps, calendarKey(n), func() time.Duration { return shortestGap(n) })
}
