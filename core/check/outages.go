package check

import (
	"math"
	"time"

	"ironweir/core/document"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Outage is how long a node can be down before messages suffer.
type Outage struct {
	Parks   document.State `json:"parks"`   // the first message is parked
	Loses   document.State `json:"loses"`   // the first message is lost
	Limit   string         `json:"limit"`   // the field that sets the limit
	Backlog *float64       `json:"backlog"` // messages by then, at the known rates; null: no rate is known
	Drain   document.State `json:"drain"`   // how long the backlog takes afterwards
}

// findOutages works out the budget of every function and outside system: the
// first parking and the first loss, over all entries.
func (a *Analysis) findOutages() {
	a.Outages = map[string]Outage{}
	for i := range a.Graph.Nodes {
		n := a.node(i)
		if !n.Kind.Runs() {
			continue
		}
		o := Outage{Parks: document.Never, Loses: document.Never, Drain: document.Unknown}
		first := time.Duration(-1)
		for _, way := range a.waysInto(i) {
			if way.parks {
				earlier(&o.Parks, way.after)
			} else {
				earlier(&o.Loses, way.after)
			}
			if first < 0 || way.after < first {
				first, o.Limit = way.after, way.limit
			}
		}
		if first > 0 && !a.boundless[i] && a.rates[i] > 0 {
			backlog := a.rates[i] * first.Seconds()
			o.Backlog = &backlog
			if most := a.mostInto(i); !math.IsInf(most, 1) {
				o.Drain = document.Never
				if spare := most - a.rates[i]; spare > 0 {
					o.Drain = document.At(backlog / spare)
				}
			}
		}
		a.Outages[n.Name] = o
	}
}

// mostInto gives the messages per second that a node can take at most: by its
// runs at once, its rate limit, and the readers that bring them; infinite where
// nothing bounds it.
func (a *Analysis) mostInto(i int) float64 {
	n := a.node(i)
	most, readers, batch := math.Inf(1), 0.0, 1
	for _, id := range n.In {
		l := a.link(id)
		r, polled := a.Readings[id]
		if !polled || r.Most == 0 {
			readers = math.Inf(1)
			continue
		}
		readers += r.Most
		batch = max(batch, l.Read.UpTo)
	}
	if readers > 0 {
		most = readers
	}
	if n.Concurrency > 0 {
		most = min(most, float64(n.Concurrency*batch)/max(a.meanRun(i), 1e-9))
	}
	if n.RateLimit > 0 {
		most = min(most, n.RateLimit*float64(batch))
	}
	return most
}

func earlier(s *document.State, after time.Duration) {
	if s.Seconds == nil || after.Seconds() < *s.Seconds {
		*s = document.At(after.Seconds())
	}
}

// way is one way in which an outage ends for a message.
type way struct {
	after time.Duration
	parks bool
	limit string
}

// waysInto lists how messages for a node fare when it is down: those that come
// to it, and those of runs that wait for it.
func (a *Analysis) waysInto(i int) []way {
	var out []way
	seen := map[int]bool{}
	var down func(node int)
	down = func(node int) {
		if seen[node] {
			return
		}
		seen[node] = true
		for _, id := range a.node(node).In {
			l := a.link(id)
			if a.Reach[id] == expr.Impossible {
				continue
			}
			from := a.node(l.From)
			switch {
			case l.Relation == model.WaitingCall:
				if !l.Forgiven() && from.Kind != model.Endpoint {
					down(l.From)
				}
			case l.Relation.Polls():
				out = append(out, a.queueBudget(from, l))
			default:
				w := way{after: triesSpan(&l.Policy), limit: limitOf(l)}
				w.parks = l.DeadLetter != graph.None || hasFailureLink(a.node(node), a.Graph)
				out = append(out, w)
			}
		}
	}
	down(i)
	return out
}

func (a *Analysis) queueBudget(q *graph.Node, l *graph.Link) way {
	span, ends := patience(q, l)
	limit := l.Link.ID() + " retry"
	if q.Kind == model.Queue && !l.Policy.WaitSet {
		limit = l.Link.ID() + " tries × lease"
	}
	if !ends || span > q.Retention {
		return way{lastTry(q, l), false, q.Name + " retention"}
	}
	return way{span, l.DeadLetter != graph.None, limit}
}

func limitOf(l *graph.Link) string {
	return l.Link.ID() + " retry"
}
