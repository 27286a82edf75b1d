package service

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// beatTime is how often a stream without news says that it is still there.
const beatTime = 15 * time.Second

// stream is an answer of Server-Sent Events.
type stream struct {
	to       io.Writer
	flusher  http.Flusher
	sequence int
}

func startStream(ctx huma.Context) *stream {
	ctx.SetHeader("Content-Type", "text/event-stream")
	ctx.SetHeader("X-Accel-Buffering", "no")
	s := &stream{to: ctx.BodyWriter()}
	s.flusher, _ = s.to.(http.Flusher)
	return s
}

// send sends an event; false: the reader has gone.
func (s *stream) send(kind string, data []byte) bool {
	s.sequence++
	_, err := fmt.Fprintf(s.to, "id: %d\nevent: %s\ndata: %s\n\n", s.sequence, kind, data)
	s.flush()
	return err == nil
}

// beat says that the stream is still there; false: the reader has gone.
func (s *stream) beat() bool {
	_, err := io.WriteString(s.to, ": still here\n\n")
	s.flush()
	return err == nil
}

func (s *stream) flush() {
	if s.flusher != nil {
		s.flusher.Flush()
	}
}

// streaming counts a stream until it is over, and ends its context when its reader may follow
// it no longer.
func (v *Service) streaming(ctx huma.Context) (inner context.Context, over func()) {
	v.streams.Add(1)
	inner, cancel := context.WithCancel(ctx.Context())
	var looks sync.WaitGroup
	if v.only == everything {
		access := v.lastingAccess(ctx)
		looks.Go(func() {
			look := time.NewTicker(accessTime)
			defer look.Stop()
			for {
				select {
				case <-inner.Done():
					return
				case <-look.C:
					if access.ended(inner) {
						cancel()
					}
				}
			}
		})
	}
	return inner, func() {
		cancel()
		looks.Wait()
		v.streams.Add(-1)
	}
}

// follow sends news as they come until send says that it is enough, something is done, the
// reader has gone or may follow no longer.
func follow[T any](v *Service, ctx huma.Context, out *stream, news <-chan T, done <-chan struct{}, send func(T) bool) {
	inner, over := v.streaming(ctx)
	defer over()
	beat := time.NewTicker(beatTime)
	defer beat.Stop()
	for going := true; going; {
		select {
		case <-inner.Done():
			return
		case <-done:
			out.send("ended", []byte("{}"))
			return
		case one := <-news:
			going = send(one)
		case <-beat.C:
			going = out.beat()
		}
	}
}
