package isolation

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"time"
)

// IsChild reports whether this process was started by the service to answer requests.
func IsChild() bool { return os.Getenv(dataLimit) != "" }

// Lasts reports whether this process answers requests until RunUntil lets it end.
func Lasts() bool { return os.Getenv(lastsMark) != "" }

// Run answers requests in a process that a pool has started, until the pool has gone.
func Run(handler http.Handler) error {
	conn, err := begin(bounds{files: 64})
	if err != nil {
		return err
	}
	l := &single{conn: make(chan net.Conn, 1), done: make(chan struct{})}
	l.conn <- conn
	server := &http.Server{
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			answered := context.AfterFunc(r.Context(), gone)
			defer answered()
			handler.ServeHTTP(w, r)
		}),
		ConnState: func(_ net.Conn, s http.ConnState) {
			if s == http.StateClosed {
				gone()
			}
		},
	}
	return server.Serve(l)
}

// RunUntil answers requests in a process that StartLasting has started, any number at a time,
// until something is done and what is being answered then has been, or the service has gone.
func RunUntil(done <-chan struct{}, handler http.Handler) error {
	conn, err := begin(bounds{files: mostConnections + 64, fileBytes: 1 << 30})
	if err != nil {
		return err
	}
	server := &http.Server{Handler: handler}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(handedOver{conn.(*net.UnixConn)}) }()
	select {
	case err := <-failed:
		return err
	case <-done:
	}
	ctx, cancel := context.WithTimeout(context.Background(), lastAnswers)
	defer cancel()
	server.Shutdown(ctx) // an answer that nobody reads is cut off
	return nil
}

// lastAnswers bounds what is still answered once a lasting process has done its work.
const lastAnswers = 5 * time.Second

// gone ends this process: whatever is still computed, nobody waits for it.
func gone() { os.Exit(0) }

// bounds are what a process may open and write, beside its memory.
type bounds struct {
	files     uint64 // open at once
	fileBytes uint64 // of the largest
}

// begin limits this process and gives its end of the connection to the service.
func begin(b bounds) (net.Conn, error) {
	memory, err := strconv.ParseInt(os.Getenv(dataLimit), 10, 64)
	if err != nil {
		return nil, errors.New("this is for the service to start")
	}
	if err := confine(memory, b); err != nil {
		return nil, fmt.Errorf("limiting the process: %w", err)
	}
	file := os.NewFile(3, "connection")
	defer file.Close() // FileConn makes a copy
	return net.FileConn(file)
}

// handedOver listens for connections that the service hands over on the first.
type handedOver struct{ control *net.UnixConn }

func (l handedOver) Accept() (net.Conn, error) {
	conn, err := receive(l.control)
	if errors.Is(err, io.EOF) {
		gone()
	}
	return conn, err
}

func (l handedOver) Close() error   { return l.control.Close() }
func (l handedOver) Addr() net.Addr { return l.control.LocalAddr() }

// single is a listener of one connection.
type single struct {
	conn chan net.Conn
	done chan struct{}
}

func (l *single) Accept() (net.Conn, error) {
	select {
	case c := <-l.conn:
		return c, nil
	case <-l.done:
		return nil, net.ErrClosed
	}
}

func (l *single) Close() error   { close(l.done); return nil }
func (l *single) Addr() net.Addr { return &net.UnixAddr{} }
