package check

import (
	"fmt"

	"ironweir/core/graph"
	"ironweir/core/model"
)

var overloaded = &Rule{Code: "IW501", Title: "more work than can be done", Severity: Error,
	Doc: `The runs that the mean traffic asks for are more than there is room for: the concurrency of a function, its
pool, a rate limit, the partitions of a stream, or the readers of a link (one at a time unless ` + "`parallel`" + `
says otherwise). The backlog grows without bound until something expires or is thrown away. Raise the
limit, make runs shorter, or read in batches. Batches count as full here: what is found is found whatever
their size.`,
	Run: func(p *Pass) { reportBusy(p, 1, 1e18) }}

var nearlyOverloaded = &Rule{Code: "IW502", Title: "little room left", Severity: Warning,
	Doc: `In the mean more than 80% of what there is room for is in use, batches filled: a peak or a slow minute makes a
backlog that drains slowly. Leave more room.`,
	Run: func(p *Pass) { reportBusy(p, 0.8, 1) }}

func reportBusy(p *Pass, from, below float64) {
	pools := map[string]bool{}
	for i := range p.Graph.Nodes {
		n := p.node(i)
		c := p.Capacity[n.Name]
		if !within(c.full, from, below) {
			continue
		}
		rate := model.FormatRate(*c.Rate)
		evidence := map[string]any{"utilisation": *c.Utilisation, "filled": c.full, "rate": *c.Rate}
		if c.Concurrency != nil {
			evidence["run_s"] = p.runTime(i, map[int]bool{})
		}
		switch {
		case c.LimitedBy == "rate-limit":
			p.report(n.Pos, []string{n.Name}, nil, evidence, []Remedy{patchNode("a rate limit that leaves half free", n.Name, map[string]any{"rate-limit": model.FormatRate(n.RateLimit * c.full * 2)})},
				"%s is asked for %s and takes %s: %.0f%% of what it can take", n.Name, model.FormatRate(n.RateLimit*c.full), model.FormatRate(n.RateLimit), 100*c.full)
		case c.LimitedBy == "partition-rate":
			need := int(*c.Rate/n.PartitionRate/0.7) + 1
			p.report(n.Pos, []string{n.Name}, nil, evidence, []Remedy{patchNode(fmt.Sprintf("%d partitions", need), n.Name, map[string]any{"partitions": need})},
				"%s gets %s, and its %d partitions take %s each: %.0f%% in use, and writes above it are rejected", n.Name, rate, n.Partitions, model.FormatRate(n.PartitionRate), 100*c.full)
		case n.Pool != "" && c.LimitedBy == "pool "+n.Pool:
			if pools[n.Pool] {
				continue
			}
			pools[n.Pool] = true
			var members []string
			for k := range p.Graph.Nodes {
				if p.node(k).Pool == n.Pool {
					members = append(members, p.node(k).Name)
				}
			}
			need := int(c.full*float64(*c.Limit)/0.7) + 1
			p.report(n.Pos, members, nil, evidence, []Remedy{{Say: fmt.Sprintf("a pool of %d", need), Patch: map[string]any{"pools": map[string]any{n.Pool: need}}}},
				"the functions of the pool %s keep %.1f of its %d places busy: %.0f%% in use", n.Pool, c.full*float64(*c.Limit), *c.Limit, 100*c.full)
		default:
			need := int(c.full*float64(*c.Limit)/0.7) + 1
			p.report(n.Pos, []string{n.Name}, nil, evidence, []Remedy{patchNode(fmt.Sprintf("a concurrency of %d", need), n.Name, map[string]any{"concurrency": need})},
				"%s gets %s, which keeps %.1f of %d runs busy: %.0f%% in use", n.Name, rate, c.full*float64(*c.Limit), *c.Limit, 100*c.full)
		}
	}
	reportReaders(p, from, below)
}

// reportReaders reports the links whose readers are short of what comes.
func reportReaders(p *Pass, from, below float64) {
	for id := range p.Graph.Links {
		r, ok := p.Readings[id]
		if !ok || !within(r.Utilisation, from, below) {
			continue
		}
		l := p.link(id)
		source := p.node(l.From)
		evidence := map[string]any{"utilisation": r.Utilisation, "rate": r.tries, "most": r.Most, "run_s": r.run}
		takes := fmt.Sprintf("%s can take %s", counted(l.Read.Parallel, "reader"), model.FormatRate(r.Most))
		need := int(float64(l.Read.Parallel)*r.Utilisation/0.7) + 1
		remedy := patchLink(fmt.Sprintf("%d readers", need), l, map[string]any{"read": map[string]any{"parallel": need}})
		if source.Kind != model.Queue {
			need = int(float64(source.Partitions)*r.Utilisation/0.7) + 1
			takes = fmt.Sprintf("one batch at a time in each of %s can take %s", counted(source.Partitions, "partition"), model.FormatRate(r.Most))
			remedy = patchNode(fmt.Sprintf("%d partitions", need), source.Name, map[string]any{"partitions": need})
		} else if target := p.node(l.To); target.Concurrency > 0 && target.Concurrency < need {
			remedy.Say += fmt.Sprintf(", and %s runs %d at once", target.Name, need)
			remedy.Patch["nodes"].(map[string]any)[target.Name] = map[string]any{"concurrency": need}
		}
		then := fmt.Sprintf("%.0f%% in use", 100*r.Utilisation)
		if r.Utilisation > 1 {
			then = fmt.Sprintf("the backlog grows by %s until its retention of %s ends", model.FormatRate(r.tries-r.Most), model.FormatDuration(source.Retention))
		}
		p.report(l.Pos, []string{l.Link.From, l.Link.To}, []string{l.Link.ID()}, evidence, []Remedy{remedy},
			"%s is to read %s, but %s: %s", l.Link.ID(), model.FormatRate(r.tries), takes, then)
	}
}

// within tells whether a utilisation is over one bound, or at the lower one of
// two, and at most the other.
func within(used, over, most float64) bool {
	const slack = 1e-9
	return used > over+slack && used <= most+slack
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

var overcommittedPool = &Rule{Code: "IW503", Title: "a pool that is over-committed", Severity: Warning,
	Doc: `The functions of a pool may run more at once, by their own limits, than the pool has. A busy one then
throttles the others. Make the pool as large as the sum of what must not wait.`,
	Run: func(p *Pass) {
		for name, size := range p.Graph.Topology.Pools {
			sum := 0
			var members []string
			for i := range p.Graph.Nodes {
				if n := p.node(i); n.Pool == name {
					members = append(members, n.Name)
					sum += n.Concurrency
				}
			}
			if sum > size {
				p.report(p.node(p.Graph.NodeID(members[0])).Pos, members, nil, map[string]any{"pool": size, "sum": sum}, []Remedy{{Say: fmt.Sprintf("a pool of %d", sum), Patch: map[string]any{"pools": map[string]any{name: sum}}}},
					"the pool %s has %d places and its functions may ask for %d: one that is busy throttles the others", name, size, sum)
			}
		}
	}}

var tooManyReaders = &Rule{Code: "IW504", Title: "more readers than the function can run", Severity: Warning,
	Doc: `Each reader that finds no free run is throttled, and that uses up a try of every message in its batch:
messages are set aside or lost without ever having been run. Read with no more than the concurrency.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if n.Concurrency == 0 {
				continue
			}
			readers := 0
			var links []string
			var last *graph.Link
			for _, id := range n.In {
				if l := p.link(id); l.Relation == model.PolledRun && p.node(l.From).Kind == model.Queue {
					readers += l.Read.Parallel
					links = append(links, l.Link.ID())
					last = l
				}
			}
			if readers <= n.Concurrency {
				continue
			}
			p.report(last.Pos, []string{n.Name}, links, map[string]any{"readers": readers, "concurrency": n.Concurrency},
				[]Remedy{patchNode(fmt.Sprintf("a concurrency of %d", readers), n.Name, map[string]any{"concurrency": readers})},
				"%d readers hand batches to %s, which runs %d at once: the others are throttled, and each throttle uses up a try", readers, n.Name, n.Concurrency)
		}
	}}

var multiplyingRetries = &Rule{Code: "IW505", Title: "tries that multiply", Severity: Warning,
	Doc: `Each try of the outer layer makes all tries of the inner one, so a system that is down gets the product
of both. Try again in one layer only: mostly the outermost, which can wait longest.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			if l.Relation != model.WaitingCall || l.Policy.Tries < 2 {
				continue
			}
			_, outer := p.inwardTries(l.From)
			if outer == 1 || outer*l.Policy.Tries < 9 && outer != 0 {
				continue
			}
			times := fmt.Sprintf("%d × %d = %d", outer, l.Policy.Tries, outer*l.Policy.Tries)
			if outer == 0 {
				times = fmt.Sprintf("%d for each of any number of tries", l.Policy.Tries)
			}
			p.report(l.Pos, []string{l.Link.From, l.Link.To}, []string{l.Link.ID()}, map[string]any{"outer": outer, "inner": l.Policy.Tries},
				[]Remedy{patchLink("call once, and leave the tries to the outer layer", l, map[string]any{"retry": nil})},
				"%s calls %s again up to %d times within each of its own tries: %s calls for one message when it is down", l.Link.From, l.Link.To, l.Policy.Tries, times)
		}
	}}
