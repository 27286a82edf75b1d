// Package fleet starts services and workers of the built program on a database of
// their own, for the measurements of this folder.
package fleet

import (
	"context"
	"fmt"
	"net"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"time"

	"ironweir/client"
	"ironweir/store/postgres"
)

// ModelText is a small model that keeps a worker busy for a moment.
const ModelText = `ironweir: topology/1
name: soak
nodes:
  slip: {kind: queue, rate: 2/s, lease: 30s, links: {clear: {retry: {tries: 3}, dead-letter: desk}}}
  clear: {kind: function, takes: 400ms, concurrency: 4, fails: 5%}
  desk: {kind: queue}
`

// Process is one of the programs.
type Process struct {
	Name    string
	program string
	args    []string
	mu      sync.Mutex
	cmd     *exec.Cmd
	out     *lines
}

// lines keeps what a program prints.
type lines struct {
	mu   sync.Mutex
	text strings.Builder
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *lines) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// Start starts the program, for the first time or again.
func (p *Process) Start() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.out = &lines{}
	p.cmd = exec.Command(p.program, p.args...)
	p.cmd.Stdout, p.cmd.Stderr = p.out, p.out
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	return p.cmd.Start()
}

// End sends a signal and waits until the program has ended.
func (p *Process) End(signal syscall.Signal) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.cmd.Process.Signal(signal)
	p.cmd.Wait()
}

// PID is the number of its process.
func (p *Process) PID() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.cmd.Process.Pid
}

// Fleet is what was started.
type Fleet struct {
	Database  *postgres.Server
	Services  []*Process
	Workers   []*Process
	addresses []string
	Token     string // of who administers the service
}

// Start starts services and workers on a new database in dir, which its user must
// be able to enter, and signs in.
func Start(ctx context.Context, program, dir string, services, workers int) (*Fleet, error) {
	database, err := postgres.Start(ctx, dir+"/pg")
	if err != nil {
		return nil, err
	}
	f := &Fleet{Database: database}
	for i := range services {
		address, err := freeAddress()
		if err != nil {
			return nil, err
		}
		f.addresses = append(f.addresses, address)
		f.Services = append(
			f.Services,
			&Process{
				Name:    fmt.Sprintf("service %d", i+1),
				program: program,
				args:    []string{"serve", "-database", database.URL, "-listen", address, "-workers", "0"},
			},
		)
	}
	for range workers {
		f.AddWorker(program)
	}
	for _, p := range f.All() {
		if err := p.Start(); err != nil {
			return nil, err
		}
	}
	return f, f.signIn(ctx)
}

// freeAddress gives an address on loopback that nothing listens at.
func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// AddWorker adds a worker, which is not started yet.
func (f *Fleet) AddWorker(program string) *Process {
	p := &Process{
		Name:    fmt.Sprintf("worker %d", len(f.Workers)+1),
		program: program,
		args:    []string{"worker", "-database", f.Database.URL, "-slots", "1"},
	}
	f.Workers = append(f.Workers, p)
	return p
}

// All lists services and workers.
func (f *Fleet) All() []*Process { return append(append([]*Process{}, f.Services...), f.Workers...) }

// Client makes a client of a service.
func (f *Fleet) Client(service int) *client.Client {
	return client.New("http://"+f.addresses[service%len(f.addresses)], f.Token, "main")
}

// Stop ends everything.
func (f *Fleet) Stop() {
	for _, p := range f.All() {
		p.End(syscall.SIGTERM)
	}
	f.Database.Stop()
}

func (f *Fleet) signIn(ctx context.Context) error {
	link := regexp.MustCompile(`#(\S+)`)
	for range 600 {
		for i, p := range f.Services {
			if m := link.FindStringSubmatch(p.out.String()); m != nil {
				api := f.Client(i)
				_, err := api.Login(ctx, m[1], "", "", "measurement")
				f.Token = api.Token
				return err
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	return fmt.Errorf("no service came up: %s", f.Services[0].out)
}
