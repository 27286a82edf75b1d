package sim

import (
	"cmp"
	"fmt"
	"math"
	"sort"
	"time"

	"ironweir/core/sim/internal/random"

	"ironweir/core/cadence"
	"ironweir/core/expr"
	"ironweir/core/model"
)

// traffic is one source of messages from outside.
type traffic struct {
	spec     *model.Traffic
	pattern  pattern
	to       *node
	way      *delivery // of what comes from outside to that node
	most     int64     // messages that it sends
	gap      float64   // mean nanoseconds between two messages
	arrivals *random.Stream
	choice   *random.Stream
	key      *expr.Template
	shared   uint32 // content of all its messages, where they are alike; it lasts as long as the run
	samples  []model.EventFile
	weights  []float64 // cumulative, last 1
	sent     int64
	burstOff bool
	phaseEnd int64
	replay   []Arrival // what is still to come
}

// pattern is how the messages of a source are spread in time.
type pattern uint8

const (
	poisson pattern = iota
	even
	inBursts
	onCurve
	replayed
)

var patterns = map[string]pattern{
	"poisson": poisson,
	"even":    even,
	"burst":   inBursts,
	"curve":   onCurve,
	"replay":  replayed,
}

func (e *engine) setUpTraffic() error {
	specs := e.scenario.Traffic
	if !e.scenario.TrafficGiven && e.plan.follow == nil {
		specs = nil
		for i := range e.g.Nodes {
			n := &e.g.Nodes[i]
			if n.Rate > 0 && !n.Kind.Fires() {
				t := &model.Traffic{Name: n.Name, Into: n.Name, Rate: n.Rate, Arrivals: "poisson"}
				if len(n.Node.Keys) > 0 {
					t.Key = n.Node.Keys[0]
				}
				specs = append(specs, t)
			}
		}
	}
	for _, spec := range specs {
		t, err := e.newTraffic(spec)
		if err != nil {
			return err
		}
		if t.pattern == replayed {
			if err := e.setUpReplay(&t); err != nil {
				return err
			}
		}
		if t.key == nil && len(t.samples) <= 1 && t.pattern != replayed {
			t.shared = e.newContent()
			e.fillContent(&e.contents[t.shared], &t, 0)
		}
		e.traffic = append(e.traffic, t)
	}
	e.lasting = uint32(len(e.contents)) - 1
	for i := range e.traffic {
		if t := &e.traffic[i]; t.pattern == replayed {
			e.nextReplayed(t, uint32(i))
		} else if at := e.nextArrival(t); e.within(at) {
			e.AddSource(at, evArrive, uint32(i))
		}
	}
	return nil
}

// newTraffic makes a source of messages from outside.
func (e *engine) newTraffic(spec *model.Traffic) (traffic, error) {
	t := traffic{
		spec:     spec,
		pattern:  patterns[spec.Arrivals],
		arrivals: e.stream(spec.Name, "arrivals"),
		choice:   e.stream(spec.Name, "choice"),
	}
	into := e.g.NodeID(spec.Into)
	if into < 0 {
		return t, fmt.Errorf("traffic %s: the model has no node %q", spec.Name, spec.Into)
	}
	t.to, t.most = &e.nodes[into], math.MaxInt64
	t.way = &e.deliveries[t.to.outWay]
	if spec.Max > 0 {
		t.most = spec.Max
	}
	if spec.Rate > 0 {
		t.gap = 1e9 / spec.Rate
	}
	key := spec.Key
	if n := &e.g.Nodes[into]; key == "" && len(n.Node.Keys) > 0 {
		key = n.Node.Keys[0] // outsiders write what the bucket says
	}
	if key != "" {
		var err error
		if t.key, err = expr.ParseTemplate(key, true); err != nil {
			return t, err
		}
	}
	if a := e.g.Nodes[into].Accepts; a != nil && len(spec.Events) == 0 && t.pattern != replayed {
		t.samples, t.weights = []model.EventFile{{Data: expr.Example(a.Document)}}, []float64{1}
	}
	sum := 0.0
	for _, ev := range spec.Events {
		sample, ok := e.plan.Inputs.Events[ev.File]
		if !ok && ev.Data == nil {
			return t, fmt.Errorf(
				"traffic %s: the event file %q is not at hand here; write its payload into the scenario as `data`",
				spec.Name,
				ev.File,
			)
		}
		sum += ev.Weight
		t.samples, t.weights = append(t.samples, ev.Over(sample)), append(t.weights, sum)
	}
	for k := range t.weights {
		if sum == 0 {
			break
		}
		t.weights[k] /= sum
	}
	return t, nil
}

// attributesOf gives the attributes of an event that a scenario states; nil: none.
func attributesOf(id, source string, extensions map[string]any) *Attributes {
	if id == "" && source == "" && len(extensions) == 0 {
		return nil
	}
	return &Attributes{ID: id, Source: source, Extensions: extensions}
}

func (e *engine) fillContent(c *content, t *traffic, choice int) {
	c.kind, c.size = t.spec.Type, t.spec.Size
	if len(t.samples) > 0 {
		s := &t.samples[choice]
		c.data, c.attributes, c.kind = s.Data, s.Attributes, cmp.Or(s.Type, c.kind)
		c.subject = append(c.subject, s.Subject...)
	}
}

// within reports whether an instant lies within the run; what is too far off to be
// counted in nanoseconds does not.
func (e *engine) within(at int64) bool { return uint64(at) < uint64(e.end) }

// afterGap is the next instant of a Poisson stream of one rate.
func (t *traffic) afterGap(now int64, exponential float64) int64 {
	return now + int64(exponential*t.gap+0.5)
}

// nextArrival draws when the next message of a source comes; one that does not come
// within the run comes at its end or later.
func (e *engine) nextArrival(t *traffic) int64 {
	switch {
	case t.sent >= t.most:
		return e.end
	case t.pattern == poisson && t.gap > 0:
		return t.afterGap(e.Now, t.arrivals.Exponential())
	case t.pattern == even && t.gap > 0:
		return int64(float64(t.sent+1)*t.gap + 0.5)
	case t.pattern == inBursts:
		return e.nextBurst(t)
	case t.pattern == onCurve:
		return e.nextOnCurve(t)
	}
	return e.end
}

// nextReplayed schedules the next message of a replay.
func (e *engine) nextReplayed(t *traffic, i uint32) {
	if len(t.replay) == 0 || t.sent >= t.most {
		return
	}
	if at := t.replay[0].At.Sub(e.start); at < time.Duration(e.end) {
		e.First(int64(at), evReplay, i)
	}
}

// nextBurst draws the next arrival of a source that sends in bursts, Poisson
// within each phase (a phase's end forgets what was drawn).
func (e *engine) nextBurst(t *traffic) int64 {
	b := t.spec.Burst
	now := float64(e.Now)
	if t.phaseEnd == 0 {
		t.phaseEnd = int64(b.On)
	}
	for {
		rate := b.Rate
		if t.burstOff {
			rate = t.spec.Rate
		}
		if rate > 0 {
			if at := now + t.arrivals.Exponential()*1e9/rate; at < float64(t.phaseEnd) {
				return int64(at)
			}
		}
		now = float64(t.phaseEnd)
		if t.phaseEnd >= e.end {
			return e.end
		}
		t.burstOff = !t.burstOff && b.Off > 0
		if t.burstOff {
			t.phaseEnd += int64(b.Off)
		} else {
			t.phaseEnd += int64(b.On)
		}
	}
}

// nextOnCurve draws the next arrival of a Poisson source whose rate follows
// steps in time.
func (e *engine) nextOnCurve(t *traffic) int64 {
	now := float64(e.Now)
	for k, p := range t.spec.Curve {
		until := math.Inf(1)
		if k+1 < len(t.spec.Curve) {
			until = float64(t.spec.Curve[k+1].At)
		}
		if now >= until {
			continue
		}
		now = max(now, float64(p.At))
		if p.Rate > 0 {
			if at := now + t.arrivals.Exponential()*1e9/p.Rate; at < until {
				return int64(min(at, float64(e.end)))
			}
		}
		if math.IsInf(until, 1) {
			return e.end
		}
		now = until
	}
	return e.end
}

// arrive brings one message from outside.
func (e *engine) arrive(i uint32) {
	t := &e.traffic[i]
	t.sent++
	var at int64
	if t.sent < t.most && t.pattern == poisson &&
		t.gap > 0 { // as nextArrival does, with the draw compiled into this function
		at = t.afterGap(e.Now, t.arrivals.Exponential())
	} else {
		at = e.nextArrival(t)
	}
	if e.within(at) {
		e.AdvanceSource(at, evArrive, i)
	} else {
		e.ExhaustSource()
	}
	con := t.shared
	if con == 0 {
		con = e.drawContent(t)
	}
	if t.to.atOnce {
		e.enterFast(t.to, t.way, con)
	} else {
		e.enter(int32(t.to.id), con)
	}
}

// drawContent makes what the next message of a source says.
func (e *engine) drawContent(t *traffic) uint32 {
	choice := 0
	if len(t.weights) > 1 {
		choice = sort.SearchFloat64s(t.weights, t.choice.Unit())
	}
	con := e.newContent()
	c := &e.contents[con]
	e.fillContent(c, t, choice)
	if t.key != nil && len(c.subject) == 0 {
		f := expr.Filling{Seq: uint64(t.sent), ID: e.nextJour + 1, Time: e.instant(e.Now), Data: c.data}
		c.subject = t.key.Append(c.subject, &f)
	}
	return con
}

// setUpReplay takes the events of a file that fall within the run, in the order
// of their times.
func (e *engine) setUpReplay(t *traffic) error {
	all, ok := e.plan.Inputs.Replays[t.spec.Replay]
	for _, ev := range t.spec.Replayed {
		a := Arrival{
			At:         e.instant(int64(ev.At)),
			Type:       ev.Type,
			Subject:    ev.Key,
			Size:       ev.Size,
			Attributes: attributesOf(ev.ID, ev.Source, ev.Extensions),
		}
		if ev.Data != nil {
			a.Data = ev.Data.Plain()
		}
		all, ok = append(all, a), true
	}
	if !ok {
		return fmt.Errorf("traffic %s: the replay file %q is not at hand here", t.spec.Name, t.spec.Replay)
	}
	end := e.start.Add(time.Duration(e.end))
	for _, a := range all {
		if !a.At.Before(e.start) && a.At.Before(end) {
			t.replay = append(t.replay, a)
		}
	}
	sort.SliceStable(t.replay, func(a, b int) bool { return t.replay[a].At.Before(t.replay[b].At) })
	if len(t.replay) == 0 {
		return fmt.Errorf(
			"traffic %s: none of the %d events of %s falls within the run, from %s to %s",
			t.spec.Name,
			len(all),
			cmp.Or(t.spec.Replay, "its replay"),
			e.start.Format(time.RFC3339),
			end.Format(time.RFC3339),
		)
	}
	return nil
}

// arriveAgain brings the next message of a replay.
func (e *engine) arriveAgain(i uint32) {
	t := &e.traffic[i]
	a := t.replay[0]
	t.replay = t.replay[1:]
	t.sent++
	e.nextReplayed(t, i)
	con := e.newContent()
	c := &e.contents[con]
	c.kind, c.size, c.data, c.attributes = a.Type, a.Size, a.Data, a.Attributes
	if c.size == 0 {
		c.size = t.spec.Size
	}
	if c.kind == "" {
		c.kind = t.spec.Type
	}
	c.subject = append(c.subject, a.Subject...)
	if a.Subject == "" && t.key != nil {
		f := expr.Filling{Seq: uint64(t.sent), ID: e.nextJour + 1, Time: e.instant(e.Now), Data: c.data}
		c.subject = t.key.Append(c.subject, &f)
	}
	e.enter(int32(t.to.id), con)
}

// enter brings a message from outside to a node.
func (e *engine) enter(to int32, con uint32) {
	e.tally.entered++
	jour, _ := e.newJourney(to)
	m := message{journey: jour, content: con, node: -1}
	e.deliver(e.nodes[to].outWay, &m, con, 0)
	e.dropContent(con)
}

// calendar is the state of a schedule.
type calendar struct {
	every    int64
	first    int64
	cron     *cadence.Calendar
	zone     *time.Location
	until    int64 // math.MaxInt64: none
	jitter   int64
	luck     *random.Stream
	next     int64 // the instant of the calendar, without jitter
	sequence uint64
	enabled  bool
}

func (e *engine) setUpSchedule(n *node) error {
	gn := &e.g.Nodes[n.id]
	zone, err := time.LoadLocation(gn.Zone)
	if err != nil {
		return fmt.Errorf("%s: %w", gn.Name, err)
	}
	s := &calendar{
		every:   int64(gn.Every),
		zone:    zone,
		until:   math.MaxInt64,
		jitter:  int64(gn.Jitter),
		luck:    e.stream(gn.Name, "jitter"),
		enabled: gn.Enabled,
		next:    -1,
	}
	n.schedule = s
	n.off = !gn.Enabled
	if gn.Cron != "" {
		if s.cron, err = cadence.Parse(gn.Cron, gn.CronFields, gn.Sunday); err != nil {
			return fmt.Errorf("%s: %w", gn.Name, err)
		}
	}
	s.first = s.every
	if gn.From != nil {
		s.first = int64(gn.From.Sub(e.start))
		if s.every > 0 && s.first < 0 { // it goes on since before the run
			s.first += (-s.first + s.every - 1) / s.every * s.every
		}
	}
	if gn.Until != nil {
		s.until = int64(gn.Until.Sub(e.start))
	}
	if e.plan.follow == nil {
		e.nextFire(n)
	}
	return nil
}

// nextFire schedules the next instant of a schedule's calendar.
func (e *engine) nextFire(n *node) {
	s := n.schedule
	switch {
	case s.cron == nil && s.next < 0:
		s.next = s.first
	case s.cron == nil:
		s.next += s.every
	default:
		after := e.start.Add(-time.Nanosecond)
		if s.next >= 0 {
			after = e.instant(s.next)
		} else if s.first > 0 {
			after = e.instant(s.first).Add(-time.Nanosecond)
		}
		t, ok := s.cron.Next(after, s.zone)
		if !ok {
			return
		}
		s.next = int64(t.Sub(e.start))
	}
	at := s.next
	if s.jitter > 0 {
		at += int64(s.luck.Unit() * float64(s.jitter))
	}
	if s.next < s.until && at < e.end {
		e.Schedule(at, evFire, uint32(n.id))
	}
}

func (e *engine) fire(n *node) {
	e.nextFire(n)
	if n.off {
		return
	}
	e.fireNow(n)
}

// fireNow makes the message of a schedule's fire.
func (e *engine) fireNow(n *node) {
	gn := &e.g.Nodes[n.id]
	n.schedule.sequence++
	e.tally.entered++
	con := e.newContent()
	jour, _ := e.newJourney(int32(n.id))
	m := message{journey: jour, content: con, node: -1}
	c := &e.contents[con]
	c.subject = append(c.subject, gn.Name...)
	c.source = int32(n.id)
	if gn.Payload != nil {
		c.data, _ = gn.Payload.Value(e.eventOfMessage(&m, "fired"))
	}
	i := e.newCopy(n, n.ownWay, &m, con, 0)
	if e.trace != nil {
		e.trace.comes(e, i, &m)
	}
	e.dropContent(con)
	e.ScheduleNow(evFan, i)
}
