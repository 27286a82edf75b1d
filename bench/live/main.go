// Command live measures a rehearsal at a service: events posted at a rate, one
// request each, while people watch. The time of a request counts from when it was
// due, so that a service that falls behind shows it. With -hold the rehearsal then
// goes on by itself, and the memory of the service is read every minute.
package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ironweir/bench/fleet"
	"ironweir/client"
)

const model = `ironweir: topology/1
name: live
nodes:
  slips: {kind: queue, links: {work: {read: {parallel: 500}, retry: {tries: 3}, dead-letter: desk}}}
  work: {kind: function, takes: {dist: exponential, mean: 50ms}, fails: 1%, links: {done: {}}}
  done: {kind: topic, links: {ledger: {}, told: {}}}
  ledger: {kind: table}
  told: {kind: outside, takes: 10ms}
  desk: {kind: queue}
`

func main() {
	program := flag.String("program", "bin/ironweir", "the program")
	dir := flag.String("dir", "", "a folder that the database's user can enter")
	rate := flag.Int("rate", 2000, "events a second")
	length := flag.Duration("length", 30*time.Second, "how long events are posted")
	watchers := flag.Int("watchers", 10, "who watch")
	hold := flag.Duration("hold", 0, "how long the rehearsal then goes on, fed by its scenario")
	flag.Parse()
	if err := measure(*program, *dir, *rate, *watchers, *length, *hold); err != nil {
		fmt.Fprintln(os.Stderr, "live:", err)
		os.Exit(1)
	}
}

func measure(program, dir string, rate, watchers int, length, hold time.Duration) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	f, err := fleet.Start(ctx, program, dir, 1, 0)
	if err != nil {
		return err
	}
	defer f.Stop()
	api := f.Client(0)
	if _, err := api.CreateModel(ctx, "live", model, ""); err != nil {
		return err
	}
	if err := api.SaveScenario(ctx, "live", "steady", "ironweir: scenario/1\nlength: 30d\ntraffic: {a: {into: slips, rate: 100/s, size: 200B}}\n"); err != nil {
		return err
	}
	r, err := api.StartRehearsal(ctx, "live", "", 1)
	if err != nil {
		return err
	}
	var states atomic.Int64
	watch := func(client.RehearsalState) { states.Add(1) }
	for range watchers {
		go api.WatchRehearsal(ctx, r.ID, watch)
	}
	took, failed := post(ctx, api, api.Path("rehearsals", r.ID), rate, length)
	slices.Sort(took)
	at := func(q float64) time.Duration {
		return took[min(int(q*float64(len(took))), len(took)-1)].Round(10 * time.Microsecond)
	}
	fmt.Printf(
		"%d events in %s, %d watch (%d states read): p50 %v, p90 %v, p99 %v, p99.9 %v, longest %v; %d failed\n",
		len(took),
		length,
		watchers,
		states.Load(),
		at(0.5),
		at(0.9),
		at(0.99),
		at(0.999),
		took[len(took)-1].Round(10*time.Microsecond),
		failed,
	)
	if r, err = api.Rehearsal(ctx, r.ID); err != nil {
		return err
	}
	fmt.Printf(
		"came in: %d; behind: %v; memory of the service: %d MB\n",
		r.State.Entered,
		r.State.Behind,
		resident(f)>>20,
	)
	if hold == 0 {
		return nil
	}
	if err := api.EndRehearsal(ctx, r.ID); err != nil {
		return err
	}
	if r, err = api.StartRehearsal(ctx, "live", "steady", 1); err != nil {
		return err
	}
	go api.WatchRehearsal(ctx, r.ID, watch)
	for began := time.Now(); time.Since(began) < hold; {
		time.Sleep(time.Minute)
		if r, err = api.Rehearsal(ctx, r.ID); err != nil {
			return err
		}
		fmt.Printf("%s: %d came in, %d MB\n", time.Since(began).Round(time.Second), r.State.Entered, resident(f)>>20)
	}
	return nil
}

// post posts events at a rate and gives how long each took from when it was due.
func post(
	ctx context.Context,
	api *client.Client,
	path string,
	rate int,
	length time.Duration,
) (took []time.Duration, failed int) {
	const senders = 64
	due := make(chan time.Time, rate)
	http := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: senders}}
	var mu sync.Mutex
	var wg sync.WaitGroup
	for range senders {
		wg.Add(1)
		go func() {
			defer wg.Done()
			var mine []time.Duration
			bad := 0
			for at := range due {
				if !one(ctx, http, api, path) {
					bad++
				}
				mine = append(mine, time.Since(at))
			}
			mu.Lock()
			defer mu.Unlock()
			took = append(took, mine...)
			failed += bad
		}()
	}
	began := time.Now()
	for i := range int(length.Seconds() * float64(rate)) {
		at := began.Add(time.Duration(i) * time.Second / time.Duration(rate))
		time.Sleep(time.Until(at))
		due <- at
	}
	close(due)
	wg.Wait()
	return took, failed
}

func one(ctx context.Context, c *http.Client, api *client.Client, path string) bool {
	req, err := http.NewRequestWithContext(
		ctx,
		"POST",
		api.URL+path+"/entries/slips",
		bytes.NewReader([]byte(`{"slip": 7, "kg": 18200}`)),
	)
	if err != nil {
		return false
	}
	for key, value := range map[string]string{"Authorization": "Bearer " + api.Token,
		"Content-Type": "application/json", "ce-specversion": "1.0", "ce-id": "1", "ce-source": "bench",
		"ce-type": "slip"} {
		req.Header.Set(key, value)
	}
	answer, err := c.Do(req)
	if err != nil {
		return false
	}
	io.Copy(io.Discard, answer.Body)
	answer.Body.Close()
	return answer.StatusCode == 202
}

// resident gives the memory of the service, in bytes.
func resident(f *fleet.Fleet) int64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", f.Services[0].PID()))
	if err != nil {
		return 0
	}
	for _, line := range strings.Split(string(text), "\n") {
		if value, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.ParseInt(strings.TrimSuffix(strings.TrimSpace(value), " kB"), 10, 64)
			return kb << 10
		}
	}
	return 0
}
