// Package admission decides which computations are done now, which wait and which are
// refused: no caller can exhaust a service for the others.
//
// A computation holds a slot or a share of the memory, or both, until it is over. The rules:
//   - All together hold at most the budget.
//   - One person holds at most half of the slots and half of the memory.
//   - Long computations together hold at most half of the slots.
//   - The last free slot goes to a person who holds none.
//   - A slot that becomes free goes to the waiting person who holds the fewest; among equals,
//     to the first in the queue.
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

// Computation is what a person asks for.
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

// Holder is a person who holds a part of the budget.
type Holder struct {
	Person string
	What   string
	Count  int
	Since  time.Time // the earliest
}

// Error says who holds the budget.
func (r *Refused) Error() string {
	if r.Own {
		return "you have as much running as one person may have: " + listed(r.Holders)
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
	e := &entry{Computation: what, granted: make(chan struct{})}
	c.mu.Lock()
	if c.waitsTooOften(what.Person) || what.Slots == 0 && !c.fits(e) {
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
	case <-ctx.Done():
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	select {
	case <-e.granted: // perhaps just as the time ran out
	default:
		c.waiting = slices.DeleteFunc(c.waiting, func(o *entry) bool { return o == e })
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		return nil, c.refuse(what)
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
	switch {
	case c.ownUsedUp(e.Computation), e.Memory > 0 && memory+e.Memory > c.budget.Memory:
		return false
	case e.Slots == 0:
		return true
	}
	lastOne := slots == c.budget.Slots-1 && c.budget.Slots > 1
	return slots < c.budget.Slots && (!e.Long || long < c.half()) && (!lastOne || c.slotsOf(e.Person) == 0)
}

// half is how many slots one person, or all long computations, may hold.
func (c *Controller) half() int { return max(c.budget.Slots/2, 1) }

// ownUsedUp reports whether a person's own share does not allow a computation.
func (c *Controller) ownUsedUp(e Computation) bool {
	var memory int64
	for _, h := range c.held {
		if h.Person == e.Person {
			memory += h.Memory
		}
	}
	return e.Slots > 0 && c.slotsOf(e.Person) >= c.half() ||
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

// waitsTooOften reports whether a person has as many computations waiting as one may have.
func (c *Controller) waitsTooOften(person string) bool {
	n := 0
	for _, w := range c.waiting {
		if w.Person == person {
			n++
		}
	}
	return n >= 4*c.budget.Slots
}

// refuse counts a refusal, and says who holds what the computation wanted: the person's
// own computations where their share is used up.
func (c *Controller) refuse(what Computation) error {
	c.refused++
	out := &Refused{Own: c.ownUsedUp(what) || c.waitsTooOften(what.Person)}
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

// Load is the state of a budget.
type Load struct {
	Slots, Waiting int
	Memory         int64
	Refused        int64 // since the start
}

// Load gives the state of the budget.
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
