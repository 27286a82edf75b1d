package main

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	"google.golang.org/protobuf/proto"
)

// TestTheServiceTracesItself, where it is told where to.
func TestTheServiceTracesItself(t *testing.T) {
	names := []string{}
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		var got collector.ExportTraceServiceRequest
		require.NoError(t, proto.Unmarshal(body, &got))
		for _, span := range got.ResourceSpans[0].ScopeSpans[0].Spans {
			names = append(names, span.Name)
		}
	}))
	defer receiver.Close()
	handler, stop, err := traced(context.Background(), receiver.URL, http.NotFoundHandler())
	require.NoError(t, err)
	for _, path := range []string{"/api/v1/starters", "/healthz"} {
		handler.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", path, nil))
	}
	require.NoError(t, stop(context.Background()))
	require.Equal(t, []string{"GET /api/v1/starters"}, names)
	_, _, err = traced(context.Background(), "nowhere", nil)
	require.ErrorContains(t, err, "-traces nowhere")
}
