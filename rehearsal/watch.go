package rehearsal

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"ironweir/core/model"
	"ironweir/core/sim"
)

// State is how a rehearsal stands. Counts are totals since its start.
type State struct {
	Frame    uint64          `json:"frame"` // grows with each state that is sent
	Now      float64         `json:"now_s" doc:"since the start of the scenario"`
	Start    time.Time       `json:"start" doc:"the simulated instant at which it starts"`
	Length   float64         `json:"length_s" doc:"of the scenario; 0: without end"`
	Pace     float64         `json:"pace" doc:"simulated seconds for each of the clock"`
	Running  bool            `json:"running" doc:"time passes"`
	Behind   bool            `json:"behind" doc:"the machine does not keep the pace; time passes as fast as it can"`
	Busy     bool            `json:"busy" doc:"the time is being rewound, or a result is computed"`
	Ahead    bool            `json:"ahead" doc:"time was rewound: later inputs are replayed until somebody makes a new one"`
	Stopped  string          `json:"stopped,omitempty" doc:"why it cannot go on"`
	Entered  int64           `json:"entered"`
	Underway int64           `json:"underway" doc:"copies"`
	Lost     int64           `json:"lost"`
	Parked   int64           `json:"parked"`
	Events   int64           `json:"events" doc:"that the engine has handled"`
	Watchers []string        `json:"watchers" doc:"the viewers"`
	Pointers []Pointer       `json:"pointers" doc:"where viewers point on the board"`
	Nodes    map[string]Node `json:"nodes"`
	Links    map[string]Link `json:"links"`
	Acts     []Act           `json:"acts" doc:"what users did, the latest last"`
}

// Node is how a node stands.
type Node struct {
	Copies      int64    `json:"copies"`
	Depth       int64    `json:"depth"`
	Running     int64    `json:"running" doc:"runs now"`
	Runs        int64    `json:"runs"`
	Failures    int64    `json:"failures"`
	Throttled   int64    `json:"throttled"`
	Handled     int64    `json:"handled"`
	Parked      int64    `json:"parked"`
	Lost        int64    `json:"lost"`
	Oldest      float64  `json:"oldest_s"`
	Fails       *float64 `json:"fails,omitempty" doc:"failure share set by an active incident"`
	Slow        *float64 `json:"slow,omitempty" doc:"times as slow, by an incident"`
	Concurrency *int64   `json:"concurrency,omitempty" doc:"concurrency set by an active incident"`
	Off         bool     `json:"off,omitempty" doc:"a schedule that is switched off"`
	Stopped     bool     `json:"stopped,omitempty" doc:"its process is not running"`

	Hook *HookTimes `json:"hook,omitempty" doc:"real times of its handler, where it has one"`
}

// Link is how a link stands.
type Link struct {
	Messages int64 `json:"messages" doc:"that it took"`
	Paused   bool  `json:"paused,omitempty"`
	Off      bool  `json:"off,omitempty" doc:"switched off"`
}

// Act is something that somebody did.
type Act struct {
	At    float64   `json:"at_s" doc:"simulated"`
	Clock time.Time `json:"clock"`
	Who   string    `json:"who"`
	What  string    `json:"what"`
	Times int       `json:"times" doc:"as often, one after the other"`
}

// acts are the latest things that people did.
type acts struct{ list []Act }

const mostActs = 100

func (a *acts) say(who, what string, at time.Duration) {
	if n := len(a.list); n > 0 && a.list[n-1].Who == who && a.list[n-1].What == what {
		a.list[n-1].Times++
		a.list[n-1].At, a.list[n-1].Clock = at.Seconds(), time.Now()
		return
	}
	if len(a.list) == mostActs {
		a.list = append(a.list[:0], a.list[1:]...)
	}
	a.list = append(a.list, Act{at.Seconds(), time.Now(), who, what, 1})
}

func (a *acts) add(in *sim.Input, at time.Duration) {
	if in.Reply == nil {
		a.say(in.By, inWords(in), at)
	}
}

// inWords says what somebody did.
func inWords(in *sim.Input) string {
	switch {
	case in.Event != nil && in.Event.Wanted:
		return "sent a request to " + in.Event.Node
	case in.Event != nil:
		return "sent an event to " + in.Event.Node
	case in.Incident != nil:
		return incidentInWords(in.Incident)
	case in.End != nil:
		return "healed what was done by hand (" + fmt.Sprint(len(in.End)) + ")"
	case in.Move != nil && in.Move.To == "":
		return fmt.Sprintf("removed message %d", in.Move.Message)
	case in.Move != nil:
		return fmt.Sprintf("sent message %d to %s", in.Move.Message, in.Move.To)
	}
	return "answered for a run"
}

func incidentInWords(in *model.Incident) string {
	target := in.Node
	switch {
	case in.Group != "":
		target = "group " + in.Group
	case in.Link != "":
		target = in.Link
	}
	switch {
	case in.SendBack != nil:
		return fmt.Sprintf(
			"sends back from %s to %s, %s",
			in.SendBack.From,
			in.SendBack.To,
			model.FormatRate(in.SendBack.Rate),
		)
	case in.Crash:
		return "crashed " + target
	case in.Stopped != nil && *in.Stopped:
		return "stopped " + target
	case in.Stopped != nil:
		return "started " + target + " again"
	case in.Paused != nil && *in.Paused:
		return "paused " + in.Link
	case in.Paused != nil:
		return "resumed " + in.Link
	case in.Fails != nil && *in.Fails >= 1 && in.Reads:
		return "failed " + target + ", reads too"
	case in.Fails != nil && *in.Fails >= 1:
		return "failed " + target
	case in.Fails != nil:
		return fmt.Sprintf("made %s fail %g%%", target, *in.Fails*100)
	case in.Slow != nil:
		return fmt.Sprintf("made %s %g times as slow", target, *in.Slow)
	case in.Concurrency != nil:
		return fmt.Sprintf("set the concurrency of %s to %d", target, *in.Concurrency)
	case in.Enabled != nil && *in.Enabled:
		return "switched " + target + " on"
	case in.Enabled != nil:
		return "switched " + target + " off"
	}
	return "started an incident"
}

// State reports how the rehearsal stands.
func (r *Rehearsal) State() (*State, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case r.over:
		return nil, ErrOver
	case r.fault != nil:
		return nil, r.fault
	case !r.busy:
		r.catchUp()
	}
	return r.state(), nil
}

func (r *Rehearsal) state() *State {
	g := r.plan.Graph
	l := r.live.State()
	s := &State{
		Frame:    r.frames,
		Now:      l.Now.Seconds(),
		Start:    r.scenario.Start,
		Pace:     r.pace,
		Running:  r.running,
		Behind:   r.behind,
		Busy:     r.busy,
		Ahead:    r.replay != nil,
		Stopped:  l.Stopped,
		Entered:  l.Entered,
		Underway: l.Underway,
		Lost:     l.Lost,
		Parked:   l.Parked,
		Events:   l.Events,
		Watchers: []string{},
		Pointers: r.pointed(),
		Nodes:    make(map[string]Node, len(l.Nodes)),
		Links:    make(map[string]Link, len(l.Links)),
		Acts:     slices.Clone(r.acts.list),
	}
	if s.Acts == nil {
		s.Acts = []Act{}
	}
	if r.plan.Scenario != nil {
		s.Length = r.live.End().Seconds()
	}
	for w := range r.watchers {
		if !slices.Contains(s.Watchers, w.who) {
			s.Watchers = append(s.Watchers, w.who)
		}
	}
	slices.Sort(s.Watchers)
	for i := range l.Nodes {
		x := &l.Nodes[i]
		n := Node{
			Copies:    x.Copies,
			Depth:     x.Depth,
			Running:   x.Active,
			Runs:      x.Runs,
			Failures:  x.Failures,
			Throttled: x.Throttled,
			Handled:   x.Handled,
			Parked:    x.Parked,
			Lost:      x.Lost,
			Oldest:    x.Oldest.Seconds(),
			Off:       x.Off,
			Stopped:   x.Stopped,
		}
		if x.Fails >= 0 {
			n.Fails = &x.Fails
		}
		if x.Slow != 1 {
			n.Slow = &x.Slow
		}
		if x.Concurrency >= 0 {
			n.Concurrency = &x.Concurrency
		}
		if h := r.hooks; h != nil && h.times[g.Nodes[i].Name] != nil {
			times := *h.times[g.Nodes[i].Name]
			n.Hook = &times
		}
		s.Nodes[g.Nodes[i].Name] = n
	}
	for i := range l.Links {
		s.Links[g.Links[i].Link.ID()] = Link{l.Links[i].Matched, l.Links[i].Paused, l.Links[i].Off}
	}
	return s
}

// watcher is somebody who watches.
type watcher struct {
	who    string
	states chan []byte // holds one: a slow watcher misses states, and a state says all
}

// Watch gives states as JSON, at most five a second, until stop is called or the
// rehearsal is ended, which closes the channel.
func (r *Rehearsal) Watch(who string) (states <-chan []byte, stop func(), err error) {
	if err := r.ready(); err != nil && err != ErrBusy {
		return nil, nil, err
	} else if err == ErrBusy {
		r.mu.Lock()
	}
	defer r.mu.Unlock()
	w := &watcher{who: who, states: make(chan []byte, 1)}
	r.watchers[w] = struct{}{}
	r.broadcast()
	return w.states, func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.watchers, w)
		r.touched = time.Now()
	}, nil
}

// broadcast sends the state to all who watch; it is made once for all.
func (r *Rehearsal) broadcast() {
	if len(r.watchers) == 0 {
		return
	}
	r.frames++
	text, err := json.Marshal(r.state())
	if err != nil {
		r.plan.Log.Error("a rehearsal's state", "error", err)
		return
	}
	for w := range r.watchers {
		select {
		case <-w.states: // it has not been read: the newer one takes its place
		default:
		}
		w.states <- text
	}
}
