package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"go.opentelemetry.io/contrib/instrumentation/net/http/otelhttp"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/resource"
	"go.opentelemetry.io/otel/sdk/trace"

	"ironweir/core/document"
)

// traced sends a trace of every request to an address by OTLP/HTTP; without an
// address nothing is traced. stop sends what is left.
func traced(
	ctx context.Context,
	address string,
	handler http.Handler,
) (out http.Handler, stop func(context.Context) error, err error) {
	if address == "" {
		return handler, func(context.Context) error { return nil }, nil
	}
	if u, err := url.Parse(address); err != nil || u.Host == "" {
		return nil, nil, fmt.Errorf("-traces %s: an address is like http://127.0.0.1:4318", address)
	}
	exporter, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(address+"/v1/traces"))
	if err != nil {
		return nil, nil, fmt.Errorf("-traces: %w", err)
	}
	provider := trace.NewTracerProvider(
		trace.WithBatcher(exporter),
		trace.WithResource(
			resource.NewSchemaless(
				attribute.String("service.name", "ironweir"),
				attribute.String("service.version", document.Version),
			),
		),
	)
	out = otelhttp.NewHandler(
		handler,
		"request",
		otelhttp.WithTracerProvider(provider),
		otelhttp.WithPropagators(propagation.TraceContext{}),
		otelhttp.WithSpanNameFormatter(func(_ string, r *http.Request) string { return r.Method + " " + r.URL.Path }),
		otelhttp.WithFilter(func(r *http.Request) bool {
			return r.URL.Path != "/healthz" && r.URL.Path != "/readyz" && r.URL.Path != "/metrics"
		}),
	)
	return out, provider.Shutdown, nil
}
