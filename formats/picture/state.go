package picture

import "ironweir/core/check"

// State is what is found of a node.
type State string

// The states of nodes.
const (
	Fine  State = ""
	Loops State = "loops"
	Loses State = "loses"
	Full  State = "full"
)

var ranks = map[State]int{Full: 1, Loses: 2, Loops: 3}

// Worse gives the worse of two states.
func (s State) Worse(other State) State {
	if ranks[other] > ranks[s] {
		return other
	}
	return s
}

// States gives the nodes, by name, that open findings mark, each with the worst of its states, and the links, by id,
// along which messages circulate. Notes mark nothing.
func States(findings []check.Finding) (nodes map[string]State, looping map[string]bool) {
	nodes, looping = map[string]State{}, map[string]bool{}
	for _, f := range findings {
		if f.Accepted != nil || f.Severity == check.Note {
			continue
		}
		marked, state := f.Nodes, Fine
		switch f.Code {
		case "IW101", "IW102":
			state = Loops
			for _, id := range f.Links {
				looping[id] = true
			}
		case "IW201", "IW202":
			state = Loses
			marked = marked[:min(1, len(marked))] // the others are those on the way
		case "IW501":
			state = Full
		}
		for _, n := range marked {
			nodes[n] = nodes[n].Worse(state)
		}
	}
	return nodes, looping
}
