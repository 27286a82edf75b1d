package verify

import (
	"fmt"
	"time"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// soundEvents bounds the simulation that a patch has to stand.
const soundEvents = 200_000

// Sound reports what is wrong with a changed model that was not wrong before: errors of the
// analysis that are new, or a simulation that fails. before is nil for a model that is new
// as a whole. An empty list means that the change may be offered.
func Sound(before *graph.Graph, after *model.Topology, now time.Time) (problems []string) {
	g, err := graph.Compile(after)
	if err != nil {
		return []string{err.Error()}
	}
	doc := check.Run(g, nil, document.Head{}, now)
	if before != nil {
		doc.Since(check.Run(before, nil, document.Head{}, now))
	}
	for _, f := range doc.Findings {
		if f.Severity == check.Error {
			problems = append(problems, fmt.Sprintf("%s %s: %s", f.Code, f.Title, f.Message))
		}
	}
	if _, err := sim.Run(sim.Plan{Graph: g, Scenario: model.DefaultScenario(),
		Limits: sim.Limits{Events: soundEvents}}); err != nil {
		problems = append(problems, "it cannot be simulated: "+err.Error())
	}
	return problems
}
