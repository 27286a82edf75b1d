package check

import (
	"cmp"
	"slices"

	"ironweir/core/cadence"
	"ironweir/core/check/flow"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Inventory lists what a model holds, and what each part does in a month of the mean
// traffic.
type Inventory struct {
	Nodes     []NodeRow     `json:"nodes"`
	Links     []LinkRow     `json:"links"`
	Triggers  []LinkRow     `json:"triggers"` // the links that start runs
	Schedules []ScheduleRow `json:"schedules"`
}

// NodeRow describes a node.
type NodeRow struct {
	Node     string     `json:"node"`
	Kind     string     `json:"kind"`
	Owner    string     `json:"owner"`
	Month    *float64   `json:"month"` // messages in 30 days; null: without bound
	Basis    flow.Basis `json:"basis,omitempty"`
	Cost     *float64   `json:"cost_month"` // null: the model states no prices
	Currency string     `json:"currency,omitempty"`
	Removes  []string   `json:"removes"` // what names the node, and would have to go with it
}

// LinkRow describes a link.
type LinkRow struct {
	Link       string     `json:"link"`
	From       string     `json:"from"`
	To         string     `json:"to"`
	Does       string     `json:"does"`   // what kind of delivery, call or send it is
	Filter     string     `json:"filter"` // empty: everything
	Reach      string     `json:"reach"`
	Batch      int        `json:"batch"` // messages at most
	Parallel   int        `json:"parallel"`
	Tries      int        `json:"tries"` // 0: without limit
	DeadLetter string     `json:"dead_letter"`
	Month      *float64   `json:"month"`
	Basis      flow.Basis `json:"basis,omitempty"`
}

// ScheduleRow describes a schedule.
type ScheduleRow struct {
	Node    string   `json:"node"`
	When    string   `json:"when"`
	Zone    string   `json:"zone"`
	Enabled bool     `json:"enabled"`
	Starts  []string `json:"starts"`
	Month   *float64 `json:"month"`
	Cost    *float64 `json:"cost_month"`
	Removes []string `json:"removes"`
}

// Inventory lists the nodes, links, triggers and schedules, by name.
func InventoryOf(a *flow.Analysis) *Inventory {
	out := &Inventory{Nodes: []NodeRow{}, Links: []LinkRow{}, Triggers: []LinkRow{}, Schedules: []ScheduleRow{}}
	out.addLinks(a)
	for _, rows := range [][]LinkRow{out.Links, out.Triggers} {
		slices.SortStableFunc(rows, func(x, y LinkRow) int { return cmp.Compare(x.From, y.From) })
	}
	for i := range a.Graph.Nodes {
		n := a.Node(i)
		row := NodeRow{
			Node:    n.Name,
			Kind:    string(n.Kind),
			Owner:   n.Owner,
			Month:   monthly(a, i, a.Rates[i]),
			Removes: removedWith(a, i),
		}
		if a.Capacity[n.Name].Basis["rate"] != "" {
			row.Basis = flow.Basis{"month": flow.Estimate}
		}
		if a.Cost != nil {
			cost := a.Cost.Nodes[n.Name]
			row.Cost, row.Currency = &cost, a.Cost.Currency
		}
		out.Nodes = append(out.Nodes, row)
		if !n.Kind.Fires() {
			continue
		}
		out.Schedules = append(out.Schedules, scheduleRow(a, n, &row))
	}
	return out
}

// monthly returns how many come in a month at a rate; nil where a node's has no bound.
func monthly(a *flow.Analysis, node int, rate float64) *float64 {
	if a.Boundless[node] {
		return nil
	}
	n := rate * flow.MonthSeconds
	return &n
}

// addLinks lists the links, also those that are switched off.
func (out *Inventory) addLinks(a *flow.Analysis) {
	for i := range a.Graph.Links {
		l := a.Link(i)
		row := LinkRow{
			Link:     l.Link.ID(),
			From:     l.Link.From,
			To:       l.Link.To,
			Does:     l.Relation.String(),
			Filter:   linkFilterWords(l),
			Reach:    a.Reach[i].String(),
			Batch:    1,
			Parallel: 1,
			Tries:    l.Policy.Tries,
			Month:    monthly(a, l.From, a.LinkRates[i]),
		}
		if l.Relation.Polls() {
			row.Batch, row.Parallel = max(l.Read.UpTo, 1), max(l.Read.Parallel, 1)
		}
		if l.DeadLetter != graph.None {
			row.DeadLetter = a.Node(l.DeadLetter).Name
		}
		if a.GuessedLinks[i] {
			row.Basis = flow.Basis{"month": flow.Estimate}
		}
		out.Links = append(out.Links, row)
		if a.Node(l.To).Kind.Runs() {
			out.Triggers = append(out.Triggers, row)
		}
	}
	for _, l := range a.Off {
		none := 0.0
		row := LinkRow{
			Link:     l.Link.ID(),
			From:     l.Link.From,
			To:       l.Link.To,
			Does:     l.Relation.String() + ", switched off",
			Filter:   linkFilterWords(l),
			Reach:    expr.Impossible.String(),
			Batch:    max(l.Read.UpTo, 1),
			Parallel: max(l.Read.Parallel, 1),
			Tries:    l.Policy.Tries,
			Month:    &none,
		}
		out.Links = append(out.Links, row)
		if a.Node(a.Graph.NodeID(l.Link.To)).Kind.Runs() {
			out.Triggers = append(out.Triggers, row)
		}
	}
}

// scheduleRow describes a schedule, whose row among the nodes is given.
func scheduleRow(a *flow.Analysis, n *graph.Node, row *NodeRow) ScheduleRow {
	s := ScheduleRow{
		Node:    n.Name,
		Zone:    n.Zone,
		Enabled: n.Enabled,
		Starts:  []string{},
		Month:   row.Month,
		Cost:    row.Cost,
		Removes: row.Removes,
	}
	s.When = "every " + model.FormatDuration(n.Every)
	if n.Cron != "" {
		s.When = n.Cron
		if c, err := cadence.Parse(n.Cron, n.CronFields, n.Sunday); err == nil {
			s.When += ", " + c.Words()
		}
	}
	for _, id := range n.Out {
		s.Starts = append(s.Starts, a.Link(id).Link.To)
	}
	return s
}

// removedWith lists what names a node: links to it, deliveries whose dead-letter node
// it is, and alarms on it.
func removedWith(a *flow.Analysis, i int) []string {
	n := a.Node(i)
	out := []string{}
	for _, id := range n.In {
		if l := a.Link(id); l.From != i {
			out = append(out, l.Link.ID())
		}
	}
	for _, id := range n.DeadFrom {
		out = append(out, "dead-letter of "+a.Link(id).Link.ID())
	}
	for k := range a.Graph.Topology.Alarms {
		if alarm := &a.Graph.Topology.Alarms[k]; alarm.Of == n.Name {
			out = append(out, "alarm "+alarm.Name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
