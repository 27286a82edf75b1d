package check

import (
	"encoding/binary"
	"slices"
	"sort"

	"ironweir/core/expr"
	"ironweir/core/model"
)

// MaxFaults is how many faults at once are looked at.
const MaxFaults = 3

// Bounds on the combinations of faults that are looked at: for one entry, and
// in all. Where they are reached, `searched` says how far the search went.
const (
	combinationsOfEntry = 4_000
	combinationsInAll   = 40_000
)

// setFinder looks for the sets of faults that lose a message of one entry.
type setFinder struct {
	a       *Analysis
	base    *explorer
	waiters map[int][]int
	groups  []faultGroup // that can matter to the entry
	byNode  map[int][]int
	design  map[[2]int]bool // what is lost with nothing broken
	found   map[string]bool // keys of the sets found
	entry   *Entry
	left    int // combinations that may still be looked at
}

// findLosses works out, for every entry, what is lost with nothing broken, and
// which sets of up to MaxFaults faults lose a message, none containing another.
func (a *Analysis) findLosses() {
	a.Entries = map[string]Entry{}
	groups := a.faultGroups()
	groupsAt := map[int][]int{}
	for k, g := range groups {
		for _, n := range g.nodes {
			groupsAt[n] = append(groupsAt[n], k)
		}
	}
	waiters := a.waiters()
	out := map[int][]int{}
	for _, e := range a.Graph.Edges(true) {
		if e.Dead || a.Reach[e.Link] != expr.Impossible {
			out[e.From] = append(out[e.From], e.To)
		}
	}
	left := combinationsInAll
	for _, entry := range a.entries {
		e := Entry{LossSets: []LossSet{}}
		if reached, ok := a.oneInto(entry); ok {
			e.Amplification, e.LossProbability = a.amplify(reached), a.lossProbability(reached)
		}
		f := &setFinder{a: a, base: a.explore(entry), waiters: waiters, byNode: map[int][]int{}, design: map[[2]int]bool{}, found: map[string]bool{}, entry: &e, left: min(combinationsOfEntry, left)}
		for _, l := range f.base.losses {
			e.LossSets = append(e.LossSets, a.lossSet(nil, l))
			f.design[[2]int{l.node, l.link}] = true
		}
		var touched []int
		for n := range a.reachable(entry, out) {
			touched = append(touched, groupsAt[n]...)
		}
		sort.Ints(touched)
		for _, k := range slices.Compact(touched) {
			if g := groups[k]; len(g.nodes) > 1 || g.nodes[0] != entry { // an entry that takes nothing tells who sends
				f.groups = append(f.groups, g)
			}
		}
		f.search()
		left -= min(combinationsOfEntry, left) - f.left
		sort.SliceStable(e.LossSets, func(i, j int) bool { return len(e.LossSets[i].Faults) < len(e.LossSets[j].Faults) })
		e.Survives = e.Searched
		if len(e.LossSets) > 0 {
			e.Survives = len(e.LossSets[0].Faults) - 1
		}
		a.Entries[a.node(entry).Name] = e
	}
}

// search looks at single faults, then at pairs and triples. A further fault can
// only make a difference where the ones before have sent messages another way,
// or where it would make a difference by itself: so each step looks only at the
// nodes that the step before has visited.
func (f *setFinder) search() {
	for i, g := range f.groups {
		for _, n := range g.nodes {
			f.byNode[n] = append(f.byNode[n], i)
		}
	}
	type combination struct {
		faults  []int // groups
		visited map[int]bool
	}
	var now []combination
	for i := range f.groups {
		if y, lost := f.try([]int{i}); !lost {
			now = append(now, combination{[]int{i}, y.visited()})
		}
	}
	f.entry.Searched = 1
	for size := 2; size <= MaxFaults; size++ {
		var next []combination
		tried := map[string]bool{}
		for _, c := range now {
			for _, g := range f.touching(c.visited) {
				if slices.Contains(c.faults, g) {
					continue
				}
				faults := append(append([]int{}, c.faults...), g)
				sort.Ints(faults)
				key := keyOfSet(faults)
				if tried[key] || f.containsFound(faults) {
					continue
				}
				tried[key] = true
				if f.left == 0 {
					return
				}
				f.left--
				if y, lost := f.try(faults); !lost && size < MaxFaults {
					next = append(next, combination{faults, y.visited()})
				}
			}
		}
		f.entry.Searched = size
		now = next
	}
}

// try looks at what a set of faults loses, and keeps it if it does.
func (f *setFinder) try(faults []int) (*explorer, bool) {
	var nodes []int
	var names []string
	for _, g := range faults {
		nodes = append(nodes, f.groups[g].nodes...)
		names = append(names, f.groups[g].name)
	}
	y := f.base.under(nodes, f.waiters)
	first := -1
	for k, l := range y.losses {
		if !f.design[[2]int{l.node, l.link}] && (first < 0 || l.after < y.losses[first].after) {
			first = k
		}
	}
	if first < 0 {
		return y, false
	}
	f.found[keyOfSet(faults)] = true
	f.entry.LossSets = append(f.entry.LossSets, f.a.lossSet(names, y.losses[first]))
	return y, true
}

func keyOfSet(faults []int) string {
	var key []byte
	for _, g := range faults {
		key = binary.AppendUvarint(key, uint64(g))
	}
	return string(key)
}

// containsFound tells whether some of the faults alone lose a message.
func (f *setFinder) containsFound(faults []int) bool {
	for mask := 1; mask < 1<<len(faults)-1; mask++ {
		var some []int
		for k, g := range faults {
			if mask>>k&1 == 1 {
				some = append(some, g)
			}
		}
		if f.found[keyOfSet(some)] {
			return true
		}
	}
	return false
}

// touching gives the groups with a node among those visited, in order.
func (f *setFinder) touching(visited map[int]bool) []int {
	seen := map[int]bool{}
	var out []int
	for n := range visited {
		for _, g := range f.byNode[n] {
			if !seen[g] {
				seen[g] = true
				out = append(out, g)
			}
		}
	}
	sort.Ints(out)
	return out
}

// visited gives the nodes that took part in what changed: where messages came,
// what runs there call or write to.
func (x *explorer) visited() map[int]bool {
	out := map[int]bool{}
	var add func(i int)
	add = func(i int) {
		if out[i] {
			return
		}
		out[i] = true
		n := x.a.node(i)
		for _, id := range n.Out {
			l := x.a.link(id)
			if x.a.Reach[id] == expr.Impossible {
				continue
			}
			switch {
			case l.Relation == model.WaitingCall || l.Relation.Polls():
				add(l.To)
			case l.Relation == model.RunWrite:
				out[l.To] = true
			}
		}
	}
	for i := range x.at {
		add(i)
	}
	for s := range x.sent {
		add(s.node)
	}
	return out
}

// faultGroup is what fails together: one node, or a group of `fails-together`.
type faultGroup struct {
	name  string
	nodes []int
}

// faultGroups lists what can fail as one: a node that runs or takes writes, or
// a group that fails together.
func (a *Analysis) faultGroups() []faultGroup {
	var out []faultGroup
	for i := range a.Graph.Nodes {
		if k := a.node(i).Kind; k.Runs() || k.Channel() {
			out = append(out, faultGroup{a.node(i).Name, []int{i}})
		}
	}
	var names []string
	for name := range a.Graph.Topology.FailsTogether {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		g := faultGroup{name: name}
		for _, m := range a.Graph.Topology.FailsTogether[name] {
			g.nodes = append(g.nodes, a.Graph.NodeID(m))
		}
		out = append(out, g)
	}
	return out
}
