// Package traffic brings messages from outside, and lets schedules fire.
package traffic

import (
	"cmp"
	"fmt"
	"math"
	"sort"
	"time"

	"ironweir/core/expr"
	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/random"
)

// Sources bring messages from outside, and let schedules fire.
type Sources struct {
	*engine.Engine
	list      []source
	calendars map[int]*calendar // by node
	put       map[int]uint32    // the source of what is put in on the way, by node
}

// New makes the sources of a replication.
func New(e *engine.Engine) *Sources {
	return &Sources{Engine: e, calendars: map[int]*calendar{}, put: map[int]uint32{}}
}

// source is one source of messages from outside.
type source struct {
	spec     *model.Traffic
	pattern  pattern
	to       *engine.Node
	way      *engine.Delivery // of what comes from outside to that node
	most     int64            // messages that it sends
	gap      float64          // mean nanoseconds between two messages
	arrivals *random.Stream
	choice   *random.Stream
	key      *expr.Template
	shared   uint32 // content of all its messages, where they are alike; it lasts as long as the run
	samples  []model.EventFile
	weights  []float64 // cumulative, last 1
	sent     int64
	burstOff bool
	phaseEnd int64
	replay   []engine.Arrival // what is still to come
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

func (e *Sources) SetUp() error {
	specs := e.Scenario.Traffic
	if !e.Scenario.TrafficGiven && !e.Follows() {
		specs = nil
		for i := range e.Graph.Nodes {
			n := &e.Graph.Nodes[i]
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
		t, err := e.newSource(spec)
		if err != nil {
			return err
		}
		if t.pattern == replayed {
			if err := e.setUpReplay(&t); err != nil {
				return err
			}
		}
		if t.key == nil && len(t.samples) <= 1 && t.pattern != replayed {
			t.shared = e.NewContent()
			e.fillContent(&e.Contents[t.shared], &t, 0)
		}
		e.list = append(e.list, t)
	}
	e.Lasting = uint32(len(e.Contents)) - 1
	for i := range e.list {
		if t := &e.list[i]; t.pattern == replayed {
			e.nextReplayed(t, uint32(i))
		} else if at := e.nextArrival(t); e.within(at) {
			e.AddSource(at, engine.EvArrive, uint32(i))
		}
	}
	return nil
}

// newSource makes a source of messages from outside.
func (e *Sources) newSource(spec *model.Traffic) (source, error) {
	t := source{
		spec:     spec,
		pattern:  patterns[spec.Arrivals],
		arrivals: e.Stream(spec.Name, "arrivals"),
		choice:   e.Stream(spec.Name, "choice"),
	}
	into := e.Graph.NodeID(spec.Into)
	if into < 0 {
		return t, fmt.Errorf("traffic %s: the model has no node %q", spec.Name, spec.Into)
	}
	t.to, t.most = &e.Nodes[into], math.MaxInt64
	t.way = &e.Deliveries[t.to.OutWay]
	if spec.Max > 0 {
		t.most = spec.Max
	}
	if spec.Rate > 0 {
		t.gap = 1e9 / spec.Rate
	}
	key := spec.Key
	if n := &e.Graph.Nodes[into]; key == "" && len(n.Node.Keys) > 0 {
		key = n.Node.Keys[0] // outsiders write what the bucket says
	}
	if key != "" {
		var err error
		if t.key, err = expr.ParseTemplate(key, true); err != nil {
			return t, err
		}
	}
	usual := e.Graph.Nodes[into].UsualEvent()
	if e.Graph.Nodes[into].Accepts != nil && len(spec.Events) == 0 && t.pattern != replayed {
		t.samples, t.weights = []model.EventFile{usual}, []float64{1}
	}
	sum := 0.0
	for _, ev := range spec.Events {
		sample, ok := e.Plan.Inputs.Events[ev.File]
		if ev.File == "" {
			sample = usual
		} else if !ok {
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
func attributesOf(id, source string, extensions map[string]any) *engine.Attributes {
	if id == "" && source == "" && len(extensions) == 0 {
		return nil
	}
	return &engine.Attributes{ID: id, Source: source, Extensions: extensions}
}

func (e *Sources) fillContent(c *engine.Content, t *source, choice int) {
	c.Kind, c.Size = t.spec.Type, t.spec.Size
	if len(t.samples) > 0 {
		s := &t.samples[choice]
		c.Data, c.Attributes, c.Kind = s.Data, s.Attributes, cmp.Or(s.Type, c.Kind)
		c.Subject = append(c.Subject, s.Subject...)
	}
}

// within reports whether an instant lies within the run; what is too far off to be
// counted in nanoseconds does not.
func (e *Sources) within(at int64) bool { return uint64(at) < uint64(e.End) }

// afterGap is the next instant of a Poisson stream of one rate.
func (t *source) afterGap(now int64, exponential float64) int64 {
	return now + int64(exponential*t.gap+0.5)
}

// nextArrival draws when the next message of a source comes; one that does not come
// within the run comes at its end or later.
func (e *Sources) nextArrival(t *source) int64 {
	switch {
	case t.sent >= t.most:
		return e.End
	case t.pattern == poisson && t.gap > 0:
		return t.afterGap(e.Now, t.arrivals.Exponential())
	case t.pattern == even && t.gap > 0:
		return int64(float64(t.sent+1)*t.gap + 0.5)
	case t.pattern == inBursts:
		return e.nextBurst(t)
	case t.pattern == onCurve:
		return e.nextOnCurve(t)
	}
	return e.End
}

// nextReplayed schedules the next message of a replay.
func (e *Sources) nextReplayed(t *source, i uint32) {
	if len(t.replay) == 0 || t.sent >= t.most {
		return
	}
	if at := t.replay[0].At.Sub(e.Start); at < time.Duration(e.End) {
		e.First(int64(at), engine.EvReplay, i)
	}
}

// nextBurst draws the next arrival of a source that sends in bursts, Poisson
// within each phase (a phase's end forgets what was drawn).
func (e *Sources) nextBurst(t *source) int64 {
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
		if t.phaseEnd >= e.End {
			return e.End
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
func (e *Sources) nextOnCurve(t *source) int64 {
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
				return int64(min(at, float64(e.End)))
			}
		}
		if math.IsInf(until, 1) {
			return e.End
		}
		now = until
	}
	return e.End
}

// Arrive brings the next message of a source.
func (e *Sources) Arrive(i uint32) {
	t := &e.list[i]
	t.sent++
	var at int64
	if t.sent < t.most && t.pattern == poisson &&
		t.gap > 0 { // as nextArrival does, with the draw compiled into this function
		at = t.afterGap(e.Now, t.arrivals.Exponential())
	} else {
		at = e.nextArrival(t)
	}
	if e.within(at) {
		e.AdvanceSource(at, engine.EvArrive, i)
	} else {
		e.ExhaustSource()
	}
	con := t.shared
	if con == 0 {
		con = e.drawContent(t)
	}
	if t.to.AtOnce {
		e.EnterFast(t.to, t.way, con)
	} else {
		e.Enter(int32(t.to.ID), con, 0)
	}
}

// drawContent makes what the next message of a source says.
func (e *Sources) drawContent(t *source) uint32 {
	choice := 0
	if len(t.weights) > 1 {
		choice = sort.SearchFloat64s(t.weights, t.choice.Unit())
	}
	con := e.NewContent()
	c := &e.Contents[con]
	e.fillContent(c, t, choice)
	if t.key != nil && len(c.Subject) == 0 {
		f := expr.Filling{Seq: uint64(t.sent), ID: e.NextJour + 1, Time: e.Instant(e.Now), Data: c.Data}
		c.Subject = t.key.Append(c.Subject, &f)
	}
	return con
}

// setUpReplay takes the events of a file that fall within the run, in the order
// of their times.
func (e *Sources) setUpReplay(t *source) error {
	all, ok := e.Plan.Inputs.Replays[t.spec.Replay]
	for _, ev := range t.spec.Replayed {
		a := engine.Arrival{
			At:         e.Instant(int64(ev.At)),
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
	end := e.Start.Add(time.Duration(e.End))
	for _, a := range all {
		if !a.At.Before(e.Start) && a.At.Before(end) {
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
			e.Start.Format(time.RFC3339),
			end.Format(time.RFC3339),
		)
	}
	return nil
}

// ArriveAgain brings the next message of a replay.
func (e *Sources) ArriveAgain(i uint32) {
	t := &e.list[i]
	a := t.replay[0]
	t.replay = t.replay[1:]
	t.sent++
	e.nextReplayed(t, i)
	con := e.NewContent()
	c := &e.Contents[con]
	c.Kind, c.Size, c.Data, c.Attributes = a.Type, a.Size, a.Data, a.Attributes
	if c.Size == 0 {
		c.Size = t.spec.Size
	}
	if c.Kind == "" {
		c.Kind = t.spec.Type
	}
	c.Subject = append(c.Subject, a.Subject...)
	if a.Subject == "" && t.key != nil {
		f := expr.Filling{Seq: uint64(t.sent), ID: e.NextJour + 1, Time: e.Instant(e.Now), Data: c.Data}
		c.Subject = t.key.Append(c.Subject, &f)
	}
	e.Enter(int32(t.to.ID), con, 0)
}

// Bring lets an event come in at a node now, as one of a replay does.
func (e *Sources) Bring(n *engine.Node, a engine.Arrival) {
	i, there := e.put[n.ID]
	if !there {
		s, err := e.newSource(&model.Traffic{Name: n.Name, Into: n.Name, Arrivals: "replay"})
		if err != nil { // the node is there, and so its keys parse
			panic(err)
		}
		i = uint32(len(e.list))
		e.list = append(e.list, s)
		e.put[n.ID] = i
	}
	e.list[i].replay = append(e.list[i].replay, a)
	e.ArriveAgain(i)
}

// NodeOf gives the node that a source sends to.
func (e *Sources) NodeOf(i uint32) int { return e.list[i].to.ID }

// Enter brings a message from outside to a node.
func (e *Sources) Enter(to int32, con uint32, flags engine.Flags) {
	e.Tally.Entered++
	jour, _ := e.NewJourney(to)
	m := engine.Message{Journey: jour, Content: con, Node: -1}
	e.Deliver(e.Nodes[to].OutWay, &m, con, flags)
	e.DropContent(con)
}
