package guarantees

import (
	"fmt"
	"strings"

	"ironweir/core/check/flow"
	"ironweir/core/expr"
	"ironweir/core/model"
)

// answer says what holds for the answer to a request: that it has succeeded. A request that is answered as failed is
// not lost, since who sent it knows; but none of its effects may be relied on.
func (q *guarantor) answer(endpoint int) Guarantee {
	n, searched := q.a.Node(endpoint), q.a.Entries[q.a.Node(endpoint).Name].Searched
	x := q.a.AnswersOf(endpoint)
	g := Guarantee{
		From: n.Name, To: n.Name, Answer: true, Reaches: expr.Certain.String(), Searched: searched,
		Losses: []Breach{}, Repeats: []Breach{}, Parks: []Parking{},
		Order: Order{Kept: true, By: []string{"request"}},
	}
	add := func(fault []string, why string, args ...any) {
		if len(fault) > 0 {
			g.Losses = append(g.Losses,
				Breach{Fault: strings.Join(fault, ", "), Node: n.Name, Why: fmt.Sprintf(why, args...)})
		}
	}
	fails := x.Fails >= flow.Negligible
	switch {
	case fails:
		why := fmt.Sprintf("%s of the requests are answered as failed", model.FormatShare(x.Fails))
		if most := x.MostFrequent(); most != "" {
			why += ", most often `" + most + "`"
		}
		g.Losses = append(g.Losses, Breach{Node: n.Name, Why: why})
	case x.Possible:
		g.Losses = append(g.Losses, Breach{Node: n.Name, Why: "a request may be answered as failed"})
	}
	if x.Declined != expr.Impossible {
		why := "a request that no link accepts is answered as failed"
		if x.Declined == expr.Certain {
			why = "no link accepts some requests, which are answered as failed"
		}
		g.Losses = append(g.Losses, Breach{Node: n.Name, Why: why})
	}
	if x.Over >= flow.Rare {
		g.Losses = append(g.Losses, Breach{Node: n.Name, Why: "a request over the rate limit is answered as failed"})
	}
	add(x.Lasting, "every request is answered as failed")
	add(x.Full, "requests are answered as failed once a queue is full,")
	add(x.Crashes, "the requests in hand are answered as failed")
	fails = fails || x.Possible || x.Declined != expr.Impossible || x.Over >= flow.Rare
	g.Effects = Effects{effects(fails, false), effects(true, false)}
	g.Delay = Delay{Typical: &x.Typical, Why: "timeout of `" + n.Name + "` " + model.FormatDuration(n.Timeout)}
	if limit := n.Timeout.Seconds(); limit > 0 {
		g.Delay.AtMost = &limit
	} else {
		g.Delay.Why = "`" + n.Name + "` has no timeout"
	}
	return g
}
