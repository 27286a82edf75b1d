// Command soak loads two services, two workers and their database with the work
// of many people and the attacks of others; every few seconds it kills one of them,
// lets the database hang or fills its disk. It holds what is there in the end
// against what was accepted, and says how long a bystander waited meanwhile.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"ironweir/bench/fleet"
	"ironweir/client"
)

const scenarioText = "ironweir: scenario/1\nname: soak\nlength: 12h\nreplications: 3\n"

// soak is one round.
type soak struct {
	fleet     *fleet.Fleet
	hostility *hostility

	mu        sync.Mutex
	revisions map[string]string // accepted texts by model and number
	runs      map[string]accepted
	took      []time.Duration // of requests that were answered
	calls     atomic.Int64
	refused   atomic.Int64 // answered with 5xx, or not at all
	kills     map[string]int
}

type accepted struct {
	id   int64
	seed int
}

func main() {
	minutes := flag.Float64("minutes", 30, "how long the load lasts")
	program := flag.String("program", "bin/ironweir", "the program")
	dir := flag.String("dir", "", "a folder that the database's user can enter")
	people := flag.Int("people", 6, "how many work at once")
	flag.Parse()
	if err := run(*program, *dir, time.Duration(*minutes*float64(time.Minute)), *people); err != nil {
		fmt.Fprintln(os.Stderr, "soak:", err)
		os.Exit(1)
	}
}

func run(program, dir string, length time.Duration, people int) error {
	ctx := context.Background()
	disk := dir + "/pg"
	remove, ok := ownDisk(disk)
	defer remove()
	if !ok {
		fmt.Println("no right to mount a disk: it is not filled")
		disk = ""
	}
	f, err := fleet.Start(ctx, program, dir, 2, 2)
	if err != nil {
		return err
	}
	defer f.Stop()
	h, err := newHostility(ctx, f, disk)
	if err != nil {
		return err
	}
	s := &soak{
		fleet: f, hostility: h, revisions: map[string]string{}, runs: map[string]accepted{}, kills: map[string]int{},
	}
	if err := s.models(ctx); err != nil {
		return err
	}
	fmt.Printf("%v of load by %d people and 4 hostile ones on 2 services and 2 workers\n", length, people)
	end, cancel := context.WithTimeout(ctx, length)
	defer cancel()
	var wg sync.WaitGroup
	for i := range people {
		wg.Add(1)
		go func() { defer wg.Done(); s.work(end, i) }()
	}
	for range 4 {
		wg.Add(1)
		go func() { defer wg.Done(); h.attack(end) }()
	}
	wg.Add(2)
	go func() { defer wg.Done(); h.watch(end, fleet.ModelText) }()
	go func() { defer wg.Done(); s.kill(end) }()
	wg.Wait()
	h.report()
	return s.verify(ctx)
}

// models makes the models that people work on.
func (s *soak) models(ctx context.Context) error {
	api := s.fleet.Client(0)
	for n := range 3 {
		name := fmt.Sprintf("model-%d", n)
		if _, err := api.CreateModel(ctx, name, fleet.ModelText, "soak"); err != nil {
			return err
		}
		s.revisions[name+" 1"] = fleet.ModelText
		if err := api.SaveScenario(ctx, name, "soak", scenarioText); err != nil {
			return err
		}
	}
	return nil
}

// call does something at either service, again and again until it is answered.
func (s *soak) call(ctx context.Context, do func(api *client.Client) error) error {
	for ctx.Err() == nil {
		api := s.fleet.Client(rand.IntN(2))
		began := time.Now()
		err := do(api)
		s.calls.Add(1)
		if !errors.Is(err, client.ErrUnreachable) {
			s.mu.Lock()
			s.took = append(s.took, time.Since(began))
			s.mu.Unlock()
			return err
		}
		s.refused.Add(1)
		time.Sleep(time.Duration(50+rand.IntN(200)) * time.Millisecond)
	}
	return ctx.Err()
}

// work is what one person does: reads, saves, runs.
func (s *soak) work(ctx context.Context, who int) {
	for n := 0; ctx.Err() == nil; n++ {
		model := fmt.Sprintf("model-%d", rand.IntN(3))
		key := fmt.Sprintf("%d-%d-%d", os.Getpid(), who, n)
		switch rand.IntN(4) {
		case 0:
			s.save(ctx, model, key)
		case 1:
			seed := 1 + rand.IntN(5)
			run := &client.Run{}
			err := s.call(ctx, func(api *client.Client) error {
				_, err := api.Do(
					ctx,
					"POST",
					api.Path("models", model, "runs"),
					map[string]any{"scenario": "soak", "revision": 1, "seed": seed},
					run,
					"Idempotency-Key",
					key,
				)
				return err
			})
			if err == nil {
				s.mu.Lock()
				s.runs[key] = accepted{run.ID, seed}
				s.mu.Unlock()
			}
		case 2:
			s.call(ctx, func(api *client.Client) error { _, err := api.Models(ctx); return err })
		case 3:
			s.call(ctx, func(api *client.Client) error {
				_, err := api.Do(ctx, "GET", api.Path("runs"), nil, nil)
				return err
			})
		}
		time.Sleep(time.Duration(rand.IntN(600)) * time.Millisecond)
	}
}

// save saves a revision on top of the latest, under one key until it is answered.
func (s *soak) save(ctx context.Context, model, key string) {
	var latest *client.Revision
	if s.call(ctx, func(api *client.Client) (err error) { latest, err = api.Model(ctx, model, 0); return err }) != nil {
		return
	}
	text := fleet.ModelText + "# " + key + "\n"
	saved := &client.Revision{}
	err := s.call(ctx, func(api *client.Client) error {
		_, err := api.Do(
			ctx,
			"POST",
			api.Path("models", model, "revisions"),
			map[string]string{"text": text},
			saved,
			"If-Match",
			fmt.Sprintf(`"%d"`, latest.Number),
			"Idempotency-Key",
			key,
		)
		return err
	})
	if err == nil {
		s.mu.Lock()
		s.revisions[fmt.Sprintf("%s %d", model, saved.Number)] = text
		s.mu.Unlock()
	}
}

// kill ends something every few seconds, and starts it again.
func (s *soak) kill(ctx context.Context) {
	all := s.fleet.All()
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Duration(4+rand.IntN(8)) * time.Second):
		}
		if n := rand.IntN(14); n < 4 {
			what, fault := "database, stopped", s.stopDatabase
			switch {
			case n == 2:
				what, fault = "database, hung", s.hostility.hang
			case n == 3 && s.hostility.disk != "":
				what, fault = "database, disk full", s.hostility.fill
			}
			s.kills[what]++
			if err := fault(); err != nil {
				fmt.Println(what, err)
				os.Exit(1)
			}
			continue
		}
		p := all[rand.IntN(len(all))]
		signal, how := syscall.SIGKILL, "killed"
		if rand.IntN(3) == 0 {
			signal, how = syscall.SIGTERM, "told to stop"
		}
		s.kills[strings.Fields(p.Name)[0]+", "+how]++
		p.End(signal)
		time.Sleep(time.Duration(rand.IntN(2000)) * time.Millisecond)
		if err := p.Start(); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
	}
}

// stopDatabase stops the database for up to three seconds.
func (s *soak) stopDatabase() error {
	if err := s.fleet.Database.Pause(); err != nil {
		return err
	}
	time.Sleep(time.Duration(rand.IntN(3000)) * time.Millisecond)
	return s.fleet.Database.Resume(context.Background())
}

// verify holds what is there against what was accepted.
func (s *soak) verify(ctx context.Context) error {
	calls, refused := s.calls.Load(), s.refused.Load()
	took := s.took
	s.took = nil
	slices.Sort(took)
	began := time.Now()
	end, cancel := context.WithTimeout(ctx, 20*time.Minute)
	defer cancel()
	if err := s.verifyRevisions(end); err != nil {
		return err
	}
	results, err := s.verifyRuns(end)
	if err != nil {
		return err
	}
	// Nothing more than what was accepted or left unanswered.
	var all []client.Run
	if err := s.call(end, func(api *client.Client) (err error) {
		all, err = api.Runs(end,
			"")
		return err
	}); err != nil {
		return err
	}
	fmt.Printf(
		"%d calls, %d of them refused or unanswered and made again; p50 %v, p99 %v\n",
		calls,
		refused,
		at(took, 0.5),
		at(took, 0.99),
	)
	for how, n := range s.kills {
		fmt.Printf("%4d times: %s\n", n, how)
	}
	fmt.Printf(
		"%d revisions and %d runs (%d replications) were accepted: all are there, and right; of %d seeds, each always gave the same result\n",
		len(s.revisions),
		len(s.runs),
		3*len(s.runs),
		len(results),
	)
	fmt.Printf(
		"%d runs in all, the others asked for as the load ended; all ended %v after the load\n",
		len(all),
		time.Since(began).Round(time.Second),
	)
	return nil
}

// verifyRevisions looks for every revision that was accepted.
func (s *soak) verifyRevisions(end context.Context) error {
	for name, text := range s.revisions {
		model, number, _ := strings.Cut(name, " ")
		n := 0
		fmt.Sscan(number, &n)
		var got *client.Revision
		if err := s.call(end, func(api *client.Client) (err error) {
			got, err = api.Model(end, model,
				n)
			return err
		}); err != nil {
			return fmt.Errorf("revision %s was accepted, and is not there: %w", name, err)
		}
		if got.Text != text {
			return fmt.Errorf("revision %s is not what was saved", name)
		}
	}
	return nil
}

// verifyRuns waits for every run that was accepted, and gives the results by seed.
func (s *soak) verifyRuns(end context.Context) (map[int]string, error) {
	results, ids := map[int]string{}, map[int64]bool{}
	for key, run := range s.runs {
		if ids[run.id] {
			return nil, fmt.Errorf("run %d was made for two keys", run.id)
		}
		ids[run.id] = true
		var doc json.RawMessage
		for {
			var r *client.Run
			if err := s.call(end, func(api *client.Client) (err error) {
				r, err = api.Run(end,
					run.id)
				return err
			}); err != nil {
				return nil, fmt.Errorf("run %d (%s) was accepted, and is not there: %w", run.id, key, err)
			}
			if r.State == "done" {
				if err := s.call(end, func(api *client.Client) (err error) {
					doc, err = api.Result(end,
						r)
					return err
				}); err != nil {
					return nil, fmt.Errorf("run %d has no result: %w", run.id, err)
				}
				break
			}
			if r.State == "failed" || r.State == "cancelled" {
				return nil, fmt.Errorf("run %d %s: %s", run.id, r.State, r.Error)
			}
			time.Sleep(200 * time.Millisecond)
		}
		same := regexp.MustCompile(`"model":\s*"[^"]*"`).ReplaceAllString(string(doc), "")
		if before, ok := results[run.seed]; ok && before != same {
			return nil, fmt.Errorf("run %d has another result than others of seed %d", run.id, run.seed)
		}
		results[run.seed] = same
	}
	return results, nil
}

func at(sorted []time.Duration, q float64) time.Duration {
	if len(sorted) == 0 {
		return 0
	}
	return sorted[min(len(sorted)-1, int(q*float64(len(sorted))))].Round(100 * time.Microsecond)
}
