// Package admission decides which computations are done now, which wait and which are
// refused, so that nobody takes a service from the others.
//
// A computation holds a slot or a share of the memory, or both, until it is over. The rules:
//   - All together hold at most the budget.
//   - One person holds at most half of the slots and half of the memory.
//   - Long computations together hold at most half of the slots.
//   - The last free slot goes to somebody who holds none.
//   - A slot that becomes free goes to whoever waits and holds the fewest; among equals,
//     to the first who came.
package admission

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
)

// Budget is what all computations together may hold.
type Budget struct {
	Slots  int           // computations at once, at least 1
	Memory int64         // bytes of those that say what they take
	Wait   time.Duration // the longest wait before a refusal
}

// Computation is what somebody wants to have done.
type Computation struct {
	Person string
	What   string // such as "check"
	Slots  int    // 0 or 1
	Long   bool   // it may take minutes
	Memory int64  // bytes
}

// Refused says why a computation is not done, and who holds the budget.
type Refused struct {
	Own     bool // the person's own share is used up
	Holders []Holder
}

// Holder is somebody who holds a part of the budget.
type Holder struct {
	Person string
	What   string
	Count  int
	Since  time.Time // the earliest
}

// Error says who holds the budget.
func (r *Refused) Error() string {
	if r.Own {
		return "you have as much under way as one person may have: " + listed(r.Holders)
	}
	if len(r.Holders) == 0 {
		return "it needs more memory than this service may give"
	}
	return "the service is busy: " + listed(r.Holders)
}

func listed(holders []Holder) string {
	var parts []string
	for i, h := range holders {
		if i == 5 {
			parts = append(parts, fmt.Sprintf("%d more", len(holders)-i))
			break
		}
		parts = append(parts, fmt.Sprintf("%d × %s by %s, the longest for %s", h.Count, h.What, h.Person,
			time.Since(h.Since).Round(time.Second)))
	}
	return strings.Join(parts, "; ")
}

// Controller keeps a budget. Its methods may be called at once.
type Controller struct {
	budget Budget

	mu      sync.Mutex
	held    []*entry
	waiting []*entry
	refused int64
}

type entry struct {
	Computation
	since   time.Time
	granted chan struct{} // closed when it may begin
}

// New makes a controller of a budget.
func New(b Budget) *Controller {
	b.Slots = max(b.Slots, 1)
	return &Controller{budget: b}
}

// Enter waits until a computation may begin. The function that it returns says that it is
// over; it may be called more than once. The error is a *Refused, or that of the context.
func (c *Controller) Enter(ctx context.Context, what Computation) (leave func(), err error) {
	e := &entry{Computation: what, since: time.Now(), granted: make(chan struct{})}
	c.mu.Lock()
	if c.waitingOf(what.Person) >= 4*c.budget.Slots || what.Slots == 0 && !c.fits(e) {
		err := c.refuse(what)
		c.mu.Unlock()
		return nil, err
	}
	c.waiting = append(c.waiting, e)
	c.grant()
	c.mu.Unlock()

	timer := time.NewTimer(c.budget.Wait)
	defer timer.Stop()
	select {
	case <-e.granted:
	case <-timer.C:
		err = &Refused{}
	case <-ctx.Done():
		err = ctx.Err()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	select {
	case <-e.granted: // perhaps just as the time ran out
	default:
		c.waiting = slices.DeleteFunc(c.waiting, func(o *entry) bool { return o == e })
		if ctx.Err() == nil {
			err = c.refuse(what)
		}
		return nil, err
	}
	var once sync.Once
	return func() { once.Do(func() { c.leave(e) }) }, nil
}

func (c *Controller) leave(e *entry) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.held = slices.DeleteFunc(c.held, func(o *entry) bool { return o == e })
	c.grant()
}

// grant lets those begin that fit, the fewest first.
func (c *Controller) grant() {
	for {
		var next *entry
		for _, e := range c.waiting {
			if c.fits(e) && (next == nil || c.slotsOf(e.Person) < c.slotsOf(next.Person)) {
				next = e
			}
		}
		if next == nil {
			return
		}
		c.waiting = slices.DeleteFunc(c.waiting, func(o *entry) bool { return o == next })
		next.since = time.Now()
		c.held = append(c.held, next)
		close(next.granted)
	}
}

// fits reports whether a computation may begin now.
func (c *Controller) fits(e *entry) bool {
	var slots, long int
	var memory int64
	for _, h := range c.held {
		slots += h.Slots
		memory += h.Memory
		if h.Long {
			long += h.Slots
		}
	}
	half := max(c.budget.Slots/2, 1)
	if e.Memory > 0 && (memory+e.Memory > c.budget.Memory || c.ownUsedUp(e.Computation)) {
		return false
	}
	if e.Slots == 0 {
		return true
	}
	own := c.slotsOf(e.Person)
	lastOne := slots == c.budget.Slots-1 && c.budget.Slots > 1
	return slots < c.budget.Slots && !c.ownUsedUp(e.Computation) && (!e.Long || long < half) && (!lastOne || own == 0)
}

// ownUsedUp reports whether a person's own share does not allow a computation.
func (c *Controller) ownUsedUp(e Computation) bool {
	var memory int64
	for _, h := range c.held {
		if h.Person == e.Person {
			memory += h.Memory
		}
	}
	return e.Slots > 0 && c.slotsOf(e.Person) >= max(c.budget.Slots/2, 1) ||
		e.Memory > 0 && memory > 0 && memory+e.Memory > c.budget.Memory/2
}

func (c *Controller) slotsOf(person string) int {
	n := 0
	for _, h := range c.held {
		if h.Person == person {
			n += h.Slots
		}
	}
	return n
}

func (c *Controller) waitingOf(person string) int {
	n := 0
	for _, w := range c.waiting {
		if w.Person == person {
			n++
		}
	}
	return n
}

// refuse counts a refusal, and says who holds what the computation wanted: the person's
// own computations where their share is used up.
func (c *Controller) refuse(what Computation) error {
	c.refused++
	out := &Refused{Own: c.ownUsedUp(what) || c.waitingOf(what.Person) >= 4*c.budget.Slots}
	for _, h := range c.held {
		if out.Own && h.Person != what.Person || what.Slots > 0 && h.Slots == 0 || what.Slots == 0 && h.Memory == 0 {
			continue
		}
		i := slices.IndexFunc(out.Holders, func(o Holder) bool { return o.Person == h.Person && o.What == h.What })
		if i < 0 {
			i = len(out.Holders)
			out.Holders = append(out.Holders, Holder{Person: h.Person, What: h.What, Since: h.since})
		}
		out.Holders[i].Count++
	}
	slices.SortStableFunc(out.Holders, func(a, b Holder) int { return b.Count - a.Count })
	return out
}

// Load is how a budget stands.
type Load struct {
	Slots, Waiting int
	Memory         int64
	Refused        int64 // since the start
}

// Load tells how the budget stands.
func (c *Controller) Load() Load {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := Load{Waiting: len(c.waiting), Refused: c.refused}
	for _, h := range c.held {
		out.Slots += h.Slots
		out.Memory += h.Memory
	}
	return out
}
