package guarantees

import (
	"fmt"
	"slices"
	"strings"

	"ironweir/core/check/flow"
	"ironweir/core/document"
	"ironweir/core/model"
)

// Document is what holds between entries and destinations.
type Document struct {
	document.Head
	Guarantees []Guarantee `json:"guarantees"`
	Omitted    int         `json:"omitted,omitempty"` // further pairs, where an answer lists only some
	Unmet      []Unmet     `json:"unmet"`             // requirements that do not hold
}

// Requirement is what must at least hold between an entry and a destination.
type Requirement struct {
	From     string `json:"from"`
	To       string `json:"to"`
	Survives int    `json:"survives,omitempty"` // faults together
	Effects  string `json:"effects,omitempty"`  // under one fault
	Order    string `json:"order,omitempty"`    // kept
}

// Unmet is a requirement that does not hold, with what holds instead.
type Unmet struct {
	Requirement
	Found string `json:"found"`
}

var (
	effectWords       = []string{"exactly_once", "at_most_once", "at_least_once", "any_number"}
	requirementFields = []string{"from", "to", "survives", "effects", "order"}
)

// ReadRequirements reads a list of requirements, as YAML or JSON.
func ReadRequirements(file string, text []byte) ([]Requirement, error) {
	root, err := model.ReadDocument(file, text)
	if err != nil {
		return nil, err
	}
	wrong := func(v *model.Value, format string, args ...any) error {
		return fmt.Errorf("%s:%d: %s", file, v.Pos.Line, fmt.Sprintf(format, args...))
	}
	if root.Shape != model.List {
		return nil, wrong(root, "write a list of requirements, as in `- {from: orders, to: ledger, effects: at_least_once}`")
	}
	var out []Requirement
	for _, v := range root.Items {
		if v.Shape != model.Map {
			return nil, wrong(v, "a requirement is a map with the fields %s", strings.Join(requirementFields, ", "))
		}
		var r Requirement
		for _, f := range v.Fields {
			s := f.Value.Scalar
			switch f.Key {
			case "from":
				r.From = s
			case "to":
				r.To = s
			case "survives":
				_, err := fmt.Sscanf(s, "%d", &r.Survives)
				if err != nil || r.Survives < 0 || r.Survives > flow.MaxFaults {
					return nil, wrong(f.Value, "survives: %q is not a number of faults: use 0 to %d", s, flow.MaxFaults)
				}
			case "effects":
				r.Effects = strings.NewReplacer(" ", "_", "-", "_").Replace(s)
				if !slices.Contains(effectWords, r.Effects) {
					return nil, wrong(f.Value, "effects: %q is not one of %s%s", s, strings.Join(effectWords, ", "),
						model.DidYouMean(r.Effects, effectWords))
				}
			case "order":
				if r.Order = s; s != "kept" {
					return nil, wrong(f.Value, "order: %q is not known: the only requirement is `kept`", s)
				}
			default:
				return nil, wrong(f.Value, "no field %q in a requirement: use %s%s", f.Key,
					strings.Join(requirementFields, ", "), model.DidYouMean(f.Key, requirementFields))
			}
		}
		if r.From == "" || r.To == "" {
			return nil, wrong(v, "a requirement needs `from` and `to`")
		}
		out = append(out, r)
	}
	return out, nil
}

// least reports whether an effect is at least as good as another.
func least(found, wanted string) bool {
	switch wanted {
	case "", "any_number":
		return true
	case "exactly_once":
		return found == wanted
	}
	return found == wanted || found == "exactly_once"
}

// Require returns the requirements that do not hold.
func Require(a *flow.Analysis, list []Requirement) ([]Unmet, error) {
	out := []Unmet{}
	for _, r := range list {
		for _, name := range []string{r.From, r.To} {
			if a.Graph.NodeID(name) < 0 {
				return nil, fmt.Errorf("a requirement: %w", a.Graph.NoNode(name))
			}
		}
		found := Of(a, r.From, r.To)
		if len(found) == 0 {
			out = append(out, Unmet{r, "no message of " + r.From + " has an effect at " + r.To})
			continue
		}
		g := &found[0]
		var not []string
		if g.Survives < r.Survives {
			not = append(not, fmt.Sprintf("survives %d", g.Survives))
		}
		if !least(g.Effects.OneFault, r.Effects) {
			not = append(not, strings.ReplaceAll(g.Effects.OneFault, "_", " ")+" under one fault")
		}
		if r.Order == "kept" && !g.Order.Kept {
			not = append(not, "order not kept: "+g.Order.Why)
		}
		if len(not) > 0 {
			out = append(out, Unmet{r, strings.Join(not, "; ")})
		}
	}
	return out, nil
}
