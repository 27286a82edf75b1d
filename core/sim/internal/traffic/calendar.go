package traffic

import (
	"fmt"
	"math"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/random"
)

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
}

func (e *Sources) SetUpSchedule(n *engine.Node) error {
	gn := &e.Graph.Nodes[n.ID]
	zone, err := time.LoadLocation(gn.Zone)
	if err != nil {
		return fmt.Errorf("%s: %w", gn.Name, err)
	}
	s := &calendar{
		every:  int64(gn.Every),
		zone:   zone,
		until:  math.MaxInt64,
		jitter: int64(gn.Jitter),
		luck:   e.Stream(gn.Name, "jitter"),
		next:   -1,
	}
	e.calendars[n.ID] = s
	n.Off = !gn.Enabled
	if gn.Cron != "" {
		if s.cron, err = cadence.Parse(gn.Cron, gn.CronFields, gn.Sunday); err != nil {
			return fmt.Errorf("%s: %w", gn.Name, err)
		}
	}
	s.first = s.every
	if gn.From != nil {
		s.first = int64(gn.From.Sub(e.Start))
		if s.every > 0 && s.first < 0 { // it goes on since before the run
			s.first += (-s.first + s.every - 1) / s.every * s.every
		}
	}
	if gn.Until != nil {
		s.until = int64(gn.Until.Sub(e.Start))
	}
	if !e.Follows() {
		e.nextFire(n)
	}
	return nil
}

// nextFire schedules the next instant of a schedule's calendar.
func (e *Sources) nextFire(n *engine.Node) {
	s := e.calendars[n.ID]
	switch {
	case s.cron == nil && s.next < 0:
		s.next = s.first
	case s.cron == nil:
		s.next += s.every
	default:
		after := e.Start.Add(-time.Nanosecond)
		if s.next >= 0 {
			after = e.Instant(s.next)
		} else if s.first > 0 {
			after = e.Instant(s.first).Add(-time.Nanosecond)
		}
		t, ok := s.cron.Next(after, s.zone)
		if !ok {
			return
		}
		s.next = int64(t.Sub(e.Start))
	}
	at := s.next
	if s.jitter > 0 {
		at += int64(s.luck.Unit() * float64(s.jitter))
	}
	if s.next < s.until && at < e.End {
		e.Schedule(at, engine.EvFire, uint32(n.ID))
	}
}

// Fire comes at an instant of a schedule's calendar.
func (e *Sources) Fire(n *engine.Node) {
	e.nextFire(n)
	if n.Off {
		return
	}
	e.FireNow(n)
}

// FireNow makes the message of a schedule's fire.
func (e *Sources) FireNow(n *engine.Node) {
	gn := &e.Graph.Nodes[n.ID]
	e.calendars[n.ID].sequence++
	e.Tally.Entered++
	con := e.NewContent()
	jour, _ := e.NewJourney(int32(n.ID))
	m := engine.Message{Journey: jour, Content: con, Node: -1}
	c := &e.Contents[con]
	c.Subject = append(c.Subject, gn.Name...)
	c.Source = int32(n.ID)
	if gn.Payload != nil {
		c.Data, _ = gn.Payload.Value(e.EventOfMessage(&m, "fired"))
	}
	i := e.NewCopy(n, n.OwnWay, &m, con, 0)
	if e.Trace != nil {
		e.Trace.Comes(i, m)
	}
	e.DropContent(con)
	e.ScheduleNow(engine.EvFan, i)
}
