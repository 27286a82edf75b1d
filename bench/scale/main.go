// Command scale measures how the service grows: a sweep with 1, 2 and 4 workers,
// the API under many clients while runs go on, the size of the database.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"ironweir/bench/fleet"
	"ironweir/client"
)

func main() {
	program := flag.String("program", "bin/ironweir", "the program")
	dir := flag.String("dir", "", "a folder that the database's user can enter")
	points := flag.Int("points", 64, "of the sweep")
	clients := flag.Int("clients", 200, "at once")
	runs := flag.Int("runs", 1000, "for the size of the database")
	flag.Parse()
	if err := measure(*program, *dir, *points, *clients, *runs); err != nil {
		fmt.Fprintln(os.Stderr, "scale:", err)
		os.Exit(1)
	}
}

func measure(program, dir string, points, clients, runs int) error {
	ctx := context.Background()
	f, err := fleet.Start(ctx, program, dir, 1, 1)
	if err != nil {
		return err
	}
	defer f.Stop()
	api := f.Client(0)
	if _, err := api.CreateModel(ctx, "model", fleet.ModelText, ""); err != nil {
		return err
	}
	for name, length := range map[string]string{"week": "7d", "hours": "6h"} {
		if err := api.SaveScenario(ctx, "model", name, "ironweir: scenario/1\nname: "+name+"\nlength: "+length+"\n"); err != nil {
			return err
		}
	}
	values := []string{}
	for i := range points {
		values = append(values, fmt.Sprintf("%ds", 20+i))
	}
	sweep := map[string]any{
		"scenario": "week",
		"sweep":    []any{map[string]any{"path": "nodes.slip.lease", "values": values}},
	}
	started := 1
	for _, workers := range []int{1, 2, 4} {
		for ; started < workers; started++ {
			if err := f.AddWorker(program).Start(); err != nil {
				return err
			}
		}
		time.Sleep(3 * time.Second) // until they have come up
		began := time.Now()
		if err := finish(ctx, api, sweep); err != nil {
			return err
		}
		fmt.Printf(
			"sweep of %d points, %d workers: %v\n",
			points,
			workers,
			time.Since(began).Round(10*time.Millisecond),
		)
	}
	if err := load(ctx, f, clients, sweep); err != nil {
		return err
	}
	before, err := size(ctx, f)
	if err != nil {
		return err
	}
	began := time.Now()
	var last int64
	for range runs {
		run, err := api.StartRun(ctx, "model", "hours", "")
		if err != nil {
			return err
		}
		last = run.ID
	}
	if _, err := api.Follow(ctx, last, func(client.Update) {}); err != nil {
		return err
	}
	took := time.Since(began)
	after, err := size(ctx, f)
	if err != nil {
		return err
	}
	fmt.Printf(
		"%d runs in %v; the database grew from %.1f to %.1f MB, %.1f KB a run\n",
		runs,
		took.Round(time.Second),
		float64(before)/1e6,
		float64(after)/1e6,
		float64(after-before)/1e3/float64(runs),
	)
	return nil
}

// finish asks for a run and waits for its end.
func finish(ctx context.Context, api *client.Client, request any) error {
	run := &client.Run{}
	if _, err := api.Do(ctx, "POST", api.Path("models", "model", "runs"), request, run); err != nil {
		return err
	}
	end, err := api.Follow(ctx, run.ID, func(client.Update) {})
	if err == nil && end.State != "done" {
		err = fmt.Errorf("the run %s: %s", end.State, end.Error)
	}
	return err
}

// load has many clients read, check and save for half a minute while a sweep goes
// on.
func load(ctx context.Context, f *fleet.Fleet, clients int, sweep any) error {
	api := f.Client(0)
	run := &client.Run{}
	if _, err := api.Do(ctx, "POST", api.Path("models", "model", "runs"), sweep, run); err != nil {
		return err
	}
	end, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	var mu sync.Mutex
	took := map[string][]time.Duration{}
	failed := 0
	var wg sync.WaitGroup
	for i := range clients {
		wg.Add(1)
		go func() {
			defer wg.Done()
			mine := f.Client(i)
			for n := 0; end.Err() == nil; n++ {
				what, err := "read", error(nil)
				began := time.Now()
				if n%4 == 3 {
					what = "check"
					_, err = mine.Do(end, "POST", "/api/v1/check", map[string]string{"text": fleet.ModelText}, nil)
				} else {
					_, err = mine.Models(end)
				}
				mu.Lock()
				if err == nil {
					took[what] = append(took[what], time.Since(began))
				} else if end.Err() == nil {
					failed++
				}
				mu.Unlock()
				time.Sleep(time.Second) // somebody thinks
			}
		}()
	}
	wg.Wait()
	for _, what := range []string{"read", "check"} {
		all := took[what]
		slices.Sort(all)
		fmt.Printf(
			"%d clients, one request a second each, a sweep going on: %s p50 %v, p99 %v (%d requests)\n",
			clients,
			what,
			all[len(all)/2].Round(100*time.Microsecond),
			all[len(all)*99/100].Round(100*time.Microsecond),
			len(all),
		)
	}
	fmt.Printf("%d requests failed\n", failed)
	return api.CancelRun(ctx, run.ID)
}

func size(ctx context.Context, f *fleet.Fleet) (bytes int64, err error) {
	conn, err := pgx.Connect(ctx, strings.TrimSpace(f.Database.URL))
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	err = conn.QueryRow(ctx, "SELECT pg_database_size(current_database())").Scan(&bytes)
	return bytes, err
}
