package service

import (
	"cmp"
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/model"
	"ironweir/core/study"
	"ironweir/store"
)

// MostFires bounds how many instants of one schedule are told at once.
const MostFires = 2000

// Fires is when a model's schedules fire.
type Fires struct {
	Schedules []study.Schedule `json:"schedules"`
	Cut       []string         `json:"cut" doc:"schedules that fire more often than is listed"`
}

type textAnswer struct {
	Body struct {
		Text string `json:"text"`
	}
}

func answerText(text []byte) *textAnswer {
	out := &textAnswer{}
	out.Body.Text = string(text)
	return out
}

// edited writes a merge patch into a text, comments and layout kept.
func edited(text string, patch *model.Value) (*textAnswer, error) {
	out, err := model.Edit([]byte(text), patch)
	if err != nil {
		return nil, badFile(err)
	}
	return answerText(out), nil
}

// editRoutes serve who edits a text by forms or on the board.
func (v *Service) editRoutes() {
	register(v, store.Viewer, huma.Operation{
		OperationID: "get-catalogue",
		Method:      http.MethodGet,
		Path:        "/api/v1/catalogue",
		Summary:     "Every field of nodes and links, with its form and default, for forms and completion",
	}, v.getCatalogue)
	register(v, store.Viewer, huma.Operation{
		OperationID:  "rename-node",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/rename",
		Summary:      "Give a node another name, everywhere in a topology's text, comments and layout kept",
		MaxBodyBytes: MaxBody,
	}, v.renameNode)
	register(v, store.Viewer, huma.Operation{
		OperationID:  "remove-node",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/remove",
		Summary:      "Take a node out of a topology's text, with the links and all else that names it",
		MaxBodyBytes: MaxBody,
	}, v.removeNode)
	register(v, store.Viewer, huma.Operation{
		OperationID:  "merge",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/merge",
		Summary:      "Write what one edit of a topology changed into the text of another, field by field",
		MaxBodyBytes: 3 * MaxBody,
	}, v.merge)
	register(v, store.Viewer, huma.Operation{
		OperationID:  "fires",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/fires",
		Summary:      "When a topology's schedules fire within a time",
		MaxBodyBytes: MaxBody,
	}, v.fires)
	register(v, store.Viewer, huma.Operation{
		OperationID:  "read-schedule",
		Method:       http.MethodPost,
		Path:         "/api/v1/schedule",
		Summary:      "Read a schedule from words, such as \"every weekday at 6\"",
		MaxBodyBytes: 4 << 10,
	}, v.readSchedule)
}

func (v *Service) getCatalogue(ctx context.Context, _ *struct{}) (*struct{ Body model.Catalogue }, error) {
	return &struct{ Body model.Catalogue }{model.WholeCatalogue()}, nil
}

func (v *Service) renameNode(ctx context.Context, in *struct {
	Body struct {
		Text string `json:"text" doc:"The topology, as YAML"`
		From string `json:"from"`
		To   string `json:"to"`
	}
}) (*textAnswer, error) {
	text, err := model.Rename([]byte(in.Body.Text), in.Body.From, in.Body.To)
	if err != nil {
		return nil, badFile(err)
	}
	return answerText(text), nil
}

func (v *Service) removeNode(ctx context.Context, in *struct {
	Body struct {
		Text string `json:"text" doc:"The topology, as YAML"`
		Node string `json:"node"`
	}
}) (*textAnswer, error) {
	root, err := model.ReadDocument("model.yaml", []byte(in.Body.Text))
	if err != nil {
		return nil, badFile(err)
	}
	patch, err := model.Removal(root, in.Body.Node)
	if err != nil {
		return nil, badFile(err)
	}
	return edited(in.Body.Text, patch)
}

// Merged is what two edits of one text make together.
type Merged struct {
	Text    string        `json:"text"`
	Clashes []model.Clash `json:"clashes" doc:"what both changed in different ways, and mine stands in the text"`
}

func (v *Service) merge(ctx context.Context, in *struct {
	Body struct {
		Base   string `json:"base" doc:"the topology before both edits, as YAML"`
		Mine   string `json:"mine"`
		Theirs string `json:"theirs" doc:"its comments and layout are kept"`
	}
}) (*struct{ Body Merged }, error) {
	text, clashes, err := model.MergeThreeWay([]byte(in.Body.Base), []byte(in.Body.Mine), []byte(in.Body.Theirs))
	if err != nil {
		return nil, badFile(err)
	}
	return &struct{ Body Merged }{Merged{string(text), clashes}}, nil
}

func (v *Service) fires(ctx context.Context, in *struct {
	Body struct {
		Text  string    `json:"text" doc:"The topology, as YAML"`
		From  time.Time `json:"from"`
		Until time.Time `json:"until"`
	}
}) (*struct{ Body Fires }, error) {
	g, err := compile("model.yaml", in.Body.Text)
	if err != nil {
		return nil, badFile(err)
	}
	out := Fires{Schedules: []study.Schedule{}, Cut: []string{}}
	for _, n := range g.Topology.Nodes {
		if !n.Kind.Fires() {
			continue
		}
		s, err := study.NextFires(n, in.Body.From, MostFires)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(n.Name + ": " + err.Error())
		}
		within := []study.Fire{}
		for _, f := range s.Next {
			if f.UTC.Before(in.Body.Until) {
				within = append(within, f)
			}
		}
		if len(within) == MostFires {
			out.Cut = append(out.Cut, n.Name)
		}
		s.Next = within
		out.Schedules = append(out.Schedules, *s)
	}
	return &struct{ Body Fires }{out}, nil
}

// ReadSchedule is a schedule as read from words.
type ReadSchedule struct {
	Fields   map[string]string `json:"fields" doc:"as the model writes it: every, or cron"`
	Schedule study.Schedule    `json:"schedule"`
}

func (v *Service) readSchedule(ctx context.Context, in *struct {
	Body struct {
		Words string    `json:"words" maxLength:"500"`
		Zone  string    `json:"zone,omitempty" maxLength:"100" doc:"an IANA name; UTC where it is not given"`
		From  time.Time `json:"from"`
	}
}) (*struct{ Body ReadSchedule }, error) {
	s, fields, err := study.ReadFires(in.Body.Words, cmp.Or(in.Body.Zone, "UTC"), in.Body.From, 5)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return &struct{ Body ReadSchedule }{ReadSchedule{fields, *s}}, nil
}
