package service

import (
	"fmt"
	"io"
	"net/http"
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
