// Package otlp writes and reads traces in the forms of the OpenTelemetry
// protocol: JSON, JSON Lines and protobuf.
package otlp

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	trace "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"ironweir/core/document"
	"ironweir/core/learn"
)

var kinds = map[learn.Kind]trace.Span_SpanKind{
	learn.Internal: trace.Span_SPAN_KIND_INTERNAL, learn.Server: trace.Span_SPAN_KIND_SERVER,
	learn.Client:   trace.Span_SPAN_KIND_CLIENT,
	learn.Producer: trace.Span_SPAN_KIND_PRODUCER, learn.Consumer: trace.Span_SPAN_KIND_CONSUMER,
}

// numeric attributes are sent as numbers, as their conventions say.
var numeric = map[string]bool{learn.Status: true, learn.BatchCount: true}

func attribute(key, value string) *common.KeyValue {
	v := &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: value}}
	if n, err := strconv.ParseInt(value, 10, 64); err == nil && numeric[key] {
		v = &common.AnyValue{Value: &common.AnyValue_IntValue{IntValue: n}}
	}
	return &common.KeyValue{Key: key, Value: v}
}

// message makes the protocol's own message of spans, by service.
func message(spans []learn.Span) (*trace.TracesData, error) {
	byService := map[string]*trace.ScopeSpans{}
	out := &trace.TracesData{}
	for i := range spans {
		s := &spans[i]
		scope := byService[s.Service]
		if scope == nil {
			scope = &trace.ScopeSpans{Scope: &common.InstrumentationScope{Name: "ironweir", Version: document.Version}}
			byService[s.Service] = scope
			attributes := []*common.KeyValue{attribute("service.name", s.Service)}
			if kind := s.Attributes[learn.OwnKind]; kind != "" {
				attributes = append(attributes, attribute(learn.OwnKind, kind))
			}
			out.ResourceSpans = append(
				out.ResourceSpans,
				&trace.ResourceSpans{
					Resource:   &resource.Resource{Attributes: attributes},
					ScopeSpans: []*trace.ScopeSpans{scope},
				},
			)
		}
		x := &trace.Span{
			Name:              s.Name,
			Kind:              kinds[s.Kind],
			StartTimeUnixNano: uint64(s.Start),
			EndTimeUnixNano:   uint64(s.End),
		}
		for _, id := range []struct {
			text string
			to   *[]byte
		}{{s.Trace, &x.TraceId}, {s.ID, &x.SpanId}, {s.Parent, &x.ParentSpanId}} {
			var err error
			if *id.to, err = hex.DecodeString(id.text); err != nil {
				return nil, fmt.Errorf("the id %q of a span is not hex: %w", id.text, err)
			}
		}
		keys := make([]string, 0, len(s.Attributes))
		for k := range s.Attributes {
			keys = append(keys, k)
		}
		sort.Strings(keys)
		for _, k := range keys {
			if v := s.Attributes[k]; v != "" && k != learn.OwnKind {
				x.Attributes = append(x.Attributes, attribute(k, v))
			}
		}
		if s.Error != "" {
			x.Status = &trace.Status{Code: trace.Status_STATUS_CODE_ERROR, Message: s.Error}
			x.Attributes = append(x.Attributes, attribute("error.type", s.Error))
		}
		scope.Spans = append(scope.Spans, x)
	}
	return out, nil
}

// JSON writes spans as one OTLP JSON document, in the protocol's own spelling:
// ids in hex, enumerations as numbers.
func JSON(spans []learn.Span) ([]byte, error) {
	m, err := message(spans)
	if err != nil {
		return nil, err
	}
	text, err := protojson.MarshalOptions{UseEnumNumbers: true}.Marshal(m)
	if err != nil {
		return nil, err
	}
	var doc any
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if err := d.Decode(&doc); err != nil {
		return nil, err
	}
	if err := rewriteIDs(doc, base64.StdEncoding.DecodeString, hex.EncodeToString); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	e.SetIndent("", " ")
	err = e.Encode(doc)
	return out.Bytes(), err
}

// idFields are bytes in the protocol: base64 in the general mapping of protobuf
// to JSON, hex in OTLP's.
var idFields = map[string]bool{
	"traceId":        true,
	"spanId":         true,
	"parentSpanId":   true,
	"trace_id":       true,
	"span_id":        true,
	"parent_span_id": true,
}

func rewriteIDs(v any, decode func(string) ([]byte, error), encode func([]byte) string) error {
	switch v := v.(type) {
	case map[string]any:
		for k, x := range v {
			if text, ok := x.(string); ok && idFields[k] {
				id, err := decode(text)
				if err != nil {
					return fmt.Errorf("%s %q cannot be read: %w", k, text, err)
				}
				v[k] = encode(id)
				continue
			}
			if err := rewriteIDs(x, decode, encode); err != nil {
				return err
			}
		}
	case []any:
		for _, x := range v {
			if err := rewriteIDs(x, decode, encode); err != nil {
				return err
			}
		}
	}
	return nil
}

// Protobuf writes spans as the body of an export request, which has the same
// bytes as a file of traces.
func Protobuf(spans []learn.Span) ([]byte, error) {
	m, err := message(spans)
	if err != nil {
		return nil, err
	}
	return proto.Marshal(&collector.ExportTraceServiceRequest{ResourceSpans: m.ResourceSpans})
}

// Export sends spans to an OTLP/HTTP address, such as http://127.0.0.1:4318, in
// requests of at most 2,000 spans.
func Export(ctx context.Context, address string, spans []learn.Span) error {
	address = strings.TrimSuffix(address, "/")
	if !strings.HasSuffix(address, "/v1/traces") {
		address += "/v1/traces"
	}
	client := &http.Client{Timeout: 30 * time.Second}
	for len(spans) > 0 {
		n := min(len(spans), 2000)
		body, err := Protobuf(spans[:n])
		if err != nil {
			return err
		}
		spans = spans[n:]
		request, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
		if err != nil {
			return err
		}
		request.Header.Set("Content-Type", "application/x-protobuf")
		answer, err := client.Do(request)
		if err != nil {
			return err
		}
		said, _ := io.ReadAll(io.LimitReader(answer.Body, 4096))
		answer.Body.Close()
		if answer.StatusCode/100 != 2 {
			return fmt.Errorf("%s answered %s: %s", address, answer.Status, bytes.TrimSpace(said))
		}
	}
	return nil
}

// leastUnpacked and mostUnpacked bound what a packed file may unpack to, in bytes; between
// them it may be a hundred times as large as it is packed.
const (
	leastUnpacked = 16 << 20
	mostUnpacked  = 1 << 30
)

// Packed reports whether a file is packed with gzip.
func Packed(text []byte) bool { return bytes.HasPrefix(text, []byte{0x1f, 0x8b}) }

// unpacked unpacks what is packed with gzip, and gives anything else as it is.
func unpacked(text []byte) ([]byte, error) {
	if !Packed(text) {
		return text, nil
	}
	packed, err := gzip.NewReader(bytes.NewReader(text))
	if err != nil {
		return nil, fmt.Errorf("it starts as what is packed with gzip, and is not: %w", err)
	}
	most := min(max(leastUnpacked, 100*len(text)), mostUnpacked)
	out, err := io.ReadAll(io.LimitReader(packed, int64(most)+1))
	if err != nil {
		return nil, fmt.Errorf("what is packed with gzip cannot be unpacked: %w", err)
	}
	if len(out) > most {
		return nil, fmt.Errorf("it unpacks to more than %d bytes, a hundred times its size; unpack it first", most)
	}
	return out, nil
}

// Name gives the name of a file of traces without what says how it is written.
func Name(file string) string {
	name := strings.TrimSuffix(filepath.Base(file), ".gz")
	return strings.TrimSuffix(name, filepath.Ext(name))
}

// Read reads traces: one OTLP JSON document, JSON Lines of such documents, or
// protobuf, packed with gzip or not.
func Read(text []byte) ([]learn.Span, error) {
	text, err := unpacked(text)
	if err != nil {
		return nil, err
	}
	trimmed := bytes.TrimSpace(text)
	if len(trimmed) == 0 {
		return nil, fmt.Errorf("the file is empty; it should hold OTLP traces")
	}
	if trimmed[0] != '{' {
		spans, err := ReadRequest(text, false)
		if err != nil {
			return nil, fmt.Errorf("neither OTLP JSON nor OTLP protobuf: %w", err)
		}
		return spans, nil
	}
	spans, err := readJSON(text)
	if err == nil && len(spans) == 0 {
		err = fmt.Errorf("no spans: OTLP JSON holds them under resourceSpans")
	}
	return spans, err
}

// ReadRequest reads what an exporter posts, as JSON or protobuf; there may be no
// spans in it.
func ReadRequest(text []byte, isJSON bool) ([]learn.Span, error) {
	if isJSON {
		return readJSON(text)
	}
	var m collector.ExportTraceServiceRequest
	if err := (proto.UnmarshalOptions{DiscardUnknown: true}).Unmarshal(text, &m); err != nil {
		return nil, errors.New(said(err))
	}
	return spansOf(m.ResourceSpans), nil
}

func readJSON(text []byte) ([]learn.Span, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var out []learn.Span
	for k := 1; ; k++ {
		var doc any
		if err := d.Decode(&doc); err == io.EOF {
			break
		} else if err != nil {
			return nil, fmt.Errorf("document %d, byte %d: not JSON: %w", k, d.InputOffset(), err)
		}
		if err := rewriteIDs(doc, hex.DecodeString, base64.StdEncoding.EncodeToString); err != nil {
			return nil, fmt.Errorf("document %d: %w", k, err)
		}
		plain, err := json.Marshal(doc)
		if err != nil {
			return nil, err
		}
		var m trace.TracesData
		if err := (protojson.UnmarshalOptions{DiscardUnknown: true}).Unmarshal(plain, &m); err != nil {
			return nil, fmt.Errorf("document %d is not OTLP: %s", k, said(err))
		}
		out = append(out, spansOf(m.ResourceSpans)...)
	}
	return out, nil
}

// said gives what the protobuf library says, the same in every program: it
// varies the space behind its name from one build to the next.
func said(err error) string {
	text := strings.ReplaceAll(err.Error(), "\u00a0", " ")
	return strings.TrimPrefix(text, "proto: ")
}

func spansOf(from []*trace.ResourceSpans) []learn.Span {
	names := map[trace.Span_SpanKind]learn.Kind{trace.Span_SPAN_KIND_UNSPECIFIED: learn.Internal}
	for k, v := range kinds {
		names[v] = k
	}
	var out []learn.Span
	for _, r := range from {
		service, shared := "", map[string]string{}
		for _, a := range r.GetResource().GetAttributes() {
			shared[a.Key] = valueText(a.Value)
		}
		if service = shared["faas.name"]; service == "" {
			service = shared["service.name"]
		}
		for _, scope := range r.ScopeSpans {
			for _, s := range scope.Spans {
				x := learn.Span{
					Trace:      hex.EncodeToString(s.TraceId),
					ID:         hex.EncodeToString(s.SpanId),
					Parent:     hex.EncodeToString(s.ParentSpanId),
					Service:    service,
					Name:       s.Name,
					Kind:       names[s.Kind],
					Start:      int64(s.StartTimeUnixNano),
					End:        int64(s.EndTimeUnixNano),
					Attributes: map[string]string{},
				}
				for _, a := range s.Attributes {
					x.Attributes[a.Key] = valueText(a.Value)
				}
				if kind := shared[learn.OwnKind]; kind != "" {
					x.Attributes[learn.OwnKind] = kind
				}
				for _, l := range s.Links {
					x.Links = append(
						x.Links,
						learn.Reference{Trace: hex.EncodeToString(l.TraceId), ID: hex.EncodeToString(l.SpanId)},
					)
				}
				if s.GetStatus().GetCode() == trace.Status_STATUS_CODE_ERROR {
					if x.Error = x.Attributes["error.type"]; x.Error == "" {
						x.Error = "error"
					}
				}
				out = append(out, x)
			}
		}
	}
	return out
}

func valueText(v *common.AnyValue) string {
	switch v := v.GetValue().(type) {
	case *common.AnyValue_StringValue:
		return v.StringValue
	case *common.AnyValue_IntValue:
		return strconv.FormatInt(v.IntValue, 10)
	case *common.AnyValue_BoolValue:
		return strconv.FormatBool(v.BoolValue)
	case *common.AnyValue_DoubleValue:
		return strconv.FormatFloat(v.DoubleValue, 'g', -1, 64)
	}
	return ""
}
