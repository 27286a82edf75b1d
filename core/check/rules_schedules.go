package check

import (
	"fmt"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/check/flow"
	"ironweir/core/check/remedy"
	"ironweir/core/model"
)

var overlappingSchedule = &Rule{Code: "IW601", Title: "Schedule overlaps its own runs", Severity: Warning,
	Doc: `A schedule fires whether or not its last run has ended. A run that takes longer than the gap between two
firings overlaps with the next, on the same data. Make the gap longer than the timeout, or allow one run at
a time (concurrency: 1).`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			if !n.Kind.Fires() || !n.Enabled {
				continue
			}
			gap := p.ShortestGap(n)
			for _, id := range n.Out {
				l := p.Link(id)
				to := p.Node(l.To)
				if to.Kind != model.Function || to.Concurrency == 1 ||
					to.Takes.Largest() < gap.Seconds() && p.RunTime(l.To) < gap.Seconds() ||
					to.Timeout > 0 && to.Timeout < gap {
					continue
				}
				p.report(
					l.Pos,
					[]string{n.Name, to.Name},
					[]string{l.Link.ID()},
					map[string]any{"gap_s": gap.Seconds(), "timeout_s": to.Timeout.Seconds()},
					[]remedy.Remedy{
						remedy.Node(
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
			n := p.Node(i)
			_, zone := flow.CalendarOf(n)
			first := p.FirstChange(n)
			if first.Change == cadence.NoChange {
				continue
			}
			p.report(n.Pos, []string{n.Name}, nil, map[string]any{"at": first.At.UTC().Format(time.RFC3339)}, nil,
				"`%s` on %s: %s", n.Name, first.At.In(zone).Format("2 January 2006 at 15:04 MST"), first.Change)
		}
	}}

var idleSchedule = &Rule{Code: "IW604", Title: "Schedule without effect", Severity: Warning,
	Doc: `The schedule has no link, or its calendar holds no further instant. Link it, or remove it.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			if !n.Kind.Fires() {
				continue
			}
			remedies := []remedy.Remedy{remedy.Node(fmt.Sprintf("Remove `%s`", n.Name), n.Name, nil)}
			if len(n.Out) == 0 {
				p.report(n.Pos, []string{n.Name}, nil, nil, remedies, "`%s` fires, and nothing is linked to it", n.Name)
				continue
			}
			c, zone := flow.CalendarOf(n)
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
			n := p.Node(i)
			if !n.Kind.Fires() {
				continue
			}
			gap := p.ShortestGap(n)
			for _, id := range n.Out {
				l := p.Link(id)
				to := p.Node(l.To)
				if to.ColdStart == nil || gap <= to.ColdStart.Idle || gap > 2*to.ColdStart.Idle {
					continue
				}
				shorter := model.FormatDuration(to.ColdStart.Idle * 4 / 5)
				var remedies []remedy.Remedy
				if n.Every > 0 {
					remedies = []remedy.Remedy{
						remedy.Node(
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
