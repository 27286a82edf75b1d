package learn

import (
	"fmt"
	"maps"
	"math"
	"path"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"ironweir/core/model"
)

// Draft is a model and a scenario made of what was observed. Comments, by dotted
// path, tell the evidence for each thing that was guessed.
type Draft struct {
	Model            *model.Value
	Comments         map[string]string
	Scenario         *model.Value
	ScenarioComments map[string]string
}

type drafter struct {
	*Observed
	names map[string]string // of the model, by those observed
	taken map[string]bool   // names of the model
	added *model.Value      // nodes that stand for what was not seen
	Draft
}

// drafter begins a draft with the names of what was observed; t is the model that it is
// for, or nil.
func (o *Observed) drafter(names map[string]string, t *model.Topology) *drafter {
	d := &drafter{
		Observed: o,
		names:    names,
		taken:    map[string]bool{},
		added:    model.MapValue(),
		Draft:    Draft{Comments: map[string]string{}, ScenarioComments: map[string]string{}},
	}
	for _, name := range names {
		d.taken[name] = true
	}
	if t != nil {
		for _, name := range t.NodeNames() {
			d.taken[name] = true
		}
	}
	return d
}

// Names gives each observed name a name of the model: by observed-as where the
// model has such a node, else made of it.
func (o *Observed) Names(t *model.Topology) map[string]string {
	out, taken := map[string]string{}, map[string]bool{}
	if t != nil {
		for _, n := range t.Nodes {
			taken[n.Name] = true
			for _, name := range append([]string{n.Name}, n.ObservedAs...) {
				if o.Nodes[name] != nil {
					out[name] = n.Name
				}
			}
		}
	}
	for _, n := range o.ordered() {
		if out[n.Name] == "" {
			out[n.Name] = freeName(n.Name, taken)
			taken[out[n.Name]] = true
		}
	}
	return out
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

func freeName(from string, taken map[string]bool) string {
	s := strings.Trim(notName.ReplaceAllString(strings.ToLower(from), "-"), "-")
	if s == "" || s[0] >= '0' && s[0] <= '9' {
		s = strings.Trim("n-"+s, "-")
	}
	s = strings.TrimRight(s[:min(len(s), 58)], "-")
	for base, k := s, 2; taken[s]; k++ {
		s = fmt.Sprintf("%s-%d", base, k)
	}
	return s
}

// ordered lists the nodes as they were first seen.
func (o *Observed) ordered() []*Node {
	var out []*Node
	for _, n := range o.Nodes {
		out = append(out, n)
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].first != out[j].first {
			return out[i].first < out[j].first
		}
		return out[i].Name < out[j].Name
	})
	return out
}

// Draft makes a model and a scenario of what was observed.
func (o *Observed) Draft(name string) *Draft {
	d := o.drafter(o.Names(nil), nil)
	nodes := model.MapValue()
	for _, n := range o.ordered() {
		nodes.Add(d.names[n.Name], d.node(n))
		d.Comments["nodes."+d.names[n.Name]] = d.evidence(n)
	}
	nodes.Fields = append(nodes.Fields, d.added.Fields...)
	d.Model = model.MapValue().Add(
		"ironweir",
		model.TextValue("topology/1"),
	).Add(
		"name",
		model.TextValue(freeName(name, nil)),
	).Add(
		"nodes",
		nodes,
	)
	d.Comments["ironweir"] = fmt.Sprintf(
		"Drafted from %d spans of %d traces, %s to %s. Look at every line: what is not in traces (leases, limits, retention, dead letters that nobody needed) is not here.",
		o.Spans,
		o.Traces,
		clock(o.From),
		clock(o.Until),
	)
	d.scenario(name)
	return &d.Draft
}

func clock(at int64) string { return time.Unix(0, at).UTC().Format(time.RFC3339) }

func text(s string) *model.Value { return model.TextValue(s) }

func (d *drafter) evidence(n *Node) string {
	s := fmt.Sprintf("Guessed %s: %s.", n.Kind, n.Why)
	if n.Why == "it says so" {
		s = ""
	}
	if n.Runs > 0 && !n.Kind.Answers() {
		share, in := ShareInterval(n.Failures, n.Runs)
		s += fmt.Sprintf(
			" %d runs seen, %d failed by themselves (%.3g%%, 99%% interval %.3g to %.3g%%).",
			n.Runs,
			n.Failures,
			100*share,
			100*in[0],
			100*in[1],
		)
		if n.Timed.Count > 0 {
			in := n.Timed.interval(z99)
			s += fmt.Sprintf(" Mean time %s (%s to %s).", duration(n.Timed.Mean()), duration(max(in[0], 0)), duration(in[1]))
		}
	}
	return strings.TrimSpace(s)
}

func (d *drafter) node(n *Node) *model.Value {
	v := model.MapValue().Add("kind", text(string(n.Kind)))
	if d.names[n.Name] != n.Name {
		v.Add("observed-as", model.ListValue(text(n.Name)))
	}
	switch n.Kind {
	case model.Schedule:
		d.schedule(n, v)
	case model.Endpoint:
		if n.Method != "" {
			v.Add("method", text(n.Method))
		}
		if n.Path != "" {
			v.Add("path", text(n.Path))
		}
	case model.Stream:
		d.partitions(n, v)
	case model.Bucket:
		if e := d.Entries[n.Name]; e != nil && len(e.Keys) > 0 {
			v.Add("keys", model.ListValue(text(template(e.Keys))))
		}
	case model.Function, model.Workflow, model.Outside:
		if len(n.Times) > 0 {
			f := fit(n.held())
			v.Add("takes", f.Value)
			say := "Fitted to " + counted(f.Count, "run") + ": " + f.String() + "."
			if h := n.Handover; h.Mean > 0 {
				say += fmt.Sprintf(" It includes the %s that pass on average until the next of the messages that wait is "+
					"handed over (%d times seen).", duration(h.Mean), h.Count)
			}
			d.Comments["nodes."+d.names[n.Name]+".takes"] = say
		}
		if n.Failures > 0 {
			v.Add("fails", text(strconv.FormatFloat(100*float64(n.Failures)/float64(n.Runs), 'g', 3, 64)+"%"))
		}
		for field, say := range n.dependence() {
			at := "nodes." + d.names[n.Name] + "." + field
			d.Comments[at] = strings.TrimSpace(d.Comments[at] + " " + say)
		}
	}
	if n.Kind == model.Workflow {
		v.Fields[0].Value = text(string(model.Function)) // its tasks are not in traces
	}
	if n.Kind.Answers() && len(d.linksOf(n)) > 1 {
		d.Comments["nodes."+d.names[n.Name]+".links"] = "Only one of these can be waited for."
	}
	if n.Delay > 0 && (n.Kind.Leases() || n.Kind == model.Bucket) {
		field := map[model.Kind]string{model.Queue: "delay", model.Bucket: "notice"}[n.Kind]
		v.Add(field, text(duration(roundWait(n.Delay))))
		d.Comments["nodes."+d.names[n.Name]+"."+field] = fmt.Sprintf(
			"Guessed: no message was processed sooner than %s after it was sent.",
			duration(n.Delay),
		)
	}
	links, results := model.MapValue(), false
	for _, key := range d.linksOf(n) {
		d.link(n, key, links)
	}
	for _, l := range links.Fields {
		results = results || l.Value.Get("when") != nil && d.waitedFor(n)
	}
	if results {
		v.Add("results", text("all"))
	}
	if len(links.Fields) > 0 {
		v.Add("links", links)
	}
	return v
}

// held is for how long each run keeps its consumer from the next message: its own work, and a hand-over, the mean of
// those that were seen.
func (n *Node) held() []float64 {
	out := slices.Clone(n.Times)
	for k := range out {
		out[k] += n.Handover.Mean
	}
	return out
}

// partitions gives a stream the partitions that were seen, where somebody reads several at the same time.
func (d *drafter) partitions(n *Node, v *model.Value) {
	count, parallel := len(n.Partitions), 0
	for key, l := range d.Links {
		if key.From == n.Name {
			parallel = max(parallel, l.Parallel)
		}
	}
	at := "nodes." + d.names[n.Name]
	switch {
	case count < 2:
	case parallel > 1:
		v.Add("partitions", model.NumberValue(strconv.Itoa(count)))
		d.Comments[at+".partitions"] = fmt.Sprintf("Guessed: messages of %d partitions were seen, and up to %s at the "+
			"same time.", count, counted(parallel, "run"))
	case parallel == 1:
		d.Comments[at+".kind"] = fmt.Sprintf("QUESTION: messages of %d partitions were seen, but no two runs at the same "+
			"time. If there can be, `partitions: %d` says so.", count, count)
	}
}

// waitedFor reports whether somebody waits for the runs of a node: a caller, or a reader.
func (d *drafter) waitedFor(n *Node) bool {
	for key, l := range d.Links {
		if from := d.Nodes[key.From]; key.To == n.Name && from != nil && (l.Wait || from.Kind.Polled()) {
			return true
		}
	}
	return false
}

// linksOf lists the links that leave a node, in a settled order.
func (o *Observed) linksOf(n *Node) []LinkKey {
	var out []LinkKey
	for key := range o.Links {
		if key.From == n.Name && o.Nodes[key.To] != nil {
			out = append(out, key)
		}
	}
	sort.Slice(out, func(i, j int) bool {
		a, b := o.Nodes[out[i].To], o.Nodes[out[j].To]
		if a.first != b.first {
			return a.first < b.first
		}
		if a.Name != b.Name {
			return a.Name < b.Name
		}
		return out[i].Type < out[j].Type
	})
	return out
}

func (d *drafter) link(n *Node, key LinkKey, links *model.Value) {
	l, to := d.Links[key], d.Nodes[key.To]
	name := d.names[key.To]
	if key.Type != "" && links.Get(name) != nil {
		name = freeName(name+"-"+key.Type, nil)
	}
	for base, k := name, 2; links.Get(name) != nil; k++ {
		name = fmt.Sprintf("%s-%d", base, k)
	}
	v := model.MapValue()
	if name != d.names[key.To] {
		v.Add("to", text(d.names[key.To]))
	}
	switch {
	case n.Kind.Runs():
		if l.Wait && to.Kind != model.Outside {
			v.Add("mode", text("wait"))
		}
		if l.Async && to.Kind == model.Outside {
			v.Add("mode", text("async"))
		}
		if l.Wait && l.Tries > 1 {
			v.Add(
				"retry",
				model.MapValue().Add(
					"tries",
					model.NumberValue(strconv.Itoa(l.Tries)),
				).Add(
					"wait",
					text(duration(roundWait(l.RetryWait))),
				),
			)
			d.Comments["nodes."+d.names[n.Name]+".links."+name+".retry"] = fmt.Sprintf(
				"Guessed: a failed call was made again after %s at least; the most tries were %d.",
				duration(l.RetryWait),
				l.Tries,
			)
		}
		if key.Type != "" {
			v.Add("type", text(key.Type))
		}
		d.count(n, l, v, "nodes."+d.names[n.Name]+".links."+name)
		if to.Kind == model.Bucket && len(l.Keys) > 1 {
			v.Add("key", text(template(l.Keys)))
		}
	default:
		d.filter(n, l, v)
		d.delivery(n, key, v)
	}
	links.Add(name, v)
}

// delivery says how a link delivers: batches, readers at the same time, tries, and where
// a message goes that nobody can process.
func (d *drafter) delivery(n *Node, key LinkKey, v *model.Value) {
	l, to := d.Links[key], d.Nodes[key.To]
	path := "nodes." + d.names[n.Name] + ".links." + d.names[key.To]
	polled := n.Kind.Leases() || n.Kind == model.Table
	read := model.MapValue()
	if l.Batch > 1 {
		read.Add("up-to", model.NumberValue(strconv.Itoa(l.Batch)))
	}
	if l.Parallel > 1 && polled {
		read.Add("parallel", model.NumberValue(strconv.Itoa(l.Parallel)))
		d.Comments[path+".read"] = fmt.Sprintf(
			"Guessed: up to %d concurrent runs were seen; more may be possible.",
			l.Parallel,
		)
	}
	if n.Kind.Leases() && n.Why != "it says so" && l.Tries > 0 {
		read.Add("settle", text("reject"))
	}
	if len(read.Fields) > 0 {
		v.Add("read", read)
	}
	if l.Tries > 0 && to.Kind.Runs() {
		retry := model.MapValue().Add("tries", model.NumberValue(strconv.Itoa(l.Tries)))
		d.Comments[path+".retry"] = fmt.Sprintf(
			"Guessed: the most tries of a message were %d. Whether a lease delays the next try is not in traces.",
			l.Tries,
		)
		if l.RetryWait > 0 && !l.Returned {
			retry.Add("wait", text(duration(roundWait(l.RetryWait))))
		}
		if l.Returned {
			retry.Add("wait", text(duration(roundWait(l.RetryWait))))
			d.Comments[path+".retry"] = fmt.Sprintf(
				"Guessed: failed messages came back through a queue that returns them, after %s at least; the most tries of a message were %d.",
				duration(l.RetryWait),
				l.Tries,
			)
		}
		v.Add("retry", retry)
	}
	dead := d.DeadLetters[n.Name]
	if dead == "" {
		dead = d.DeadLetters[key.To]
	}
	switch {
	case dead != "" && d.Nodes[dead] != nil && !n.Kind.Answers():
		v.Add("dead-letter", text(d.names[dead]))
		if to.Why != "it says so" {
			d.Comments[path+".dead-letter"] = "Guessed: " + d.names[key.To] + " puts there what it has failed to process."
		}
	// our own traces show where what fails for good goes
	case l.Tries > 0 && to.Kind.Runs() && (polled || n.Kind == model.Stream && l.GaveUp > 0) &&
		(n.Why != "it says so" || l.GaveUp == 0):
		name := freeName(d.names[n.Name]+"-failed", d.taken)
		d.taken[name] = true
		v.Add("dead-letter", text(name))
		d.added.Add(name, model.MapValue().Add("kind", text("queue")))
		d.Comments["nodes."+name] = fmt.Sprintf(
			"QUESTION: %s failed for good at %s, and the traces do not show where. If nothing keeps them, remove this queue: they are lost.",
			counted(l.GaveUp, "message"),
			d.names[key.To],
		)
		if l.GaveUp == 0 {
			d.Comments["nodes."+name] = fmt.Sprintf(
				"QUESTION: no message exhausted its tries at %s while this was observed. Where would it go? If nothing keeps it, remove this queue: it is lost.",
				d.names[key.To],
			)
		}
	}
}

// roundWait rounds the least wait that was seen down to the timer behind it: what was
// seen is a little longer.
func roundWait(seconds float64) float64 {
	for _, step := range []float64{60, 10, 1, 0.1, 0.05, 0.01} {
		if near := math.Floor(seconds/step+1e-9) * step; near > 0 && seconds-near < 0.05*near {
			return near
		}
	}
	return seconds
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}

// outcome says when a link sends, by the runs that did: those that went well, those that failed, or both. It gives
// how many of them made so many messages, and how many could have; none: each made one.
func (d *drafter) outcome(n *Node, l *Link, v *model.Value, path string) (per map[int]int, of int) {
	well, failed, gaveUp := total(l.PerRun), total(l.PerFailed), n.Failed
	for key, in := range d.Links {
		if key.To == n.Name && d.Nodes[key.From] != nil && in.GaveUp > 0 {
			gaveUp = min(gaveUp, in.GaveUp) // messages, of which each may have failed several times
		}
	}
	both := maps.Clone(l.PerRun)
	sum(both, l.PerFailed)
	switch {
	case l.When != "":
		v.Add("when", text(l.When))
		return nil, 0
	case l.Wait || failed == 0:
	case well == 0 && l.PerFailed[1] == failed && failed <= gaveUp && float64(failed) >= leastRetried*float64(gaveUp):
		v.Add("when", text("failure"))
		d.Comments[path+".when"] = fmt.Sprintf("Guessed: only runs that failed sent it, %d of %d.", failed, n.Failed)
		return nil, 0
	case well == 0:
		v.Add("at", text("start"))
		d.Comments[path+".at"] = fmt.Sprintf("QUESTION: only runs that failed sent it, %d of %d, and not all that failed "+
			"for good. A model cannot say that; so any run sends it, as often as it was seen.", failed, n.Failed)
		return both, n.Timed.Count + n.Failed
	case float64(failed)*float64(n.Timed.Count) > 0.5*float64(well)*float64(n.Failed):
		v.Add("at", text("start"))
		d.Comments[path+".at"] = fmt.Sprintf("Guessed: runs that failed had sent it, too, %d of %d.", failed, n.Failed)
		return both, n.Timed.Count + n.Failed
	}
	return l.PerRun, n.Timed.Count
}

// count says how many messages a run makes.
func (d *drafter) count(n *Node, l *Link, v *model.Value, path string) {
	per, of := d.outcome(n, l, v, path)
	runs, least, most := 0, math.MaxInt, 0
	for k, times := range per {
		runs += times
		least, most = min(least, k), max(most, k)
	}
	if runs == 0 || of == 0 {
		return
	}
	if runs < of {
		share, in := ShareInterval(runs, of)
		if in[1] < 1 || share < 0.999 {
			v.Add("chance", text(strconv.FormatFloat(100*share, 'g', 3, 64)+"%"))
		}
	}
	switch {
	case least == most && most > 1:
		v.Add("count", model.NumberValue(strconv.Itoa(most)))
	case most > 1:
		var values []*model.Value
		var sorted []int
		for k, times := range per {
			for range times {
				sorted = append(sorted, k)
			}
		}
		sort.Ints(sorted)
		const points = 20
		for i := range min(points, len(sorted)) {
			values = append(
				values,
				model.NumberValue(strconv.Itoa(sorted[(2*i+1)*len(sorted)/(2*min(points, len(sorted)))])),
			)
		}
		v.Add("count", model.MapValue().Add("dist", text("samples")).Add("values", model.ListValue(values...)))
	}
}

// filter says what a link takes, where that is less than what comes: by type, or
// by the folder and ending of objects.
func (d *drafter) filter(n *Node, l *Link, v *model.Value) {
	if len(n.Types) > 1 && len(l.Types) < len(n.Types) {
		var types []string
		for t := range l.Types {
			if t != "" {
				types = append(types, t)
			}
		}
		sort.Strings(types)
		if len(types) == len(l.Types) && len(types) > 0 {
			list := model.ListValue()
			for _, t := range types {
				list.Items = append(list.Items, text(t))
			}
			v.Add("match", model.MapValue().Add("type", list))
			return
		}
	}
	if len(l.Keys) == 0 || len(n.Keys) >= mostKeys || !n.Kind.Keeps() {
		return
	}
	took := map[string]bool{}
	for _, k := range l.Keys {
		took[k] = true
	}
	prefix, suffix := commonPrefix(l.Keys), path.Ext(l.Keys[0])
	for _, k := range l.Keys {
		if path.Ext(k) != suffix {
			suffix = ""
		}
	}
	declined, kept := 0, 0
	for _, k := range n.Keys {
		if took[k] {
			continue
		}
		if strings.HasPrefix(k, prefix) && strings.HasSuffix(k, suffix) {
			kept++
		} else {
			declined++
		}
	}
	if declined == 0 || kept > declined/100 {
		return
	}
	m := model.MapValue()
	if prefix != "" {
		m.Add("prefix", text(prefix))
	}
	if suffix != "" {
		m.Add("suffix", text(suffix))
	}
	if len(m.Fields) > 0 {
		v.Add("match", m)
	}
}

// commonPrefix gives the folder that all keys are in, with its slash.
func commonPrefix(keys []string) string {
	prefix := keys[0]
	for _, k := range keys {
		for !strings.HasPrefix(k, prefix) {
			prefix = prefix[:len(prefix)-1]
		}
	}
	return prefix[:strings.LastIndex(prefix, "/")+1]
}

// template makes a key template of the keys that were seen: what is the same in
// all of them stays, what differs becomes a variable.
func template(keys []string) string {
	parts := strings.Split(keys[0], "/")
	same := make([]bool, len(parts))
	for i := range same {
		same[i] = true
	}
	ext := path.Ext(keys[0])
	for _, k := range keys {
		other := strings.Split(k, "/")
		if len(other) != len(parts) {
			return "{key}"
		}
		for i := range parts {
			same[i] = same[i] && parts[i] == other[i]
		}
		if path.Ext(k) != ext {
			ext = ""
		}
	}
	for i := range parts {
		if same[i] && len(keys) > 1 {
			continue
		}
		if parts[i] = fmt.Sprintf("{part%d}", i+1); i == len(parts)-1 {
			parts[i] = "{seq}" + ext
		}
	}
	return strings.Join(parts, "/")
}

func (d *drafter) schedule(n *Node, v *model.Value) {
	if n.Cron != "" {
		v.Add("cron", text(n.Cron))
		d.Comments["nodes."+d.names[n.Name]+".cron"] = "The zone is not in traces: UTC until somebody says otherwise."
		return
	}
	sort.Slice(n.Fires, func(i, j int) bool { return n.Fires[i] < n.Fires[j] })
	every := time.Hour
	if len(n.Fires) > 1 {
		var gaps []time.Duration
		for i := 1; i < len(n.Fires); i++ {
			gaps = append(gaps, time.Duration(n.Fires[i]-n.Fires[i-1]))
		}
		sort.Slice(gaps, func(i, j int) bool { return gaps[i] < gaps[j] })
		every = max(gaps[len(gaps)/2].Round(time.Second), time.Second)
	}
	v.Add("every", text(model.FormatDuration(every)))
	d.Comments["nodes."+d.names[n.Name]+".every"] = fmt.Sprintf(
		"Guessed: the middle gap between %d starts.",
		len(n.Fires),
	)
}

// scenario makes the traffic of what came in from outside: an hourly curve where
// at least two hours were seen.
func (d *drafter) scenario(name string) {
	start := time.Unix(0, d.From).UTC().Truncate(time.Hour)
	length := time.Unix(0, d.Until).UTC().Sub(start).Truncate(time.Hour) + time.Hour
	traffic := model.MapValue()
	var entries []string
	for name := range d.Entries {
		entries = append(entries, name)
	}
	sort.Strings(entries)
	for _, entry := range entries {
		e := d.Entries[entry]
		t := model.MapValue().Add("into", text(d.names[entry]))
		hours := int(length / time.Hour)
		counts := make([]int, hours)
		for _, at := range e.Times {
			counts[min(int(time.Unix(0, at).UTC().Sub(start)/time.Hour), hours-1)]++
		}
		if hours < 2 {
			seconds := max(time.Duration(d.Until-d.From).Seconds(), 1)
			t.Add("rate", text(model.FormatRate(float64(len(e.Times))/seconds)))
		} else {
			curve := model.ListValue()
			for h, n := range counts {
				if h == 0 || n != counts[h-1] {
					curve.Items = append(curve.Items, model.ListValue(text(fmt.Sprintf("%dh", h)), text(fmt.Sprintf("%d/h", n))))
				}
			}
			t.Add("arrivals", model.MapValue().Add("curve", curve))
		}
		if len(e.Keys) > 0 {
			t.Add("key", text(template(e.Keys)))
		}
		traffic.Add(d.names[entry], t)
		say := fmt.Sprintf("%d seen.", len(e.Times))
		if dispersion, ok := dispersionOf(e.Times, d.From, d.Until); ok && dispersion.Bursts {
			say += " " + dispersion.String()
		}
		d.ScenarioComments["traffic."+d.names[entry]] = say
	}
	d.Scenario = model.MapValue().Add(
		"ironweir",
		text("scenario/1"),
	).Add(
		"name",
		text(freeName(name+"-observed", nil)),
	).
		Add(
			"start",
			text(start.Format(time.RFC3339)),
		).Add(
		"length",
		text(model.FormatDuration(length)),
	).Add(
		"traffic",
		traffic,
	)
	if stops := d.stops(start); len(stops.Fields) > 0 {
		d.Scenario.Add("incidents", stops)
	}
	d.ScenarioComments["ironweir"] = "Traffic by the hour, as observed. Sampled traces show less than there was."
}

// stops are the incidents of consumers that took nothing while messages waited for them.
func (d *drafter) stops(start time.Time) *model.Value {
	incidents, taken := model.MapValue(), map[string]bool{}
	for _, n := range d.ordered() {
		for _, s := range n.Stops {
			name := freeName(d.names[n.Name]+"-stopped", taken)
			taken[name] = true
			length := time.Duration(s.Until - s.From)
			incidents.Add(name, model.MapValue().
				Add("at", text(model.FormatDuration(time.Unix(0, s.From).Sub(start).Round(time.Millisecond)))).
				Add("for", text(model.FormatDuration(length.Round(time.Millisecond)))).
				Add("node", text(d.names[n.Name])).
				Add("stopped", &model.Value{Shape: model.Bool, Scalar: "true"}))
			d.ScenarioComments["incidents."+name] = fmt.Sprintf(
				"Guessed: messages waited, and none was taken for %s.", duration(length.Seconds()))
		}
	}
	return incidents
}
