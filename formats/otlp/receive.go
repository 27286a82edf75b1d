package otlp

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"

	logs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	metrics "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	"google.golang.org/genproto/googleapis/rpc/status"
	"google.golang.org/grpc/codes"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"

	"ironweir/core/learn"
	"ironweir/core/model"
)

// Bounds of one request. Exporters send some hundred spans at once, of some twenty parts each; a span without
// anything takes two bytes, and a hundred times as much once it is read.
const (
	MaxRequest = 16 << 20 // bytes, unpacked
	mostParts  = 500_000  // spans, attributes and the like
)

// Busy is the error of a receiver that takes no more for the moment.
type Busy struct {
	Seconds int // after which it may be tried again
	Why     string
}

func (b *Busy) Error() string { return b.Why }

// Receive answers what an exporter posts to /v1/SIGNAL over HTTP, as the protocol settles it: JSON or protobuf, packed
// with gzip or not; errors are a Status in the request's encoding. Traces go to take, which says how many of their
// spans it refuses, and why; its error is a *Busy, or a fault. Metrics and logs are dropped, and the answer says so.
func Receive(w http.ResponseWriter, req *http.Request, signal string,
	take func([]learn.Span) (refused int64, why string, err error)) {
	kind, _, _ := mime.ParseMediaType(req.Header.Get("Content-Type"))
	r := &receiver{w: w, json: kind != "application/x-protobuf"}
	switch {
	case req.Method != http.MethodPost:
		w.Header().Set("Allow", "POST")
		r.refuse(http.StatusMethodNotAllowed, codes.Unimplemented, signal+" are posted")
		return
	case kind != "application/json" && kind != "application/x-protobuf":
		r.refuse(http.StatusUnsupportedMediaType, codes.InvalidArgument,
			signal+" come as application/x-protobuf or application/json")
		return
	}
	text, ok := r.read(req, signal)
	if !ok {
		return
	}
	var answer proto.Message
	switch signal {
	case "metrics":
		answer = &metrics.ExportMetricsServiceResponse{
			PartialSuccess: &metrics.ExportMetricsPartialSuccess{ErrorMessage: "metrics are not used, and were dropped"}}
	case "logs":
		answer = &logs.ExportLogsServiceResponse{
			PartialSuccess: &logs.ExportLogsPartialSuccess{ErrorMessage: "logs are not used, and were dropped"}}
	default:
		if partsOf(text, r.json) > mostParts {
			r.refuse(http.StatusRequestEntityTooLarge, codes.InvalidArgument,
				fmt.Sprintf("a request holds at most %d spans, attributes and the like", mostParts))
			return
		}
		spans, err := ReadRequest(text, r.json)
		if err != nil {
			r.refuse(http.StatusBadRequest, codes.InvalidArgument, err.Error())
			return
		}
		refused, why, err := take(spans)
		var busy *Busy
		switch {
		case errors.As(err, &busy):
			w.Header().Set("Retry-After", fmt.Sprint(busy.Seconds))
			r.refuse(http.StatusServiceUnavailable, codes.Unavailable, busy.Why)
			return
		case err != nil:
			r.refuse(http.StatusInternalServerError, codes.Internal, err.Error())
			return
		}
		taken := &collector.ExportTraceServiceResponse{}
		if why != "" {
			taken.PartialSuccess = &collector.ExportTracePartialSuccess{RejectedSpans: refused, ErrorMessage: why}
		}
		answer = taken
	}
	r.write(http.StatusOK, answer)
}

// partsOf counts what a request is made of, before it is read: the objects of JSON, the fields of protobuf.
func partsOf(text []byte, isJSON bool) int {
	if isJSON {
		return bytes.Count(text, []byte("{"))
	}
	return fieldsOf(text, 3)
}

// fieldsOf counts the fields of a message, and of those within that hold the spans: resource spans lie in field 1 of a
// request, scope spans and spans in field 2 of what holds them.
func fieldsOf(message []byte, levels int) (n int) {
	holds := protowire.Number(2)
	if levels == 3 {
		holds = 1
	}
	for len(message) > 0 {
		number, kind, size := protowire.ConsumeField(message)
		if size < 0 {
			return n // the reader says what is wrong with it
		}
		n++
		if kind == protowire.BytesType && number == holds && levels > 0 {
			_, _, tag := protowire.ConsumeTag(message)
			inner, _ := protowire.ConsumeBytes(message[tag:])
			n += fieldsOf(inner, levels-1)
		}
		message = message[size:]
	}
	return n
}

// receiver answers one request in its own encoding.
type receiver struct {
	w    http.ResponseWriter
	json bool
}

// read reads a body, unpacked; where it cannot, that has been answered.
func (r *receiver) read(req *http.Request, signal string) (text []byte, ok bool) {
	body := io.Reader(http.MaxBytesReader(r.w, req.Body, MaxRequest))
	switch coding := req.Header.Get("Content-Encoding"); coding {
	case "", "identity":
	case "gzip":
		packed, err := gzip.NewReader(body)
		if err != nil {
			r.refuse(http.StatusBadRequest, codes.InvalidArgument, "the body is not packed with gzip")
			return nil, false
		}
		body = packed
	default:
		r.refuse(http.StatusUnsupportedMediaType, codes.InvalidArgument,
			"a body is packed with gzip or not at all, not with "+coding)
		return nil, false
	}
	text, err := io.ReadAll(io.LimitReader(body, MaxRequest+1))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large) || len(text) > MaxRequest:
		r.refuse(http.StatusRequestEntityTooLarge, codes.InvalidArgument,
			fmt.Sprintf("a request holds at most %s of %s", model.FormatSize(MaxRequest), signal))
		return nil, false
	case err != nil:
		r.refuse(http.StatusBadRequest, codes.InvalidArgument, "the "+signal+" cannot be read: "+err.Error())
		return nil, false
	}
	return text, true
}

func (r *receiver) refuse(code int, is codes.Code, why string) {
	r.write(code, &status.Status{Code: int32(is), Message: why})
}

func (r *receiver) write(code int, m proto.Message) {
	kind, marshal := "application/x-protobuf", proto.Marshal
	if r.json {
		kind, marshal = "application/json", protojson.Marshal
	}
	text, err := marshal(m)
	if err != nil { // only of text that is not UTF-8
		code, text = http.StatusInternalServerError, nil
	}
	r.w.Header().Set("Content-Type", kind)
	r.w.WriteHeader(code)
	r.w.Write(text)
}
