package verify

import (
	"fmt"
	"slices"
	"strings"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

const (
	// samplesOfEntry bounds the messages that are tried at one entry.
	samplesOfEntry = 24
	// perMinute is the rate of traffic that nothing states, per second.
	perMinute = 1.0 / 60
	// samplePrefix begins the names of the traffic of samples.
	samplePrefix = "sample-"
)

// samples returns traffic for an entry of which the model does not state the keys or types: one message a minute of
// each key and type that a filter behind it wants.
func samples(g *graph.Graph, entry int) []*model.Traffic {
	n := &g.Nodes[entry]
	keys, types := n.Node.Keys, n.Node.Types
	wanted := wantedBehind(g, entry)
	if len(keys) == 0 {
		keys = wanted.keys()
	}
	if len(types) == 0 {
		types = []string{""}
		if !n.Kind.Keeps() { // which makes the type of an event itself
			types = append(types, wanted.types...)
		}
	}
	var out []*model.Traffic
	for _, key := range keys {
		for _, kind := range types {
			if len(out) == samplesOfEntry {
				return out
			}
			out = append(out, &model.Traffic{
				Name:     fmt.Sprintf("%s%s-%d", samplePrefix, strings.ReplaceAll(n.Name, "/", "-"), len(out)+1),
				Into:     n.Name,
				Arrivals: "even",
				Key:      key,
				Type:     kind,
				Rate:     perMinute,
			})
		}
	}
	return out
}

func isSample(t *model.Traffic) bool { return strings.HasPrefix(t.Name, samplePrefix) }

// wanted is what filters look for, without what is there twice.
type wanted struct{ prefixes, suffixes, types []string }

// keys combines each prefix with each suffix, and with none.
func (w *wanted) keys() []string {
	out := []string{""}
	for _, prefix := range append([]string{""}, w.prefixes...) {
		for _, suffix := range append([]string{""}, w.suffixes...) {
			if prefix+suffix != "" {
				out = append(out, prefix+"sample-{seq}"+suffix)
			}
		}
	}
	return out
}

// wantedBehind collects what the filters of all links want to which messages of a node may come.
func wantedBehind(g *graph.Graph, entry int) *wanted {
	out := &wanted{}
	next := make([][]int, len(g.Nodes))
	for _, edge := range g.Edges(true) {
		next[edge.From] = append(next[edge.From], edge.To)
	}
	add := func(to *[]string, list []string) {
		for _, x := range list {
			if !slices.Contains(*to, x) {
				*to = append(*to, x)
			}
		}
	}
	seen := make([]bool, len(g.Nodes))
	seen[entry] = true
	for queue := []int{entry}; len(queue) > 0; queue = queue[1:] {
		for _, id := range g.Nodes[queue[0]].Out {
			for _, c := range g.Links[id].Filter.Clauses {
				add(&out.prefixes, c.Prefix)
				add(&out.suffixes, c.Suffix)
				add(&out.types, c.Type)
			}
		}
		for _, to := range next[queue[0]] {
			if !seen[to] {
				seen[to] = true
				queue = append(queue, to)
			}
		}
	}
	return out
}

// sortOf names the sort of a message: messages of one sort pass the same filters. It is the key without its numbers,
// and the type.
func sortOf(j *sim.Journey) string {
	kind := ""
	if len(j.Steps) > 0 {
		kind, _ = j.Steps[0].Event["type"].(string)
	}
	return sortOfKey(j.Key) + "\n" + kind
}

// sortOfKey is a key, or the template of one, without its numbers.
func sortOfKey(key string) string {
	return strings.Map(func(r rune) rune {
		if '0' <= r && r <= '9' {
			return -1
		}
		return r
	}, strings.ReplaceAll(key, "{seq}", ""))
}

// sends reports whether messages of traffic are of a sort.
func sends(t *model.Traffic, sort string) bool {
	key, kind, _ := strings.Cut(sort, "\n")
	return sortOfKey(t.Key) == key && (t.Type == "" || t.Type == kind)
}
