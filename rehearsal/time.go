package rehearsal

import (
	"errors"
	"fmt"
	"time"

	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
)

// Time is what is changed about how time passes; what is nil stays.
type Time struct {
	Running *bool          // whether time passes
	Pace    *float64       // how many times as fast as the clock, 0.001 to 100,000
	To      *time.Duration // the earlier instant that it is set back to
}

// Pause lets time stand.
func (r *Rehearsal) Pause(who string) error { return r.SetTime(who, Time{Running: new(false)}) }

// Resume lets time pass on.
func (r *Rehearsal) Resume(who string) error { return r.SetTime(who, Time{Running: new(true)}) }

// SetPace makes time pass so many times as fast as the clock.
func (r *Rehearsal) SetPace(who string, pace float64) error { return r.SetTime(who, Time{Pace: &pace}) }

// SetBack sets time to an earlier instant: everything is had again from the
// start, with what was put in until then. What was put in later comes again at
// its instants as time goes on, until something else is put in.
func (r *Rehearsal) SetBack(who string, to time.Duration) error { return r.SetTime(who, Time{To: &to}) }

// SetTime changes how time passes, all of it at one instant: time that is set back and
// let stand stands exactly there.
func (r *Rehearsal) SetTime(who string, change Time) error {
	if change.Pace != nil {
		if err := checkPace(*change.Pace); err != nil {
			return err
		}
	}
	if err := r.ready(); err != nil {
		return err
	}
	defer r.mu.Unlock()
	if change.To != nil {
		if err := r.setBack(who, max(*change.To, 0)); err != nil {
			return err
		}
	}
	resumes := change.Running != nil && *change.Running
	if resumes {
		if err := r.passesOn(); err != nil {
			return err
		}
	}
	if change.Pace != nil && *change.Pace != r.pace {
		r.setAnchor()
		r.pace = *change.Pace
		r.acts.say(who, fmt.Sprintf("set the pace to %g×", r.pace), r.live.Now())
	}
	if change.Running != nil && r.running != resumes {
		r.running = resumes
		r.setAnchor()
		r.acts.say(who, map[bool]string{true: "let time pass", false: "let time stand"}[resumes], r.live.Now())
	}
	r.nudge()
	r.broadcast()
	return nil
}

// passesOn says why time cannot pass on, if it cannot.
func (r *Rehearsal) passesOn() error {
	switch {
	case r.live.Now() >= r.live.End():
		return errors.New("the scenario is over; set the time back, or start another rehearsal")
	case r.live.Stopped() != "":
		return fmt.Errorf("it was ended by %s; set the time back", r.live.Stopped())
	}
	return nil
}

// Step lets the next event happen and says what it was; empty: nothing is left.
// Time stands before and after it.
func (r *Rehearsal) Step(who string) (string, error) {
	if err := r.ready(); err != nil {
		return "", err
	}
	defer r.mu.Unlock()
	if r.running {
		r.running = false
		r.acts.say(who, "let time stand", r.live.Now())
	}
	said, err := r.step()
	r.tellWaiters()
	r.setAnchor()
	r.broadcast()
	return said, err
}

func (r *Rehearsal) step() (string, error) {
	if r.replay != nil {
		in, err := r.replay.peek()
		if err != nil {
			return "", err
		}
		if next, ok := r.live.Next(); in != nil && (!ok || in.At <= next) {
			_, err := r.live.Put(in)
			r.note(in, false)
			r.replay.pass()
			return inWords(in), err
		}
	}
	return r.live.Step()
}

// setBack has everything again from the start to an instant. The rehearsal is locked, and
// let go of while it is had again.
func (r *Rehearsal) setBack(who string, to time.Duration) error {
	if now := r.live.Now(); to > now {
		return fmt.Errorf("time can be rewound to at most %s, the present", model.FormatDuration(now))
	}
	r.dropWaiters()
	takeBack := r.letGo()
	live, later, err := r.again(to, 0, 0)
	takeBack()
	if r.over {
		return ErrOver
	}
	if err != nil {
		return err
	}
	if r.replay, err = r.stands(later); err != nil {
		return err
	}
	r.hooks.forget()
	r.live, r.fault, r.behind = live, nil, false
	r.setAnchor()
	r.acts.say(who, "set the time back to "+model.FormatDuration(to.Round(time.Millisecond)), r.live.Now())
	return nil
}

// stands finds what is in force where a reading stands, and gives the reading as
// long as something follows.
func (r *Rehearsal) stands(later *reading) (*reading, error) {
	r.named, r.active = 0, nil
	for past := r.journal.read(); past.place < later.place; past.pass() {
		in, err := past.peek()
		if err != nil {
			return nil, err
		}
		r.note(&sim.Input{Incident: in.Incident, End: in.End}, false)
	}
	next, err := later.peek()
	if next == nil {
		return nil, err
	}
	return later, nil
}

// letGo unlocks a rehearsal that is ready, so that others see that it is busy while what
// does not change meanwhile is read: the journal above all. The caller calls takeBack,
// which locks it again: nothing comes in between.
func (r *Rehearsal) letGo() (takeBack func()) {
	r.busy = true
	r.broadcast()
	r.mu.Unlock()
	return func() {
		r.mu.Lock()
		r.busy = false
		r.nudge()
	}
}

// hold is letGo for who needs the rehearsal no more after it.
func (r *Rehearsal) hold() (release func()) {
	takeBack := r.letGo()
	return func() {
		takeBack()
		r.mu.Unlock()
	}
}

// again makes the run as it stood at an instant, of a length if it is not 0, with
// one journey recorded if it is not 0, and gives what was put in after it. The
// rehearsal is held meanwhile.
func (r *Rehearsal) again(to, length time.Duration, tell uint64) (*sim.Live, *reading, error) {
	live, err := r.newLive(length)
	if err != nil {
		return nil, nil, err
	}
	if tell > 0 {
		live.Record(tell)
	}
	past := r.journal.read()
	for {
		in, err := past.peek()
		if err != nil {
			return nil, nil, err
		}
		if in == nil || in.At > to {
			break
		}
		if err := r.advanceAgain(live, in.At); err != nil {
			return nil, nil, err
		}
		if _, err := live.Put(in); err != nil {
			return nil, nil, fmt.Errorf(
				"what was put in at %s cannot be had again: %w",
				model.FormatDuration(in.At),
				err,
			)
		}
		past.pass()
	}
	err = r.advanceAgain(live, max(to, length))
	live.Answers() // nobody waits any more
	return live, past, err
}

// advanceAgain lets a run that is had again come to an instant, in turns with others, until
// the rehearsal is ended.
func (r *Rehearsal) advanceAgain(live *sim.Live, to time.Duration) error {
	for {
		if r.Over() {
			return ErrOver
		}
		end := r.plan.Turns.take()
		there, err := live.Advance(to, atOnceAgain)
		end()
		if there || err != nil || live.Stopped() != "" {
			return err
		}
	}
}

// atOnceAgain is how many events are handled in a turn while a run is had again.
const atOnceAgain = 10 * atOnce

// Result counts what has happened until now as a run does.
func (r *Rehearsal) Result() (*study.Document, error) {
	now, length, release, err := r.holdSoFar()
	if err != nil {
		return nil, err
	}
	defer release()
	live, _, err := r.again(now, length, 0)
	if err != nil {
		return nil, err
	}
	res, err := live.Result()
	if err != nil {
		return nil, err
	}
	s := *r.scenario
	s.Length, s.WarmUp, s.Replications = length, 0, 1
	return study.Merge(r.plan.Graph, &s, []*sim.Result{res}, r.plan.Head)
}

// holdSoFar holds a rehearsal in which something has happened, and gives where it
// stands and how long a run of all of it is.
func (r *Rehearsal) holdSoFar() (now, length time.Duration, release func(), err error) {
	if err := r.ready(); err != nil {
		return 0, 0, nil, err
	}
	now, length = r.live.Now(), r.live.Length()
	if length == 0 {
		r.mu.Unlock()
		return 0, 0, nil, errors.New("nothing has happened yet: time stands at the start")
	}
	return now, length, r.hold(), nil
}

// Journey returns the steps of a message: those that came in last as they stand, any
// other by having everything again.
func (r *Rehearsal) Journey(id uint64) (*sim.Journey, error) {
	if err := r.ready(); err != nil {
		return nil, err
	}
	if j, recorded := r.live.Trail(id); recorded {
		r.mu.Unlock()
		return &j, nil
	}
	now := r.live.Now()
	release := r.hold()
	defer release()
	live, _, err := r.again(now, 0, id)
	if err != nil {
		return nil, err
	}
	j, recorded := live.Trail(id)
	if !recorded {
		return nil, fmt.Errorf("no message has the number %d", id)
	}
	return &j, nil
}
