package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"ironweir/bench/fleet"
)

// hostility is what others do to the services meanwhile, and what a bystander sees of it.
type hostility struct {
	fleet *fleet.Fleet
	token map[string]string // by person
	disk  string            // of the database, where it is one of its own

	mu       sync.Mutex
	sent     map[string]int // hostile requests, by what they are and how they were answered
	checks   []time.Duration
	answered map[int]int // the bystander's checks, by status; 0: not answered
}

// newHostility makes two people: gale, who attacks, and skerry, who only wants models checked.
func newHostility(ctx context.Context, f *fleet.Fleet, disk string) (*hostility, error) {
	h := &hostility{fleet: f, disk: disk, token: map[string]string{}, sent: map[string]int{}, answered: map[int]int{}}
	api := f.Client(0)
	for _, name := range []string{"gale", "skerry"} {
		if err := api.CreateUser(ctx, name, false); err != nil {
			return nil, err
		}
		role := map[string]string{"role": "viewer"}
		if _, err := api.Do(ctx, "PUT", api.Path("members", name), role, nil); err != nil {
			return nil, err
		}
		link, err := api.SignInLink(ctx, name)
		if err != nil {
			return nil, err
		}
		_, secret, _ := strings.Cut(link, "#")
		their := f.Client(0)
		if _, err := their.Login(ctx, secret, "", "", "soak"); err != nil {
			return nil, err
		}
		h.token[name] = their.Token
	}
	return h, h.giveMill(ctx)
}

// giveMill gives gale a workspace with a model whose messages double every 10 ms, to rehearse.
func (h *hostility) giveMill(ctx context.Context) error {
	api := h.fleet.Client(0)
	if _, err := api.Do(ctx, "POST", "/api/v1/workspaces", map[string]string{"name": "gale"}, nil); err != nil {
		return err
	}
	api.Workspace = "gale"
	if _, err := api.Do(ctx, "PUT", api.Path("members", "gale"), map[string]string{"role": "editor"}, nil); err != nil {
		return err
	}
	_, err := api.CreateModel(ctx, "mill", "ironweir: topology/1\nname: mill\nnodes:\n"+
		"  s: {kind: schedule, every: 1s, links: {q: {}}}\n  q: {kind: topic, links: {f: {}}}\n"+
		"  f: {kind: function, takes: 10ms, links: {q: {}, again: {to: q}}}\n", "")
	return err
}

// attack is one hostile request.
type attack struct{ name, path, body string }

// attacks are requests that are small, and want much.
func attacks() []attack {
	check := func(text string) string {
		body, _ := json.Marshal(map[string]string{"text": text})
		return string(body)
	}
	var aliases strings.Builder // each level says the one before it nine times
	aliases.WriteString("ironweir: topology/1\nname: bomb\nabout: &a0 x\nnodes:\n")
	for i := 1; i < 10; i++ {
		nine := strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ", i-1), 9), ", ")
		fmt.Fprintf(&aliases, "  n%d: &a%d [%s]\n", i, i, nine)
	}
	var tangle strings.Builder // each topic feeds many others
	tangle.WriteString("ironweir: topology/1\nname: tangle\nnodes:\n")
	for i := range 2000 {
		fmt.Fprintf(&tangle, "  n%d: {kind: topic, links: {", i)
		for k := range 30 {
			fmt.Fprintf(&tangle, "l%d: {to: n%d}, ", k, (i*7+k*13+1)%2000)
		}
		tangle.WriteString("}}\n")
	}
	deep := "x"
	for range 12 {
		deep = "[" + deep + "].all(x, " + deep + ".size() > 0)"
	}
	schema := `{"type": "integer"}`
	for range 12 {
		schema = `{"type": "array", "minItems": 1000, "items": ` + schema + `}`
	}
	const head = "ironweir: topology/1\nname: m\nnodes:\n"
	endless := head + "  q: {kind: queue, rate: 1000/s, links: {f: {}}}\n  f: {kind: function}\n"
	return []attack{
		{"aliases that expand", "/api/v1/check", check(aliases.String())},
		{"a tangle of topics", "/api/v1/check", check(tangle.String())},
		{"nested expressions", "/api/v1/check",
			check(head + "  q: {kind: queue, links: {f: {match: {if: '" + deep + "'}}}}\n  f: {kind: function}\n")},
		{"a schema that expands", "/api/v1/check",
			check(head + "  e: {kind: endpoint, path: /e, accepts: " + schema + ", links: {f: {}}}\n  f: {kind: function}\n")},
		{"brackets", "/api/v1/check", check(strings.Repeat("[", 100_000))},
		{"a run without end", "/api/v1/commands/run",
			`{"args": ["m.yaml", "-replications", "10000"], "files": {"m.yaml": ` + string(quoted(endless)) + `}}`},
		{"a rehearsal that doubles", "/api/v1/workspaces/gale/models/mill/rehearsals", `{"pace": 100000}`},
		{"a password", "/api/v1/session", `{"name": "admin", "password": "a guess at a password"}`},
		{"an invented method", "/api/v1/models", ""},
		{"half of a request", "", ""},
	}
}

func quoted(s string) []byte { text, _ := json.Marshal(s); return text }

// attack sends hostile requests, one after the other.
func (h *hostility) attack(ctx context.Context) {
	all := attacks()
	http := &http.Client{Timeout: 40 * time.Second}
	for ctx.Err() == nil {
		a := all[rand.IntN(len(all))]
		how := h.sendHostile(ctx, http, a)
		h.mu.Lock()
		h.sent[a.name+": "+how]++
		h.mu.Unlock()
		if how == "not answered" {
			time.Sleep(100 * time.Millisecond)
		}
	}
}

// sendHostile sends one request and says how it was answered.
func (h *hostility) sendHostile(ctx context.Context, sender *http.Client, a attack) string {
	address := h.fleet.Client(rand.IntN(2)).URL
	if a.path == "" { // it is begun, and held open for a while
		conn, err := net.DialTimeout("tcp", strings.TrimPrefix(address, "http://"), time.Second)
		if err != nil {
			return "not answered"
		}
		defer conn.Close()
		fmt.Fprint(conn, "POST /api/v1/workspaces/main/runs/1/events HTTP/1.1\r\nHost: 127.0.0.1\r\n")
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
		return "held"
	}
	method := "POST"
	if a.body == "" {
		method = fmt.Sprintf("M%d", rand.IntN(1000))
	}
	req, err := http.NewRequestWithContext(ctx, method, address+a.path, strings.NewReader(a.body))
	if err != nil {
		return err.Error()
	}
	req.Header.Set("Content-Type", "application/json")
	if a.path != "/api/v1/session" {
		req.Header.Set("Authorization", "Bearer "+h.token["gale"])
	}
	answer, err := sender.Do(req)
	if err != nil {
		return "not answered"
	}
	defer answer.Body.Close()
	if _, err := io.Copy(io.Discard, answer.Body); err != nil {
		return "not answered"
	}
	return answer.Status
}

// watch has a small model checked again and again, as a user does who has no part in all this.
func (h *hostility) watch(ctx context.Context, text string) {
	body, _ := json.Marshal(map[string]string{"text": text})
	client := &http.Client{Timeout: time.Minute}
	for n := 0; ctx.Err() == nil; n++ {
		address := h.fleet.Client(n%2).URL + "/api/v1/check"
		req, err := http.NewRequestWithContext(ctx, "POST", address, bytes.NewReader(body))
		if err != nil {
			return
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Bearer "+h.token["skerry"])
		began, status := time.Now(), 0
		if answer, err := client.Do(req); err == nil {
			if _, err = io.Copy(io.Discard, answer.Body); err == nil {
				status = answer.StatusCode
			}
			answer.Body.Close()
		}
		if ctx.Err() != nil {
			return
		}
		h.mu.Lock()
		h.answered[status]++
		if status == http.StatusOK {
			h.checks = append(h.checks, time.Since(began))
		}
		h.mu.Unlock()
		time.Sleep(250 * time.Millisecond)
	}
}

// hang lets the database hang for some seconds.
func (h *hostility) hang() error {
	if err := h.fleet.Database.Freeze(); err != nil {
		return err
	}
	time.Sleep(time.Duration(5+rand.IntN(30)) * time.Second)
	return h.fleet.Database.Thaw()
}

// fill fills the disk of the database for some seconds.
func (h *hostility) fill() error {
	filler := filepath.Join(h.disk, "filler")
	f, err := os.Create(filler)
	if err != nil {
		return err
	}
	for block := make([]byte, 1<<20); err == nil; {
		_, err = f.Write(block)
	}
	f.Close()
	time.Sleep(time.Duration(5+rand.IntN(10)) * time.Second)
	if err := os.Remove(filler); err != nil {
		return err
	}
	if h.fleet.Database.Ended() { // `serve` starts its own again by itself
		return h.fleet.Database.Resume(context.Background())
	}
	return nil
}

// ownDisk gives a folder a disk of its own, which can be filled; ok is false without the right to do so.
func ownDisk(dir string) (remove func(), ok bool) {
	if os.MkdirAll(dir, 0o755) != nil || syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=1g,mode=755") != nil {
		return func() {}, false
	}
	return func() { syscall.Unmount(dir, syscall.MNT_DETACH) }, true
}

// report prints what was sent, and what the bystander saw.
func (h *hostility) report() {
	h.mu.Lock()
	defer h.mu.Unlock()
	all := 0
	for _, n := range h.sent {
		all += n
	}
	fmt.Printf("%d hostile requests:\n", all)
	var names []string
	for name := range h.sent {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Printf("%6d %s\n", h.sent[name], name)
	}
	slices.Sort(h.checks)
	fmt.Printf("a bystander's checks, by status (0: not answered): %v; those of 200: p50 %v, p99 %v, longest %v\n",
		h.answered, at(h.checks, 0.5), at(h.checks, 0.99), at(h.checks, 1))
}
