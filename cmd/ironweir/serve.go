package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"ironweir/jobs"
	"ironweir/service"
	"ironweir/store"
	"ironweir/store/postgres"
)

var serveCommand = &command{name: "serve", args: "", short: "Start the service: console and API on loopback, with its own PostgreSQL",
	example: `ironweir serve
ironweir serve -listen 127.0.0.1:8500 -data /srv/ironweir
ironweir serve -database postgres://weir@/weir?host=/run/postgresql`,
	run: func(c *call) (int, error) {
		listen := c.String("listen", "127.0.0.1:8420", "`ADDRESS` to listen on; loopback only")
		data := c.String("data", "", "data directory `DIR` of the service's own PostgreSQL; by default "+defaultData())
		database := c.String("database", "", "use the PostgreSQL at `URL` instead of starting one")
		loadDemo := c.Bool("demo", false, "load the demo's models, where they are not there yet")
		verbose := c.Bool("verbose", false, "log every request")
		if err := c.parse(0, 0); err != nil {
			return 0, err
		}
		if err := loopbackOnly(*listen); err != nil {
			return 0, err
		}
		level := slog.LevelInfo
		if *verbose {
			level = slog.LevelDebug
		}
		log := slog.New(slog.NewTextHandler(c.err, &slog.HandlerOptions{Level: level}))
		// The port first: a second start must not touch the first one's data.
		listener, err := net.Listen("tcp", *listen)
		if errors.Is(err, syscall.EADDRINUSE) {
			return 0, unreachable{fmt.Errorf("something listens on %s already%s; choose another port with -listen 127.0.0.1:PORT", *listen, whoListens(*listen))}
		}
		if err != nil {
			return 0, unreachable{fmt.Errorf("listening on %s: %w", *listen, err)}
		}
		defer listener.Close()
		ctx, cancel := context.WithCancel(c)
		defer cancel()
		url := *database
		if url == "" {
			dir := *data
			if dir == "" {
				dir = defaultData()
			}
			unlock, err := lockDirectory(dir)
			if err != nil {
				return 0, unreachable{err}
			}
			defer unlock()
			server, err := postgres.Start(ctx, filepath.Join(dir, "postgresql"))
			if err != nil {
				return 0, unreachable{err}
			}
			defer server.Stop()
			url = server.URL
		}
		s, err := store.Open(ctx, url)
		if err != nil {
			return 0, unreachable{err}
		}
		defer s.Close()
		if *loadDemo {
			if err := service.LoadDemo(ctx, s); err != nil {
				return 0, err
			}
		}
		secret, err := s.SignInLink(ctx, "admin", "admin", time.Hour)
		if err != nil {
			return 0, unreachable{err}
		}
		runner := jobs.New(s, log)
		ended := make(chan struct{})
		go func() {
			runner.Run(ctx)
			close(ended)
		}()
		server := &http.Server{Handler: service.New(s, runner, log), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, BaseContext: func(net.Listener) context.Context { return ctx }}
		failed := make(chan error, 1)
		go func() { failed <- server.Serve(listener) }()
		address := "http://" + listener.Addr().String()
		fmt.Fprintf(c.out, "Iron Weir is at %s\nSign in, once and within the hour: %s/sign-in#%s\nCtrl-C stops it.\n", address, address, secret)
		select {
		case err := <-failed:
			return 0, unreachable{err}
		case <-c.Done():
		}
		fmt.Fprintln(c.err, "stopping …")
		cancel() // ends streams and hands the run under way back
		drain, stop := context.WithTimeout(context.Background(), 10*time.Second)
		defer stop()
		server.Shutdown(drain)
		<-ended
		return exitFine, nil
	}}

// defaultData is where the data lies: a directory that the database's user can
// enter.
func defaultData() string {
	if os.Getuid() == 0 {
		return "/var/lib/ironweir"
	}
	if dir := os.Getenv("XDG_DATA_HOME"); dir != "" {
		return filepath.Join(dir, "ironweir")
	}
	home, _ := os.UserHomeDir()
	return filepath.Join(home, ".local", "share", "ironweir")
}

func loopbackOnly(address string) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return fmt.Errorf("-listen %s: write it as 127.0.0.1:PORT", address)
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("-listen %s: the service listens on loopback only (127.0.0.1 or [::1])", address)
	}
	return nil
}

// whoListens tells whether what answers at an address is Iron Weir.
func whoListens(address string) string {
	client := http.Client{Timeout: time.Second}
	answer, err := client.Get("http://" + address + "/api/openapi.json")
	if err != nil {
		return ""
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if strings.Contains(string(text), `"title":"Iron Weir"`) {
		return ": Iron Weir is running there"
	}
	return ""
}

// lockDirectory makes sure that one service uses a data directory.
func lockDirectory(dir string) (unlock func(), err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("the data directory: %w", plainError(err))
	}
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data directory cannot be written: %w", plainError(err))
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("another Iron Weir already uses %s; stop it, or choose another directory with -data", dir)
	}
	return func() { f.Close() }, nil
}

var migrateCommand = &command{name: "migrate", args: "", short: "Bring a database's schema up to date",
	example: "ironweir migrate -database postgres://weir@/weir?host=/run/postgresql",
	run: func(c *call) (int, error) {
		database := c.String("database", "", "the PostgreSQL at `URL`")
		if err := c.parse(0, 0); err != nil {
			return 0, err
		}
		if *database == "" {
			return 0, fmt.Errorf("-database is missing: the address of the database, postgres://…")
		}
		s, err := store.Open(c, *database)
		if err != nil {
			return 0, unreachable{err}
		}
		s.Close()
		fmt.Fprintln(c.out, "The schema is up to date.")
		return exitFine, nil
	}}
