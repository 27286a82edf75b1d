package check

import (
	"fmt"
	"time"

	"ironweir/core/check/flow"
	"ironweir/core/check/remedy"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

var overloaded = &Rule{Code: "IW501", Title: "Overload: backlog grows without bound", Severity: Error,
	Doc: `Utilisation is over 1: the mean traffic needs more than the concurrency of a function, its pool, a rate limit,
the partitions of a stream, or the readers of a link (one at a time unless ` + "`parallel`" + ` says otherwise) allow.
The backlog grows without bound until messages expire, are given up or are rejected. Raise the limit, make runs shorter,
or read in batches. Batches count as full here: what is found is found whatever their size.`,
	Run: func(p *Pass) { reportBusy(p, 1, 1e18) }}

var nearlyOverloaded = &Rule{Code: "IW502", Title: "Utilisation over 0.8", Severity: Warning,
	Doc: `On average utilisation is over 80%, batches filled: a peak or a slow minute makes a backlog that drains slowly.
Leave more room.`,
	Run: func(p *Pass) { reportBusy(p, busy, 1) }}

// busy is the utilisation over which little room is left.
const busy = 0.8

func reportBusy(p *Pass, from, below float64) {
	pools := map[string]bool{}
	for i := range p.Graph.Nodes {
		n := p.Node(i)
		c := p.Capacity[n.Name]
		if !within(c.Full, from, below) {
			continue
		}
		evidence := map[string]any{"utilisation": *c.Utilisation, "filled": c.Full, "rate": *c.Rate}
		if c.Concurrency != nil {
			evidence["run_s"] = p.RunTime(i)
		}
		names := []string{n.Name}
		if n.Pool != "" && c.LimitedBy == "pool "+n.Pool {
			if pools[n.Pool] {
				continue
			}
			pools[n.Pool] = true
			names = nil
			for k := range p.Graph.Nodes {
				if p.Node(k).Pool == n.Pool {
					names = append(names, p.Node(k).Name)
				}
			}
		}
		change, words := busyWords(n, &c)
		p.report(n.Pos, names, nil, evidence, []remedy.Remedy{change}, "%s", words)
	}
	reportReaders(p, from, below)
}

// busyWords says how near a node is to the limit that it comes to first, and what to do.
func busyWords(n *graph.Node, c *flow.Capacity) (remedy.Remedy, string) {
	percent := 100 * c.Full
	rate := model.FormatRate(*c.Rate)
	switch c.LimitedBy {
	case "rate-limit":
		return remedy.Node(
				fmt.Sprintf("Raise the rate limit of `%s` to twice the traffic", n.Name),
				n.Name,
				map[string]any{"rate-limit": model.FormatRate(n.RateLimit * c.Full * 2)},
			), fmt.Sprintf(
				"`%s` gets %s and allows %s: a utilisation of %.0f%%",
				n.Name, model.FormatRate(n.RateLimit*c.Full), model.FormatRate(n.RateLimit), percent,
			)
	case "partition-rate":
		need := int(*c.Rate/n.PartitionRate/0.7) + 1
		return remedy.Node(
				fmt.Sprintf("Give `%s` %d partitions", n.Name, need),
				n.Name,
				map[string]any{"partitions": need},
			), fmt.Sprintf(
				"`%s` gets %s, and its %d partitions allow %s each: a utilisation of %.0f%%, and writes above it are rejected",
				n.Name, rate, n.Partitions, model.FormatRate(n.PartitionRate), percent,
			)
	case "pool " + n.Pool:
		need := int(c.Full*float64(*c.Limit)/0.7) + 1
		return remedy.Remedy{
				Say:   fmt.Sprintf("Raise the pool `%s` to %d", n.Pool, need),
				Patch: map[string]any{"pools": map[string]any{n.Pool: need}},
			}, fmt.Sprintf(
				"the functions of the pool `%s` need %.1f of its %d concurrent runs on average: a utilisation of %.0f%%",
				n.Pool, c.Full*float64(*c.Limit), *c.Limit, percent,
			)
	}
	need := int(c.Full*float64(*c.Limit)/0.7) + 1
	return remedy.Node(
			fmt.Sprintf("Raise the concurrency of `%s` to %d", n.Name, need),
			n.Name,
			map[string]any{"concurrency": need},
		), fmt.Sprintf(
			"`%s` gets %s, which needs %.1f of its %d concurrent runs on average: a utilisation of %.0f%%",
			n.Name, rate, c.Full*float64(*c.Limit), *c.Limit, percent,
		)
}

// reportReaders reports the links whose readers are short of what comes.
func reportReaders(p *Pass, from, below float64) {
	for id := range p.Graph.Links {
		r, ok := p.Readings[id]
		if !ok || !within(r.Utilisation, from, below) {
			continue
		}
		l := p.Link(id)
		source := p.Node(l.From)
		evidence := map[string]any{"utilisation": r.Utilisation, "rate": r.Tries, "most": r.Most, "run_s": r.Run}
		takes := fmt.Sprintf("%s can take %s", counted(l.Read.Parallel, "reader"), model.FormatRate(r.Most))
		if !source.Kind.Leases() {
			takes = fmt.Sprintf(
				"one batch at a time in each of %s can take %s",
				counted(source.Partitions, "partition"),
				model.FormatRate(r.Most),
			)
		}
		offered := moreReaders(p, l, r.Utilisation)
		then := fmt.Sprintf("a utilisation of %.0f%%", 100*r.Utilisation)
		if r.Utilisation > 1 {
			ends := fmt.Sprintf("its retention of %s ends", model.FormatDuration(source.Retention))
			if p.GivesUpFirst(l) {
				ends = fmt.Sprintf(
					"what is older than %s is given up",
					model.FormatDuration(time.Duration(l.Policy.GiveUp)),
				)
			}
			then = fmt.Sprintf("the backlog grows by %s until %s", model.FormatRate(r.Tries-r.Most), ends)
		}
		p.report(l.Pos, []string{l.Link.From, l.Link.To}, []string{l.Link.ID()}, evidence, []remedy.Remedy{offered},
			"`%s` has to read %s, but %s: %s", l.Link.ID(), model.FormatRate(r.Tries), takes, then)
	}
}

// moreReaders offers as many readers, or partitions, as keep a load at 70%, which is
// given as a multiple of what the present ones can take.
func moreReaders(p *Pass, l *graph.Link, load float64) remedy.Remedy {
	source, target := p.Node(l.From), p.Node(l.To)
	if !source.Kind.Leases() {
		need := int(float64(source.Partitions)*load/0.7) + 1
		return remedy.Node(
			fmt.Sprintf("Give `%s` %s", source.Name, counted(need, "partition")),
			source.Name,
			map[string]any{"partitions": need},
		)
	}
	need := int(float64(l.Read.Parallel)*load/0.7) + 1
	offered := remedy.Link(
		fmt.Sprintf("Read `%s` with %s", l.Link.From, counted(need, "reader")),
		l,
		map[string]any{"read": map[string]any{"parallel": need}},
	)
	if target.Concurrency > 0 && target.Concurrency < need {
		offered.Say += fmt.Sprintf(", and raise the concurrency of `%s` to %d", target.Name, need)
		offered.Patch["nodes"].(map[string]any)[target.Name] = map[string]any{"concurrency": need}
	}
	return offered
}

// within reports whether a utilisation is over one bound, or at the lower one of
// two, and at most the other.
func within(used, over, most float64) bool {
	const slack = 1e-9
	return used > over+slack && used <= most+slack
}

var overcommittedPool = &Rule{Code: "IW503", Title: "Concurrency pool over-committed", Severity: Warning,
	Doc: `By their own limits, the functions of a pool may have more concurrent runs than the pool allows. A busy one
then throttles the others. Make the pool as large as the sum of what must not wait.`,
	Run: func(p *Pass) {
		for _, name := range flow.SortedKeys(p.Graph.Topology.Pools) {
			size := p.Graph.Topology.Pools[name]
			sum := 0
			var members []string
			for i := range p.Graph.Nodes {
				if n := p.Node(i); n.Pool == name {
					members = append(members, n.Name)
					sum += n.Concurrency
				}
			}
			if sum > size {
				p.report(
					p.Node(p.Graph.NodeID(members[0])).Pos,
					members,
					nil,
					map[string]any{"pool": size, "sum": sum},
					[]remedy.Remedy{
						{
							Say:   fmt.Sprintf("Raise the pool `%s` to %d", name, sum),
							Patch: map[string]any{"pools": map[string]any{name: sum}},
						},
					},
					"the pool `%s` allows %d concurrent runs and its functions may need %d: a busy one throttles the others",
					name,
					size,
					sum,
				)
			}
		}
	}}

var tooManyReaders = &Rule{Code: "IW504", Title: "Parallel readers exceed function concurrency", Severity: Warning,
	Doc: `Each reader that finds no free run is throttled, and that uses up a try of every message in its batch:
messages are parked or lost without ever having been run. Read with no more readers than the concurrency.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			if n.Concurrency == 0 {
				continue
			}
			readers := 0
			var links []string
			var last *graph.Link
			for _, id := range n.In {
				if l := p.Link(id); l.Relation == model.PolledRun && p.Node(l.From).Kind.Leases() {
					readers += l.Read.Parallel
					links = append(links, l.Link.ID())
					last = l
				}
			}
			if readers <= n.Concurrency {
				continue
			}
			p.report(
				last.Pos,
				[]string{n.Name},
				links,
				map[string]any{"readers": readers, "concurrency": n.Concurrency},
				[]remedy.Remedy{
					remedy.Node(
						fmt.Sprintf("Raise the concurrency of `%s` to %d", n.Name, readers),
						n.Name,
						map[string]any{"concurrency": readers},
					),
				},
				"%d readers pass batches to `%s`, whose concurrency is %d: the others are throttled, and each throttle uses up a try",
				readers,
				n.Name,
				n.Concurrency,
			)
		}
	}}

var multiplyingRetries = &Rule{Code: "IW505", Title: "Retries multiply across layers", Severity: Warning,
	Doc: `Each try of the outer layer makes all tries of the inner one, so a system that is down gets the product
of both. Retry in one layer only: usually the outermost, which can wait longest.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			if l.Relation != model.WaitingCall || l.Policy.Tries < 2 {
				continue
			}
			outer := p.outerTries(l.From)
			if outer == 1 || outer*l.Policy.Tries < 9 && outer != 0 {
				continue
			}
			times := fmt.Sprintf("%d × %d = %d", outer, l.Policy.Tries, outer*l.Policy.Tries)
			if outer == 0 {
				times = fmt.Sprintf("%d for each of an unlimited number of tries", l.Policy.Tries)
			}
			p.report(
				l.Pos,
				[]string{l.Link.From, l.Link.To},
				[]string{l.Link.ID()},
				map[string]any{"outer": outer, "inner": l.Policy.Tries},
				[]remedy.Remedy{
					remedy.Link(
						fmt.Sprintf("Call `%s` once, and leave the retries to the outer layer", l.Link.To),
						l,
						map[string]any{"retry": nil},
					),
				},
				"`%s` calls `%s` up to %d times within each of its own tries: %s calls for one message while it is down",
				l.Link.From,
				l.Link.To,
				l.Policy.Tries,
				times,
			)
		}
	}}

// outerTries returns the most tries with which messages come to a node; 0 stands for
// no limit.
func (p *Pass) outerTries(i int) int {
	most := 1
	for _, s := range p.States.Of[i] {
		tries := p.PolicyOf(p.States.All[s].Context).Tries
		if tries == 0 {
			return 0
		}
		most = max(most, tries)
	}
	return most
}

var unknownLength = &Rule{Code: "IW506", Title: "Unknown length of `for-each`", Severity: Warning,
	Doc: `One message is sent for each item of a list, and nothing says how long that list is: neither the events of
the scenario, nor a payload that the model states. The rates, the utilisation and the cost behind it count
one item. Give the scenario sample events (events: [{data: ...}]), and check with -scenario.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			if l.ForEach == nil || p.Reach[i] == expr.Impossible {
				continue
			}
			unknown := len(p.States.Of[l.From]) > 0
			for _, s := range p.States.Of[l.From] {
				_, _, guessed := p.CountOf(l, p.States.All[s])
				unknown = unknown && guessed
			}
			if unknown {
				p.report(
					l.Pos,
					[]string{l.Link.From, l.Link.To},
					[]string{l.Link.ID()},
					map[string]any{"for_each": l.ForEach.Source},
					nil,
					"nothing says how many items `%s` has, so `%s` counts as one message for each run: rates and utilisation behind it are too low",
					l.ForEach.Source,
					l.Link.ID(),
				)
			}
		}
	}}
