package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"ironweir/core/document"
	"ironweir/core/sim"
	"ironweir/store"
)

// Worker works on the parts of runs. Any number of workers, in any number of
// processes, share a database.
type Worker struct {
	*Queue
	me    store.Worker
	log   *slog.Logger
	mu    sync.Mutex
	tasks []*preparedTask // the last few
}

// preparedTask is a task that was made ready for some part, with the settings then.
type preparedTask struct {
	task     *Task
	settings store.Settings
}

// NewWorker makes a worker of so many parts at once; Run starts it.
func NewWorker(q *Queue, slots int, log *slog.Logger) *Worker {
	host, _ := os.Hostname()
	return &Worker{
		Queue: q,
		log:   log,
		me:    store.Worker{ID: rand.Int64(), Host: host, Version: document.Version, Slots: slots},
	}
}

// How often a part's progress is kept; also how soon a cancelled one ends.
const watch = 200 * time.Millisecond

// Run works until ctx ends, then hands back what it was at. While the database
// is away it waits for it.
func (w *Worker) Run(ctx context.Context) error {
	workers := river.NewWorkers()
	river.AddWorker(
		workers,
		river.WorkFunc(func(ctx context.Context, job *river.Job[claimArgs]) error { return w.claim(ctx, job.ID) }),
	)
	river.AddWorker(
		workers,
		river.WorkFunc(
			func(ctx context.Context, job *river.Job[mergeArgs]) error { return w.merged(ctx, job.Args.Run) },
		),
	)
	client, err := river.NewClient(riverpgxv5.New(w.store.Pool()), &river.Config{
		Queues: map[string]river.QueueConfig{
			river.QueueDefault: {MaxWorkers: w.me.Slots},
			"merge":            {MaxWorkers: 1},
		},
		Workers:       workers,
		FetchCooldown: time.Millisecond, FetchPollInterval: 500 * time.Millisecond,
		// An administrator limits parts, and the janitor gives back those of dead
		// workers; this only clears away what those have left on the job queue.
		JobTimeout: 25 * time.Hour, RescueStuckJobsAfter: 26 * time.Hour,
		CompletedJobRetentionPeriod: time.Hour,
		Logger:                      slog.New(quiet{w.log.Handler()}),
	})
	if err != nil {
		return err
	}
	var wg sync.WaitGroup
	wg.Add(2)
	go func() { defer wg.Done(); w.heartbeat(ctx) }()
	go func() { defer wg.Done(); w.janitor(ctx) }()
	for ctx.Err() == nil {
		// The queue's own goroutines must outlive ctx, or nothing could be handed back.
		err := client.Start(context.WithoutCancel(ctx))
		if err == nil {
			break
		}
		w.log.Warn("the job queue could not be started", "error", err)
		pause(ctx, time.Second)
	}
	<-ctx.Done()
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 15*time.Second)
	defer cancel()
	err = client.StopAndCancel(end)
	wg.Wait()
	return err
}

// heartbeat shows that this worker lives, however often the database goes away.
func (w *Worker) heartbeat(ctx context.Context) {
	for ctx.Err() == nil {
		if err := w.store.HoldWorker(ctx, w.me); err != nil && ctx.Err() == nil {
			w.log.Warn("the worker cannot show that it lives", "error", err)
			pause(ctx, 200*time.Millisecond)
		}
	}
}

// claim works on the part that is due next.
func (w *Worker) claim(ctx context.Context, job int64) error {
	var part *store.Part
	err := w.retry(ctx, func() (err error) {
		part, err = w.store.TakePart(ctx, w.me.ID, job)
		return err
	})
	if errors.Is(err, store.ErrNotFound) {
		return nil // somebody has taken it back
	}
	if err != nil {
		return err
	}
	result, last, err := w.work(ctx, part)
	if ctx.Err() != nil { // stopping: another worker does it again
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if err := w.store.Requeue(ctx, store.Left{Part: *part, Worker: w.me.ID}, w.enqueueClaims, w.merge); err != nil {
			w.log.Warn(
				"a part could not be handed back; it is taken back when this worker has gone",
				"run",
				part.Run,
				"error",
				err,
			)
		}
		return nil
	}
	if err != nil {
		return w.fail(ctx, part.Run, err)
	}
	err = w.retry(ctx, func() error { return w.store.FinishPart(ctx, part, result, last, w.merge) })
	w.announce(ctx, part.Run)
	return err
}

// work simulates a part.
func (w *Worker) work(ctx context.Context, part *store.Part) (result []byte, last store.Progress, err error) {
	ready, err := w.prepare(ctx, part.Run)
	if err != nil {
		return nil, last, err
	}
	var far atomic.Pointer[store.Progress]
	far.Store(&store.Progress{})
	var reason atomic.Pointer[string]
	ended := make(chan struct{})
	defer close(ended)
	end := func(why string) { reason.CompareAndSwap(nil, &why) }
	go func() { // keeps the progress, and looks whether the part is to end
		tick := time.NewTicker(watch)
		defer tick.Stop()
		began, kept := time.Now(), store.Progress{Share: -1}
		for {
			select {
			case <-ended:
				return
			case <-ctx.Done():
				end("an interruption")
				return
			case <-tick.C:
			}
			if time.Since(began).Seconds() > ready.settings.MaxSeconds {
				end(fmt.Sprintf("the limit of %g s of wall time", ready.settings.MaxSeconds))
			}
			now := *far.Load()
			short, cancel := context.WithTimeout(ctx, 2*time.Second)
			if why, err := w.store.SetPartProgress(short, part, now); err == nil && why != "" {
				end(why)
			}
			if now != kept {
				w.announce(short, part.Run)
				kept = now
			}
			cancel()
		}
	}()
	defer func() {
		if p := recover(); p != nil {
			w.log.Error("a fault of the engine", "run", part.Run, "fault", fmt.Sprint(p))
			err = badTask{fmt.Errorf("a fault of the engine: %v", p)}
		}
	}()
	result, err = ready.task.part(part.Number, func(p sim.Progress) {
		far.Store(&store.Progress{Share: p.Share, Entered: p.Entered, Lost: p.Lost, Parked: p.Parked})
	}, func() string {
		if why := reason.Load(); why != nil {
			return *why
		}
		return ""
	})
	return result, *far.Load(), err
}

// prepare makes a run ready, once for the parts that follow each other.
func (w *Worker) prepare(ctx context.Context, run int64) (*preparedTask, error) {
	w.mu.Lock()
	for _, r := range w.tasks {
		if r.task.Run.ID == run {
			w.mu.Unlock()
			return r, nil
		}
	}
	w.mu.Unlock()
	r := &preparedTask{}
	err := w.retry(ctx, func() (err error) {
		r.task, r.settings, err = load(ctx, w.store, run)
		return err
	})
	if err != nil {
		return nil, err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.tasks = append(w.tasks, r); len(w.tasks) > 4 {
		w.tasks = w.tasks[1:]
	}
	return r, nil
}

// merged puts a run's parts together and keeps its end.
func (w *Worker) merged(ctx context.Context, run int64) error {
	var task *Task
	var parts map[int][]byte
	err := w.retry(ctx, func() (err error) {
		if task, _, err = load(ctx, w.store, run); err == nil { // anew: why it is ended may have changed
			parts, err = w.store.PartResults(ctx, run, w.me.ID)
		}
		return err
	})
	if errors.Is(err, store.ErrNotFound) {
		return nil // the run was removed
	}
	if err != nil {
		return w.fail(ctx, run, err)
	}
	if task.Run.FinishedAt != nil {
		return nil
	}
	doc, err := task.merge(parts)
	state, message := store.Done, ""
	if task.Run.Stopping != "" {
		state = store.Cancelled
	}
	var text []byte
	switch {
	case errors.Is(err, errNothing) && state == store.Cancelled:
	case err != nil:
		return w.fail(ctx, run, err)
	default:
		if text, err = json.Marshal(doc); err != nil {
			return w.fail(ctx, run, err)
		}
	}
	return w.finish(ctx, task.Run, state, message, text)
}

// fail keeps that a run cannot be worked on.
func (w *Worker) fail(ctx context.Context, run int64, cause error) error {
	if errors.Is(cause, store.ErrNotFound) || ctx.Err() != nil {
		return nil
	}
	return w.finish(ctx, &store.Run{ID: run}, store.Failed, cause.Error(), nil)
}

func (w *Worker) finish(ctx context.Context, run *store.Run, state, message string, result []byte) error {
	err := w.retry(ctx, func() error { return w.store.FinishRun(ctx, run.ID, state, message, result) })
	if err == nil {
		w.log.Info(
			"run ended",
			"run",
			run.ID,
			"workspace",
			run.Workspace,
			"model",
			run.Model,
			"scenario",
			run.Scenario,
			"state",
			state,
			"error",
			message,
		)
	}
	w.announce(ctx, run.ID)
	return err
}

// retry does what must be done, waiting for the database where it is away.
func (w *Worker) retry(ctx context.Context, do func() error) error {
	for wait := 100 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		err := do()
		if err == nil || ctx.Err() != nil || !errors.Is(err, store.ErrUnavailable) {
			return err
		}
		pause(ctx, wait)
	}
}

// quiet passes only what is worth reading of the job queue's log.
type quiet struct{ slog.Handler }

func (q quiet) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && q.Handler.Enabled(ctx, level)
}
func (q quiet) WithAttrs(a []slog.Attr) slog.Handler { return quiet{q.Handler.WithAttrs(a)} }
func (q quiet) WithGroup(name string) slog.Handler   { return quiet{q.Handler.WithGroup(name)} }
