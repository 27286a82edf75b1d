package learn

import "sort"

// measure takes the latencies of runs that went well, since what entered at the start of
// their trace, and what channels held. They are what a model of the system is held to.
func (o *observer) measure() {
	type span struct{ from, until int64 }
	held := map[delivery]span{}
	for i := range o.spans {
		s := &o.spans[i]
		if o.roles[i] != processes && o.roles[i] != serves {
			continue
		}
		first, ok := o.entered[o.origin(i)]
		switch {
		case !ok:
			continue
		case o.roles[i] == serves && s.Start == first.at && s.Error == "":
			key := [2]string{first.entry, first.entry}
			o.Latency[key] = append(o.Latency[key], float64(s.End-first.at)*1e-9)
		case o.roles[i] == processes && s.Error == "" && s.Attributes[untimed] == "":
			key := [2]string{first.entry, s.Service}
			o.Latency[key] = append(o.Latency[key], float64(s.End-first.at)*1e-9)
		}
		key, known := o.deliveryOf(i)
		if o.roles[i] != processes || !known || key.from == "" {
			continue
		}
		h, ok := held[key]
		if !ok {
			h = span{s.Start, s.End}
		}
		h.from, h.until = min(h.from, s.Start), max(h.until, s.End)
		if k := o.sentBy(s); k >= 0 {
			h.from = min(h.from, o.spans[k].Start)
		}
		held[key] = h
	}
	type edge struct {
		at int64
		by int
	}
	edges := map[string][]edge{}
	for key, h := range held {
		edges[key.from] = append(edges[key.from], edge{h.from, 1}, edge{h.until, -1})
	}
	for channel, list := range edges {
		sort.Slice(list, func(a, b int) bool {
			return list[a].at < list[b].at || list[a].at == list[b].at && list[a].by < list[b].by
		})
		out, now, area := Held{}, 0, 0.0
		for i, e := range list {
			if i > 0 {
				area += float64(now) * float64(e.at-list[i-1].at)
			}
			now += e.by
			out.Max = max(out.Max, now)
		}
		out.Mean = area / float64(max(o.Until-o.From, 1))
		o.Held[channel] = out
	}
}
