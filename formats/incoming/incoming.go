// Package incoming reads a file of any format that a model can come in as, and
// gives it as the text of a model.
package incoming

import (
	"bytes"
	"fmt"
	"path/filepath"
	"strings"

	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/formats/asyncapi"
	"ironweir/formats/inventory"
	"ironweir/formats/openapi"
	"ironweir/formats/otlp"
	"ironweir/formats/workflow"
)

// Formats that are read.
const (
	Model    = "model"
	AsyncAPI = "asyncapi"
	OpenAPI  = "openapi"
	Workflow = "workflow"
	CSV      = "csv"
	Lines    = "jsonl"
	Traces   = "otlp"
)

// Document is what has come in.
type Document struct {
	Format   string
	Root     *model.Value
	Comments map[string]string // where things were guessed, by dotted path
	Missing  []string          // what the document does not say
	Scenario []byte            // of traces: what came in, as it was seen
	source   []byte
}

// FormatOf reports what a file is by its name, and where that says nothing by what
// is in it. Empty: the format is unknown.
func FormatOf(file string, source []byte) string {
	start := bytes.TrimSpace(source)
	start = start[:min(len(start), 4096)]
	switch ext := strings.ToLower(filepath.Ext(file)); {
	case ext == ".csv":
		return CSV
	case otlp.Packed(source), // only traces may be
		ext == ".pb",
		ext == ".binpb",
		bytes.Contains(start, []byte("resourceSpans")),
		bytes.Contains(start, []byte("resource_spans")):
		return Traces
	case ext == ".jsonl", ext == ".ndjson":
		return Lines
	}
	doc, err := model.ReadDocument(file, source)
	switch {
	case err != nil: // the reader of models reports the place
	case doc.Get("asyncapi") != nil:
		return AsyncAPI
	case doc.Get("openapi") != nil, doc.Get("swagger") != nil:
		return OpenAPI
	case doc.Get("document").Get("dsl") != nil, doc.Get("specVersion") != nil && doc.Get("states") != nil:
		return Workflow
	case doc.Get("ironweir") == nil && doc.Get("nodes") == nil:
		return ""
	}
	return Model
}

// unknown is the error of a file whose format is unknown.
func unknown(file string) error {
	return fmt.Errorf(
		"%s: this is none of the files that are read: a model has `ironweir: topology/1`, an AsyncAPI document `asyncapi`, an OpenAPI document `openapi`, a workflow `document.dsl`, traces `resourceSpans`; an inventory ends in .csv or .jsonl. -from says what it is",
		file,
	)
}

// Read reads a file as a format; an empty one is told by FormatOf.
func Read(format, file string, source []byte) (*Document, error) {
	if format == "" {
		format = FormatOf(file, source)
	}
	d := &Document{Format: format, source: source}
	var err error
	switch format {
	case AsyncAPI:
		d.Root, d.Comments, d.Missing, err = asyncapi.Read(file, source)
	case OpenAPI:
		d.Root, d.Comments, d.Missing, err = openapi.Read(file, source)
	case Workflow:
		d.Root, d.Comments, d.Missing, err = workflow.Read(file, source)
	case CSV:
		d.Root, err = inventory.ReadCSV(file, source)
	case Lines:
		d.Root, err = inventory.ReadLines(file, source)
	case Traces:
		err = d.learn(file, source)
	case Model:
		d.Root, err = model.ReadDocument(file, source)
	case "":
		err = unknown(file)
	default:
		err = fmt.Errorf("no format %q is read", format)
	}
	if err != nil {
		return nil, err
	}
	switch format {
	case AsyncAPI, OpenAPI, Workflow:
		if model.Quote(d.Root) {
			d.Comments["variables"] = "These stand for themselves: the document has them in its texts."
		}
	}
	return d, nil
}

func (d *Document) learn(file string, source []byte) error {
	spans, err := otlp.Read(source)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	seen := learn.Observe(spans)
	if len(seen.Nodes) == 0 {
		return fmt.Errorf("%s: %w", file, learn.ErrNothing)
	}
	draft := seen.Draft(otlp.Name(file))
	d.Root, d.Comments = draft.Model, draft.Comments
	d.Scenario = model.WriteDocument(draft.Scenario, draft.ScenarioComments)
	d.Missing = []string{"leases, limits, retention, and dead letters that nobody needed: they are not in traces"}
	return nil
}

// Text gives the model as text: as it was written where it was one.
func (d *Document) Text() []byte {
	if d.Format == Model {
		return d.source
	}
	return model.WriteDocument(d.Root, d.Comments)
}
