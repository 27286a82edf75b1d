package gallery_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/gallery"
)

// TestStartersAreFitToBuild: check finds nothing in them, a failing function, workflow
// or outside system loses no message within a day, and their own traffic loses none.
func TestStartersAreFitToBuild(t *testing.T) {
	require.GreaterOrEqual(t, len(gallery.Starters()), 14)
	for _, s := range gallery.Starters() {
		t.Run(s.Name, func(t *testing.T) {
			m, err := model.Parse(s.Name+".yaml", s.Text, model.Options{})
			require.NoError(t, err)
			require.Equal(t, s.Name, m.Name)
			require.NotEmpty(t, s.About)
			g, err := graph.Compile(m)
			require.NoError(t, err)
			doc := check.Run(g, nil, document.Head{}, time.Now())
			for _, f := range doc.Findings {
				require.NotNil(t, f.Accepted, f.Message)
			}
			for entry, e := range doc.Entries {
				for _, set := range e.LossSets {
					require.NotEmpty(t, set.Faults, "%s loses messages in normal operation", entry)
					for _, name := range set.Faults[0] {
						n := g.NodeID(name)
						short := set.After.Seconds != nil && *set.After.Seconds < (24*time.Hour).Seconds()
						if len(set.Faults) == 1 && n >= 0 && g.Nodes[n].Kind.Runs() {
							require.False(t, short, "%s is lost if %s fails", entry, name)
						}
					}
				}
			}
			scenario := model.DefaultScenario()
			scenario.Length = 6 * time.Hour
			res, err := sim.Run(sim.Plan{Graph: g, Scenario: scenario, Audit: true, Limits: sim.Limits{Events: 20_000}})
			require.NoError(t, err)
			require.Less(t, res.FirstLoss, time.Duration(0))

			scenario, err = model.ParseScenario(s.Name+"-scenario.yaml", s.Scenario, m)
			require.NoError(t, err)
			require.NotEmpty(t, scenario.About)
			require.NotEmpty(t, scenario.Expect)
			run, err := study.Run(study.Plan{Graph: g, Scenario: scenario, Workers: 2})
			require.NoError(t, err)
			for name, x := range run.Expect {
				require.True(t, x.Holds, "%s: %s %s", name, x.Expression, x.Error)
			}
		})
	}
}
