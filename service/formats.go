package service

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/check"
	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/document"
	"ironweir/core/model"
	"ironweir/core/sensitivity"
	"ironweir/core/study"
	"ironweir/formats/incoming"
	"ironweir/formats/picture"
	"ironweir/formats/report"
	"ironweir/gallery"
	"ironweir/store"
)

// Starter is a model to begin with.
type Starter struct {
	Name     string `json:"name"`
	About    string `json:"about"`
	Text     string `json:"text" doc:"the topology, YAML"`
	Scenario string `json:"scenario" doc:"a day on which something goes wrong, YAML"`
	Picture  string `json:"picture,omitempty" doc:"SVG; absent where the service has no Graphviz"`
}

// Imported is what a file of some format comes to.
type Imported struct {
	Format   string   `json:"format" enum:"model,asyncapi,openapi,workflow,csv,jsonl,otlp"`
	Text     string   `json:"text" doc:"the topology, YAML"`
	Scenario string   `json:"scenario,omitempty" doc:"of traces: the observed traffic"`
	Missing  []string `json:"missing" doc:"what the file does not say"`
}

// Difference tells two texts of a model apart.
type Difference struct {
	Changes *model.Changes      `json:"changes"`
	Came    []check.Finding     `json:"came"`
	Went    []check.Gone        `json:"went"`
	Lost    []guarantees.Change `json:"guarantees_lost"`
	Won     []guarantees.Change `json:"guarantees_won"`
}

// starters are read once.
var starters = sync.OnceValue(madeStarters)

// formatRoutes bring models in and out of other formats, and tell them apart.
func (v *Service) formatRoutes() {
	register(v, store.Viewer, huma.Operation{
		OperationID: "list-starters",
		Method:      http.MethodGet,
		Path:        "/api/v1/starters",
		Summary:     "Models to begin with, each with a scenario",
	}, v.listStarters)

	register(v, store.Viewer, huma.Operation{
		OperationID: "list-rules",
		Method:      http.MethodGet,
		Path:        "/api/v1/rules",
		Summary:     "The rules by which models are checked",
	}, v.listRules)

	register(v, store.Viewer, huma.Operation{
		OperationID:  "import",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/import",
		Summary:      "Turn a file (a model, AsyncAPI 2 or 3, OpenAPI 3, an inventory in CSV or JSON Lines, OpenTelemetry traces) into a model; nothing is kept",
		MaxBodyBytes: 2 * MaxBody,
	}, v.importModel)

	register(v, store.Viewer, huma.Operation{
		OperationID:  "diff",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/diff",
		Summary:      "Tell two topologies apart in their own terms, and what that does to findings and guarantees",
		MaxBodyBytes: 2 * MaxBody,
	}, v.diff)

	register(v, store.Viewer, huma.Operation{
		OperationID: "compare-runs",
		Metadata:    checks,
		Errors:      []int{429},
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/compare",
		Summary:     "Every number in which the results of runs differ from that of the first, and whether significant (95%)",
	}, v.compareRuns)

	register(v, store.Viewer, huma.Operation{
		OperationID: "get-report",
		Metadata:    checks,
		Errors:      []int{429},
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs/{id}/report",
		Summary:     "One HTML file of a run and the check of its model, for readers who have nothing installed",
		Responses: map[string]*huma.Response{
			"200": {
				Description: "the report",
				Content:     map[string]*huma.MediaType{"text/html": {Schema: &huma.Schema{Type: "string"}}},
			},
		},
	}, v.getReport)
}

func (v *Service) listStarters(ctx context.Context, in *struct{}) (*struct {
	Body struct {
		Starters []Starter `json:"starters"`
	}
}, error) {
	out := &struct {
		Body struct {
			Starters []Starter `json:"starters"`
		}
	}{}
	out.Body.Starters = starters()
	return out, nil
}

// RuleOf is a rule by which models are checked.
type RuleOf struct {
	Code     string         `json:"code"`
	Title    string         `json:"title"`
	Severity check.Severity `json:"severity" enum:"error,warning,note"`
}

func (v *Service) listRules(ctx context.Context, in *struct{}) (*struct {
	Body struct {
		Rules []RuleOf `json:"rules"`
	}
}, error) {
	out := &struct {
		Body struct {
			Rules []RuleOf `json:"rules"`
		}
	}{}
	for _, r := range check.Rules {
		out.Body.Rules = append(out.Body.Rules, RuleOf{r.Code, r.Title, r.Severity})
	}
	return out, nil
}

func (v *Service) importModel(ctx context.Context, in *struct {
	Body struct {
		Name    string `json:"name" maxLength:"255" doc:"the file's name"`
		Content string `json:"content" doc:"the file, in base64"`
		Format  string `json:"format,omitempty" enum:"model,asyncapi,openapi,workflow,csv,jsonl,otlp" doc:"absent: detected from the file"`
	}
}) (*struct{ Body Imported }, error) {
	source, err := base64.StdEncoding.DecodeString(in.Body.Content)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("the content is not base64")
	}
	d, err := incoming.Read(in.Body.Format, in.Body.Name, source)
	if err != nil {
		return nil, badFile(err)
	}
	text := d.Text()
	if _, err := model.Parse(in.Body.Name, text, model.Options{}); err != nil {
		return nil, badFile(err)
	}
	out := Imported{Format: d.Format, Text: string(text), Scenario: string(d.Scenario), Missing: d.Missing}
	if out.Missing == nil {
		out.Missing = []string{}
	}
	return &struct{ Body Imported }{out}, nil
}

func (v *Service) diff(ctx context.Context, in *struct {
	Body struct {
		Before string `json:"before" doc:"a topology, YAML"`
		After  string `json:"after" doc:"a topology, YAML"`
	}
}) (*struct{ Body Difference }, error) {
	var values [2]*model.Value
	var checks [2]*check.Document
	var held [2][]guarantees.Guarantee
	for i, text := range []string{in.Body.Before, in.Body.After} {
		file := []string{"before.yaml", "after.yaml"}[i]
		written, g, err := read(file, text)
		if err != nil {
			return nil, badFile(err)
		}
		values[i] = written
		checks[i] = check.Run(
			g,
			nil,
			document.NewHead("check", g.Topology.Name, "", document.Digest(text)),
			time.Now(),
		)
		held[i] = guarantees.Of(flow.Analyse(g, nil), "", "")
	}
	checks[1].Since(checks[0])
	lost, won := guarantees.Compare(held[0], held[1])
	return &struct{ Body Difference }{
		Difference{model.Compare(values[0], values[1]), checks[1].Findings, checks[1].Gone, lost, won},
	}, nil
}

func (v *Service) compareRuns(ctx context.Context, in *struct {
	WorkspacePath
	Runs []int64 `query:"run,explode" required:"true" minItems:"2" maxItems:"8" doc:"the runs: run=1&run=2"`
}) (*struct{ Body *study.Comparison }, error) {
	of := &runsCompared{}
	for _, id := range in.Runs {
		run, err := v.run(ctx, id)
		if err != nil {
			return nil, err
		}
		text, err := v.store.Result(ctx, id)
		if err != nil {
			return nil, v.failure(err, fmt.Sprintf("result of run %d (yet)", id))
		}
		of.Names = append(
			of.Names,
			fmt.Sprintf("run %d: %s, revision %d, %s", id, run.Model, run.Revision, run.Scenario),
		)
		of.Results = append(of.Results, text)
	}
	found, err := compareProcedure.ask(ctx, v, of)
	return &struct{ Body *study.Comparison }{found}, err
}

// runsCompared are the results of runs.
type runsCompared struct {
	Names   []string
	Results []json.RawMessage
}

var compareProcedure = &procedure[runsCompared, study.Comparison]{name: "compare-runs", do: compareResults}

func compareResults(_ context.Context, of *runsCompared) (*study.Comparison, error) {
	docs := make([]any, len(of.Results))
	for i, text := range of.Results {
		if err := json.Unmarshal(text, &docs[i]); err != nil {
			return nil, err
		}
	}
	return study.Compare(document.NewHead("compare", "", "", ""), of.Names, docs), nil
}

func (v *Service) getReport(ctx context.Context, in *RunPath) (*reportAnswer, error) {
	return v.report(ctx, in.ID)
}

type reportAnswer struct {
	ContentType        string `header:"Content-Type"`
	ContentDisposition string `header:"Content-Disposition"`
	Body               []byte
}

func (v *Service) report(ctx context.Context, id int64) (*reportAnswer, error) {
	p, err := v.past(ctx, id)
	if err != nil {
		return nil, err
	}
	kind := "run"
	if p.run.Kind == "sensitivity" {
		kind = p.run.Kind
	}
	of := &reported{runOf: *p.of}
	if of.Result, err = v.resultText(ctx, id, kind); err != nil {
		return nil, err
	}
	out, err := reportProcedure.ask(ctx, v, of)
	if err != nil {
		return nil, err
	}
	return &reportAnswer{
		"text/html; charset=utf-8",
		fmt.Sprintf(`attachment; filename="%s-run-%d.html"`, p.run.Model, id),
		*out,
	}, nil
}

// reported is a run with its result.
type reported struct {
	runOf
	Result json.RawMessage
}

var reportProcedure = &procedure[reported, []byte]{name: "report", do: writeReport}

func writeReport(_ context.Context, of *reported) (*[]byte, error) {
	base, err := of.base()
	if err != nil {
		return nil, err
	}
	g := base.Graph
	contents := report.Contents{
		Check: check.Run(
			g,
			base.Scenario,
			document.NewHead("check", g.Topology.Name, "", document.Digest(of.Text)),
			time.Now(),
		),
		Guarantees: pairs(g, of.Text, base.Scenario, "", ""),
	}
	if of.Kind == "sensitivity" {
		found := &sensitivity.Document{}
		err = json.Unmarshal(of.Result, found)
		contents.Sensitivity = append(contents.Sensitivity, found)
	} else {
		found := &study.Document{}
		err = json.Unmarshal(of.Result, found)
		contents.Runs = append(contents.Runs, report.Run{Result: found, Scenario: base.Scenario})
	}
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if err := report.Write(&out, g, contents); err != nil {
		return nil, err
	}
	text := out.Bytes()
	return &text, nil
}

// madeStarters reads the gallery and draws each, once.
func madeStarters() []Starter {
	out := []Starter{}
	for _, s := range gallery.Starters() {
		made := Starter{Name: s.Name, About: s.About, Text: string(s.Text), Scenario: string(s.Scenario)}
		if g, err := compile(s.Name+".yaml", made.Text); err == nil {
			if svg, err := picture.Render(picture.DOT(g, picture.Options{}), "svg"); err == nil {
				made.Picture = string(svg)
			}
		}
		out = append(out, made)
	}
	return out
}
