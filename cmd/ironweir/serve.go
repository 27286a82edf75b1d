package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"ironweir/jobs"
	"ironweir/observation"
	"ironweir/service"
	"ironweir/service/isolation"
	"ironweir/store"
	"ironweir/store/postgres"
)

var serveCommand = &command{
	name:  "serve",
	args:  "",
	short: "Start the service: console and API on loopback, with its own PostgreSQL",
	example: `ironweir serve
ironweir serve -listen 127.0.0.1:8500 -data /srv/ironweir
ironweir serve -database postgres://weir@/weir?host=/run/postgresql -workers 0
ironweir serve -listen 0.0.0.0:8420 -cert weir.crt -key weir.key
IRONWEIR_LISTEN=127.0.0.1:8500 ironweir serve -show-config`,
	run: func(c *call) (int, error) {
		o := c.serveFlags()
		if err := c.parse(0, 0); err != nil {
			return 0, err
		}
		if err := c.fromEnvironment(); err != nil {
			return 0, err
		}
		if *o.show {
			c.showConfig()
			return exitFine, nil
		}
		if err := o.valid(); err != nil {
			return 0, err
		}
		log := c.logger(*o.verbose, *o.logFormat)
		// The port first: a second start must not touch the first one's data.
		listener, err := net.Listen("tcp", *o.listen)
		if errors.Is(err, syscall.EADDRINUSE) {
			return 0, unreachable{
				fmt.Errorf(
					"something listens on %s already%s; choose another port with -listen 127.0.0.1:PORT",
					*o.listen,
					whoListens(*o.listen),
				),
			}
		}
		if err != nil {
			return 0, unreachable{fmt.Errorf("listening on %s: %w", *o.listen, err)}
		}
		defer listener.Close()
		s, stop, err := c.openStore(*o.database, *o.data)
		if err != nil {
			return 0, err
		}
		defer stop()
		return c.serve(o, s, listener, log)
	},
}

// serveOptions are the flags of serve.
type serveOptions struct {
	host                                         *string
	listen, data, database, cert, key, logFormat *string
	passwordFile                                 *string
	demo, verbose, behindProxy, show, hooks      *bool
	traces                                       *string
	workers                                      *int
}

func (c *call) serveFlags() *serveOptions {
	return &serveOptions{
		listen: c.String(
			"listen",
			"127.0.0.1:8420",
			"`ADDRESS` to listen on; beyond loopback only with users, and TLS or -behind-proxy",
		),
		data: c.String(
			"data",
			"",
			"data directory `DIR` of the service's own PostgreSQL; by default "+defaultData(),
		),
		database: c.String("database", "", "use the PostgreSQL at `URL` instead of starting one"),
		cert:     c.String("cert", "", "certificate `FILE` (PEM), to serve HTTPS"),
		key:      c.String("key", "", "private key `FILE` (PEM) of the certificate"),
		passwordFile: c.String(
			"admin-password-file",
			"",
			"where nobody administers the service yet, admin signs in with the password in `FILE`",
		),
		behindProxy: c.Bool(
			"behind-proxy",
			false,
			"a proxy that ends TLS passes requests on, and says in X-Forwarded-For where they come from",
		),
		workers: c.Int(
			"workers",
			runtime.GOMAXPROCS(0),
			"parts of runs that are worked on here at once, `N`; 0: none, `ironweir worker` does it",
		),
		host: c.String(
			"host",
			"",
			"`NAMES`, with commas, by which browsers reach the service, beside localhost and addresses",
		),
		traces: c.String(
			"traces",
			"",
			"send traces of the service's own requests to `ADDRESS` by OTLP/HTTP, such as http://127.0.0.1:4318",
		),
		hooks: c.Bool(
			"hooks",
			false,
			"let functions of rehearsals be answered by the handlers that their hook names, on this machine only",
		),
		demo:      c.Bool("demo", false, "load the demo's models, where they are not there yet"),
		verbose:   c.Bool("verbose", false, "log every request"),
		logFormat: c.String("log", "text", "log `FORMAT`: text, json"),
		show:      c.Bool("show-config", false, "print what holds, from flags and environment, and stop"),
	}
}

func (o *serveOptions) valid() error {
	if _, _, err := net.SplitHostPort(*o.listen); err != nil {
		return fmt.Errorf("-listen %s: write it as 127.0.0.1:PORT", *o.listen)
	}
	if (*o.cert == "") != (*o.key == "") {
		return fmt.Errorf("-cert and -key go together")
	}
	if *o.workers < 0 || *o.workers > 1000 {
		return fmt.Errorf("-workers %d: from 0 to 1000", *o.workers)
	}
	if !onLoopback(*o.listen) && *o.cert == "" && !*o.behindProxy {
		return fmt.Errorf(
			"-listen %s: beyond loopback the service listens with TLS (-cert and -key), or behind a proxy that ends it (-behind-proxy)",
			*o.listen,
		)
	}
	return nil
}

// hosts are the names that the service answers to: all, where a proxy stands before it
// that has checked them, or a certificate says them, and none is named.
func (o *serveOptions) hosts() []string {
	if *o.host == "" && (*o.behindProxy || *o.cert != "") { // a certificate names its host
		return nil
	}
	out := []string{}
	for _, name := range strings.Split(*o.host, ",") {
		if name = strings.TrimSpace(name); name != "" {
			out = append(out, name)
		}
	}
	return out
}

// logger writes the log of a long-running command to standard error.
func (c *call) logger(verbose bool, format string) *slog.Logger {
	options := &slog.HandlerOptions{Level: slog.LevelInfo}
	if verbose {
		options.Level = slog.LevelDebug
	}
	if format == "json" {
		return slog.New(slog.NewJSONHandler(c.err, options))
	}
	return slog.New(slog.NewTextHandler(c.err, options))
}

// openStore opens the database at a URL, or starts one on a data directory.
func (c *call) openStore(database, dir string) (s *store.Store, stop func(), err error) {
	stops := []func(){}
	stop = func() {
		for i := len(stops) - 1; i >= 0; i-- {
			stops[i]()
		}
	}
	fail := func(err error) (*store.Store, func(), error) {
		stop()
		return nil, nil, unreachable{err}
	}
	if database == "" {
		if dir == "" {
			dir = defaultData()
		}
		unlock, err := lockDirectory(dir)
		if err != nil {
			return fail(err)
		}
		stops = append(stops, unlock)
		server, err := postgres.Start(c, filepath.Join(dir, "postgresql"))
		if err != nil {
			return fail(err)
		}
		watched, cancel := context.WithCancel(c)
		var watching sync.WaitGroup
		watching.Add(1)
		go func() {
			defer watching.Done()
			server.Supervise(
				watched,
				func(what string, err error) { fmt.Fprintln(c.err, "ironweir:", what, errorText(err)) },
			)
		}()
		stops = append(stops, server.Stop, func() { cancel(); watching.Wait() })
		database = server.URL
	}
	if s, err = store.Open(c, database); err != nil {
		return fail(err)
	}
	stops = append(stops, s.Close)
	return s, stop, nil
}

func errorText(err error) string {
	if err == nil {
		return ""
	}
	return "(" + err.Error() + ")"
}

// serve answers requests until it is told to stop, then hands back what it was
// at.
func (c *call) serve(o *serveOptions, s *store.Store, listener net.Listener, log *slog.Logger) (int, error) {
	ctx, cancel := context.WithCancel(c)
	defer cancel()
	if _, err := s.EnsureWorkspace(ctx); err != nil {
		return 0, unreachable{err}
	}
	if *o.demo {
		if err := service.LoadDemo(ctx, s); err != nil {
			return 0, err
		}
	}
	fresh, err := c.administrator(ctx, o, s)
	if err != nil {
		return 0, err
	}
	secret := ""
	if fresh {
		if secret, err = s.FirstAdminLink(ctx, "admin", time.Hour); err != nil {
			return 0, unreachable{err}
		}
	}
	queue, err := jobs.NewQueue(s, log)
	if err != nil {
		return 0, err
	}
	handler := service.New(
		s,
		queue,
		log,
		service.Options{
			TLS:         *o.cert != "" || *o.behindProxy,
			BehindProxy: *o.behindProxy,
			Commands:    doSent,
			Program:     isolatedProgram(log),
			Hooks:       *o.hooks,
			Hosts:       o.hosts(),
		},
	)
	defer handler.Close()
	work := o.work(ctx, &observation.Keeper{Store: s, Log: log, Work: handler.Work()}, queue, log)
	go handler.Warm()
	answering, sendTraces, err := traced(ctx, *o.traces, handler)
	if err != nil {
		return 0, err
	}
	server := &http.Server{
		Handler:           answering,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		BaseContext:       func(net.Listener) context.Context { return ctx },
		ErrorLog:          slog.NewLogLogger(log.Handler(), slog.LevelDebug),
	}
	failed := make(chan error, 1)
	address := "http://" + listener.Addr().String()
	if *o.cert != "" {
		address = "https://" + listener.Addr().String()
		go func() { failed <- server.ServeTLS(listener, *o.cert, *o.key) }()
	} else {
		go func() { failed <- server.Serve(listener) }()
	}
	fmt.Fprintf(c.out, "Iron Weir is at %s\n", address)
	if fresh {
		fmt.Fprintf(c.out, "Sign in, once and within the hour: %s/sign-in#%s\n", address, secret)
	}
	fmt.Fprintln(c.out, "Ctrl-C stops it.")
	select {
	case err := <-failed:
		return 0, unreachable{err}
	case <-c.Done():
	}
	fmt.Fprintln(c.err, "stopping …")
	cancel() // ends streams and hands runs under way back
	drain, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	server.Shutdown(drain)
	sendTraces(drain)
	work.Wait()
	return exitFine, nil
}

// administrator sees to it that somebody administers the service, and reports whether that
// is still to be chosen, by the link that is printed.
func (c *call) administrator(ctx context.Context, o *serveOptions, s *store.Store) (fresh bool, err error) {
	if *o.passwordFile != "" {
		if err := c.firstAdmin(ctx, s, *o.passwordFile); err != nil {
			return false, err
		}
	}
	fresh, err = s.NeedsAdmin(ctx)
	if err != nil {
		return false, unreachable{err}
	}
	if fresh && !onLoopback(*o.listen) {
		return false, fmt.Errorf(
			"-listen %s: beyond loopback the service needs somebody who administers it; give a password with -admin-password-file, or start it on loopback first, sign in with the link that it prints, and choose a password in the settings",
			*o.listen,
		)
	}
	return fresh, nil
}

// work starts the relay of the queue, the keeper of what is observed, and a worker if there is to be one.
func (o *serveOptions) work(
	ctx context.Context, keeper *observation.Keeper, queue *jobs.Queue, log *slog.Logger,
) *sync.WaitGroup {
	work := &sync.WaitGroup{}
	work.Add(2)
	go func() { defer work.Done(); queue.Relay(ctx) }()
	go func() { defer work.Done(); keeper.Run(ctx) }()
	if *o.workers > 0 {
		work.Add(1)
		go func() {
			defer work.Done()
			if err := jobs.NewWorker(queue, *o.workers, log).Run(ctx); err != nil {
				log.Error("the worker has ended", "error", err)
			}
		}()
	}
	return work
}

// firstAdmin lets admin in with the password in a file, where nobody administers the service.
func (c *call) firstAdmin(ctx context.Context, s *store.Store, file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("-admin-password-file: %w", plainError(err))
	}
	password := strings.TrimRight(string(text), "\r\n")
	if why := service.WeakPassword(password, "admin"); why != "" {
		return fmt.Errorf("-admin-password-file %s: the password %s", file, why)
	}
	if err := s.FirstAdmin(ctx, "admin", password); err != nil {
		return unreachable{err}
	}
	return nil
}

// fromEnvironment sets the flags that were not given from IRONWEIR_NAME.
func (c *call) fromEnvironment() error {
	given := map[string]bool{}
	c.Visit(func(f *flag.Flag) { given[f.Name] = true })
	var err error
	c.VisitAll(func(f *flag.Flag) {
		name := environmentName(f.Name)
		if value, ok := os.LookupEnv(name); ok && !given[f.Name] && err == nil {
			if e := f.Value.Set(value); e != nil {
				err = fmt.Errorf("%s=%s: %w", name, value, e)
			}
		}
	})
	return err
}

func environmentName(flag string) string {
	return "IRONWEIR_" + strings.ToUpper(strings.ReplaceAll(flag, "-", "_"))
}

// showConfig prints every flag with what holds, and how the environment sets it.
func (c *call) showConfig() {
	c.VisitAll(func(f *flag.Flag) {
		if f.Name == "show-config" {
			return
		}
		value := f.Value.String()
		if u, err := url.Parse(value); err == nil && u.User != nil {
			value = u.Redacted()
		}
		fmt.Fprintf(c.out, "%-24s = %s\n", environmentName(f.Name), value)
	})
}

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

// onLoopback reports whether an address is reached from this machine alone.
func onLoopback(address string) bool {
	host, _, _ := net.SplitHostPort(address)
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// whoListens reports whether what answers at an address is Iron Weir.
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
	if err := lockFile(f); err != nil {
		f.Close()
		return nil, fmt.Errorf(
			"another Iron Weir already uses %s; stop it, or choose another directory with -data",
			dir,
		)
	}
	return func() { f.Close() }, nil
}

// isolatedName is the argument with which the service starts this program to compute on what
// somebody has sent. It is no command: without the service it has nothing to do.
const isolatedName = "isolated"

// isolatedProgram is how this program is started for computations.
func isolatedProgram(log *slog.Logger) []string {
	if !isolation.Supported {
		log.Warn("computations are done in the service itself: on this system a hostile model can take its memory")
		return nil
	}
	path, err := os.Executable()
	if err != nil {
		log.Warn("computations are done in the service itself: this program does not know where it lies", "error", err)
		return nil
	}
	return []string{path, os.Args[0], isolatedName}
}

// computeIsolated answers what the service sends to this process.
func computeIsolated(errOut io.Writer) int {
	if err := service.RunIsolated(doSent); err != nil {
		fmt.Fprintln(errOut, "ironweir:", err)
		return exitUsage
	}
	return exitFine
}
