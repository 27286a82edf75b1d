package learn

import (
	"iter"
	"math"
	"sort"

	"ironweir/core/model"
)

// What follows guesses what somebody meant by what is seen: tries, retries through a
// queue that returns messages later, topics, and how many runs may work at the same time.

// delivery is one message at one consumer, however often it is delivered.
type delivery struct{ from, to, id string }

// deliveryOf tells messages apart by their id; without one by where they lie in a log, or by the span that sent them,
// where that sent no other.
func (o *observer) deliveryOf(i int) (delivery, bool) {
	s := &o.spans[i]
	id := s.Attributes[MessageID]
	if offset := s.Attributes[MessageOffset]; id == "" && offset != "" {
		id = " " + s.Attributes[Partition] + " " + offset
	}
	if k := o.sentBy(s); id == "" && k >= 0 && o.spans[k].Attributes[BatchCount] == "" {
		id = o.spans[k].ID
	}
	return delivery{channelOf(s), s.Service, o.origin(i) + id}, id != ""
}

// origin returns the trace in which what led to a run began: a consumer may begin a trace
// of its own, with a link to the span that sent its message.
func (o *observer) origin(i int) string {
	for range maxNesting {
		trace := o.spans[i].Trace
		if _, ok := o.entered[trace]; ok {
			return trace
		}
		k := o.sentBy(&o.spans[i])
		if k < 0 || o.spans[k].Trace == trace && o.runs[k] < 0 {
			return trace
		}
		if i = k; o.runs[k] >= 0 {
			i = o.runs[k]
		}
	}
	return o.spans[i].Trace
}

// countTries finds the most deliveries of one message of which none went well, and how
// many messages failed for good.
func (o *observer) countTries() {
	failed, well := map[delivery]int{}, map[delivery]bool{}
	runs := map[delivery][]*Span{}
	for i := range o.spans {
		s := &o.spans[i]
		key, known := o.deliveryOf(i)
		if o.roles[i] != processes || !known {
			continue
		}
		runs[key] = append(runs[key], s)
		if s.Error != "" {
			failed[key]++
		} else {
			well[key] = true
		}
	}
	for key, list := range runs {
		l := o.Links[LinkKey{key.from, key.to, ""}]
		if l == nil || failed[key] == 0 || len(list) < 2 {
			continue
		}
		sort.Slice(list, func(a, b int) bool { return list[a].Start < list[b].Start })
		if gap := float64(list[1].Start-list[0].End) * 1e-9; list[0].Error != "" && gap > 0 &&
			(l.RetryWait == 0 || gap < l.RetryWait) {
			l.RetryWait = gap
		}
		if well[key] { // the tries before it went well are tries, too
			l.Tries = max(l.Tries, failed[key]+1)
		}
	}
	for key, n := range failed {
		if l := o.Links[LinkKey{key.from, key.to, ""}]; l != nil && !well[key] {
			l.Tries = max(l.Tries, n)
			l.GaveUp++
		}
	}
}

// leastParallel is the share of the time in which a service works that it must work on so
// many messages, for that to be no accident of clocks and of spans that end late.
const leastParallel = 0.01

// timedRuns gives the runs for messages of a channel whose spans say how long they take, each with its link.
func (o *observer) timedRuns() iter.Seq2[int, LinkKey] {
	return func(yield func(int, LinkKey) bool) {
		for i := range o.spans {
			s := &o.spans[i]
			if o.roles[i] != processes || channelOf(s) == "" || s.Attributes[untimed] != "" {
				continue
			}
			if !yield(i, LinkKey{channelOf(s), s.Service, ""}) {
				return
			}
		}
	}
}

// countParallel finds how many messages of one channel a service works on at the same
// time.
func (o *observer) countParallel() {
	type edge struct {
		at int64
		by int
	}
	edges := map[LinkKey][]edge{}
	for i, key := range o.timedRuns() {
		edges[key] = append(edges[key], edge{o.spans[i].Start, 1}, edge{o.spans[i].End, -1})
	}
	for key, list := range edges {
		sort.Slice(list, func(a, b int) bool {
			return list[a].at < list[b].at || list[a].at == list[b].at && list[a].by < list[b].by
		})
		spent := map[int]int64{} // time at each number
		now, most, busy := 0, 0, int64(0)
		for i, e := range list {
			if i > 0 && now > 0 {
				spent[now] += e.at - list[i-1].at
				busy += e.at - list[i-1].at
			}
			now += e.by
			most = max(most, now)
		}
		above := int64(0)
		for ; most > 1; most-- {
			if above += spent[most]; float64(above) >= leastParallel*float64(busy) {
				break
			}
		}
		if l := o.Links[key]; l != nil {
			l.Parallel = most
		}
	}
}

const (
	leastHandovers = 20   // of how many runs the hand-over must be seen
	longestPauses  = 0.01 // share of them, the longest, that are taken for pauses of the consumer
)

// findHandovers finds how long it takes from the end of a run to the start of the next, of consumers that take one
// message after the other: by the first runs of messages that waited when the run before them ended. What takes longer
// than half of the runs is no hand-over, but a delay, or a consumer that looks now and then.
func (o *observer) findHandovers() {
	for key, list := range o.runsByLink() {
		l, n, from := o.Links[key], o.Nodes[key.To], o.Nodes[key.From]
		if from == nil || l == nil || n == nil || l.Parallel != 1 || l.Batch > 1 {
			continue
		}
		var gaps []float64
		after := map[int64]float64{} // the hand-overs, by the start of the run before
		for k, by := range o.firstRuns(list) {
			if k == 0 {
				continue
			}
			before, s := &o.spans[list[k-1]], &o.spans[list[k]]
			visible := o.spans[by].End + int64(from.Delay*1e9)
			if visible < before.End && before.End <= s.Start {
				after[before.Start] = float64(s.Start-before.End) * 1e-9
				gaps = append(gaps, after[before.Start])
			}
		}
		if len(gaps) >= leastHandovers && len(gaps) > n.Handover.Count {
			sort.Float64s(gaps)
			gaps = gaps[:len(gaps)-int(math.Ceil(longestPauses*float64(len(gaps))))]
			if mean := momentsOf(gaps).Mean(); mean < momentsOf(n.Times).Mean()/2 {
				n.Handover, n.handovers = Handover{mean, len(gaps)}, after
			}
		}
	}
}

// leastRetried is the share of the runs that send to a queue which must have failed, for
// that to be a retry.
const leastRetried = 0.9

// findRetries finds queues into which a consumer puts back what it has failed to process,
// and from which the broker returns it later. Such a queue is how brokers without retries
// of their own are made to retry: it becomes the retry rule of the link.
func (o *observer) findRetries() {
	type way struct{ service, queue string }
	sent, failing := map[way]int{}, map[way]int{}
	for i := range o.spans {
		s := &o.spans[i]
		run := o.runs[i]
		if o.roles[i] != sends || run < 0 || o.roles[run] != processes || channelOf(s) == "" ||
			s.Attributes[DeadLetter] != "" {
			continue
		}
		w := way{s.Service, channelOf(s)}
		sent[w]++
		same := s.Attributes[MessageID] != "" && s.Attributes[MessageID] == o.spans[run].Attributes[MessageID]
		if o.spans[run].Error != "" || same && o.Links[LinkKey{w.queue, w.service, ""}] == nil {
			failing[w]++
		}
	}
	for w, n := range sent {
		back := o.returnsTo(w.queue)
		l := o.Links[LinkKey{back, w.service, ""}]
		if back == "" || l == nil || float64(failing[w]) < leastRetried*float64(n) {
			continue
		}
		l.Returned = true
		l.Tries, l.RetryWait = o.returned(w.service, w.queue, back, l.Tries)
		delete(o.Nodes, w.queue)
		for key := range o.Links {
			if key.From == w.queue || key.To == w.queue {
				delete(o.Links, key)
			}
		}
	}
}

// findDeadLetters finds channels into which a consumer puts what it has failed to process, and nothing else. That is
// how readers of logs, which know no dead letters, have them.
func (o *observer) findDeadLetters() {
	gaveUp, other := map[string]int{}, map[string]bool{} // by service: messages, and whether others call it
	for key, l := range o.Links {
		if from := o.Nodes[key.From]; from != nil && from.Kind.Polled() {
			gaveUp[key.To] += l.GaveUp
		} else {
			other[key.To] = true
		}
	}
	for key, l := range o.Links {
		to := o.Nodes[key.To]
		failed, least := total(l.PerFailed), leastRetried*float64(gaveUp[key.From])
		if to == nil || !to.Kind.Channel() || l.Wait || other[key.From] || o.DeadLetters[key.From] != "" ||
			total(l.PerRun) > 0 || failed == 0 || failed > gaveUp[key.From] || float64(failed) < least {
			continue
		}
		o.DeadLetters[key.From] = key.To
		delete(o.Links, key)
	}
}

func total(counts map[int]int) (n int) {
	for _, times := range counts {
		n += times
	}
	return n
}

// returnsTo returns the only channel to which everything that is sent to another is passed
// on; empty: somebody reads it, or it goes to several.
func (o *observer) returnsTo(queue string) string {
	back := ""
	for key := range o.Links {
		switch {
		case key.From != queue:
		case o.Nodes[key.To] == nil || !o.Nodes[key.To].Kind.Channel() || back != "":
			return ""
		default:
			back = key.To
		}
	}
	return back
}

// returned follows messages through a queue that returns them: how many tries one has at
// most, and the least time from the end of a try to the next. A run that puts its message
// back counts as failed, whether or not its span says so.
func (o *observer) returned(service, queue, back string, tries int) (most int, wait float64) {
	number := map[int]int{} // tries of a message at a run, this one included
	var runs []int
	for i := range o.spans {
		if o.roles[i] == processes && o.spans[i].Service == service && channelOf(&o.spans[i]) == back {
			runs = append(runs, i)
		}
	}
	sort.Slice(runs, func(a, b int) bool { return o.spans[runs[a]].Start < o.spans[runs[b]].Start })
	most = tries
	for _, i := range runs {
		number[i] = 1
		k := o.sentBy(&o.spans[i])
		if k < 0 || channelOf(&o.spans[k]) != queue || o.runs[k] < 0 {
			continue
		}
		before := o.runs[k]
		number[i] = number[before] + 1
		if gap := float64(o.spans[i].Start-o.spans[before].End) * 1e-9; wait == 0 || gap < wait {
			wait = gap
		}
		most = max(most, number[i])
		if n := o.Nodes[service]; o.spans[before].Error == "" {
			o.spans[before].Error = "sent-back"
			n.Failures++
			n.Failed++
			n.Errors["sent-back"]++
		}
	}
	return max(most, 1), max(wait, 0)
}

// findTopics takes a destination for a topic where one message was processed by several
// services, or where the broker passes its messages on to several channels, or to one
// that says that it got them from there.
func (o *observer) findTopics() {
	takers, names := map[[2]string]map[string]bool{}, map[string]bool{}
	for i := range o.spans {
		s := &o.spans[i]
		if o.roles[i] != processes {
			continue
		}
		if s.Attributes[Exchange] != "" {
			names[s.Attributes[Exchange]] = true
		}
		if k := o.sentBy(s); k >= 0 {
			key := [2]string{channelOf(s), o.spans[k].Trace + o.spans[k].ID}
			if takers[key] == nil {
				takers[key] = map[string]bool{}
			}
			takers[key][s.Service] = true
		}
	}
	for key, services := range takers {
		if n := o.Nodes[key[0]]; n != nil && len(services) > 1 {
			n.topic("one message was taken by several services")
		}
	}
	passes := map[string]int{}
	for key := range o.Links {
		from, to := o.Nodes[key.From], o.Nodes[key.To]
		if from != nil && to != nil && from.Kind.Channel() {
			if to.Kind.Channel() {
				passes[key.From]++
			} else {
				passes[key.From] -= 1000 // somebody reads it
			}
		}
	}
	for name, n := range passes {
		if n > 1 || n == 1 && names[name] {
			o.Nodes[name].topic("its messages reach other channels, and nobody reads it")
		}
	}
}

func (n *Node) topic(why string) {
	if n.Kind.Leases() && n.Why != "it says so" {
		n.Kind, n.Why = model.Topic, why
	}
}

// findCallRetries finds waiting calls that a run makes again after they have failed.
func (o *observer) findCallRetries() {
	for run := range o.spans {
		if o.runs[run] != run {
			continue
		}
		made := map[string][]*Span{}
		for _, i := range o.within(run) {
			if o.roles[i] == calls {
				to := o.spans[i].peer()
				if service := o.serving[to]; service != "" {
					to = service
				}
				made[to] = append(made[to], &o.spans[i])
			}
		}
		for to, list := range made {
			l := o.Links[LinkKey{o.spans[run].Service, to, ""}]
			if l == nil {
				continue
			}
			sort.Slice(list, func(a, b int) bool { return list[a].Start < list[b].Start })
			tries := 1
			for i := 1; i < len(list); i++ {
				if list[i-1].Error == "" {
					tries = 1
					continue
				}
				tries++
				if gap := float64(list[i].Start-list[i-1].End) * 1e-9; l.RetryWait == 0 || gap < l.RetryWait {
					l.RetryWait = max(gap, 1e-6)
				}
				l.Tries = max(l.Tries, tries)
			}
		}
	}
}

// What is taken for a delay of a channel: every message waits as long, but for a little,
// and longer than a broker needs to deliver.
const (
	leastDelayed = 10   // messages
	leastDelay   = 0.25 // seconds
	mostSpread   = 0.1  // of the delay, between the shortest wait and the middle one
)

// findDelays finds channels in which every message waits for about the same time before it
// is processed.
func (o *observer) findDelays() {
	waits := map[string][]float64{}
	for i, key := range o.timedRuns() {
		s := &o.spans[i]
		if k := o.sentBy(s); k >= 0 {
			waits[key.From] = append(waits[key.From], float64(s.Start-o.spans[k].End)*1e-9)
		}
	}
	for channel, list := range waits {
		sort.Float64s(list)
		least, middle := list[0], list[len(list)/2]
		if n := o.Nodes[channel]; n != nil && len(list) >= leastDelayed && least >= leastDelay &&
			middle-least <= mostSpread*least {
			n.Delay = least
		}
	}
}
