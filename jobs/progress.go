package jobs

import (
	"context"
	"log/slog"
	"strconv"
	"sync"
	"time"

	"ironweir/store"
)

// Update is how far a run is.
type Update struct {
	Run      int64   `json:"run"`
	State    string  `json:"state" enum:"queued,running,done,failed,cancelled"`
	Progress float64 `json:"progress" doc:"share that is done, 0 to 1"`
	Entered  int64   `json:"entered" doc:"messages that entered so far"`
	Lost     int64   `json:"lost" doc:"so far"`
	Parked   int64   `json:"parked" doc:"so far"`
	Left     float64 `json:"left_s" doc:"estimated time left; 0: unknown"`
	Error    string  `json:"error,omitempty"`
}

// Ended reports whether nothing follows.
func (u Update) Ended() bool {
	return u.State == store.Done || u.State == store.Failed || u.State == store.Cancelled
}

// UpdateOf reports how far a run is.
func UpdateOf(r *store.Run) Update {
	u := Update{
		Run:      r.ID,
		State:    r.State,
		Progress: r.Progress,
		Entered:  r.Entered,
		Lost:     r.Lost,
		Parked:   r.Parked,
		Error:    r.Error,
	}
	if r.State == store.Running && r.StartedAt != nil && r.Progress > 0.01 {
		u.Left = time.Since(*r.StartedAt).Seconds() * (1 - r.Progress) / r.Progress
	}
	return u
}

// channel is where workers announce that a run has moved on.
const channel = "ironweir_runs"

// progressBroker sends listeners of this process the progress of runs, wherever they are
// worked on.
type progressBroker struct {
	store *store.Store
	log   *slog.Logger
	mu    sync.Mutex
	heard map[int64]map[chan Update]bool
}

func newProgressBroker(s *store.Store, log *slog.Logger) *progressBroker {
	return &progressBroker{store: s, log: log, heard: map[int64]map[chan Update]bool{}}
}

// Listen gives the updates of a run until stop is called. A slow listener
// misses updates, never the last.
func (h *progressBroker) Listen(run int64) (updates chan Update, stop func()) {
	updates = make(chan Update, 16)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.heard[run] == nil {
		h.heard[run] = map[chan Update]bool{}
	}
	h.heard[run][updates] = true
	return updates, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.heard[run], updates)
		if len(h.heard[run]) == 0 {
			delete(h.heard, run)
		}
	}
}

// announce says that a run has moved on. It is a hint: who misses it looks again
// soon.
func (h *progressBroker) announce(ctx context.Context, run int64) {
	_, _ = h.store.Pool().Exec(ctx, "SELECT pg_notify($1, $2)", channel, strconv.FormatInt(run, 10))
}

// Relay passes announcements on until ctx ends, however often the database goes
// away meanwhile.
func (h *progressBroker) Relay(ctx context.Context) {
	var wg sync.WaitGroup
	wg.Add(2)
	moved := make(chan int64, 1024)
	go func() { // announcements
		defer wg.Done()
		for ctx.Err() == nil {
			if err := h.receive(ctx, moved); err != nil && ctx.Err() == nil {
				h.log.Warn("announcements of runs cannot be heard", "error", err)
				pause(ctx, time.Second)
			}
		}
	}()
	go func() { // telling
		defer wg.Done()
		look := time.NewTicker(2 * time.Second) // for what was missed
		defer look.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case run := <-moved:
				h.refresh(ctx, run)
			case <-look.C:
				for _, run := range h.listened() {
					h.refresh(ctx, run)
				}
			}
		}
	}()
	wg.Wait()
}

func (h *progressBroker) receive(ctx context.Context, moved chan<- int64) error {
	conn, err := h.store.Pool().Acquire(ctx)
	if err != nil {
		return err
	}
	raw := conn.Hijack() // it listens: it must not go back to the pool
	defer raw.Close(context.WithoutCancel(ctx))
	if _, err := raw.Exec(ctx, "LISTEN "+channel); err != nil {
		return err
	}
	for {
		note, err := raw.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		run, err := strconv.ParseInt(note.Payload, 10, 64)
		if err != nil {
			continue
		}
		select {
		case moved <- run:
		default: // too many at once: the ticker looks again
		}
	}
}

func (h *progressBroker) listened() []int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	var out []int64
	for run := range h.heard {
		out = append(out, run)
	}
	return out
}

// refresh reads how far a run is and sends it to its listeners.
func (h *progressBroker) refresh(ctx context.Context, run int64) {
	h.mu.Lock()
	listened := len(h.heard[run]) > 0
	h.mu.Unlock()
	if !listened {
		return
	}
	r, err := h.store.Run(ctx, run)
	if err != nil {
		return
	}
	h.publish(UpdateOf(r))
}

func (h *progressBroker) publish(u Update) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.heard[u.Run] {
		select {
		case ch <- u:
		default:
			if u.Ended() { // make room: the last one must come through
				select {
				case <-ch:
				default:
				}
				ch <- u
			}
		}
	}
}

// pause waits, unless ctx ends.
func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
