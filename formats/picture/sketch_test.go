package picture_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/formats/picture"
)

func sketched(names ...string) (out []picture.Sketched) {
	for _, n := range names {
		out = append(out, picture.Sketched{Name: n, Role: "works"})
	}
	return out
}

func TestASketchRunsFromLeftToRight(t *testing.T) {
	s := picture.NewSketch(sketched("sink", "a", "b", "source"), [][2]string{
		{"source", "a"}, {"source", "b"}, {"a", "sink"}, {"b", "sink"}, {"source", "sink"}, {"a", "unknown"},
	})
	require.Equal(t, 3, s.Columns)
	require.Equal(t, 2, s.Rows)
	require.ElementsMatch(t, []picture.SketchedCell{
		{X: 0.5, Y: 1, Role: "works"}, {X: 1.5, Y: 0.5, Role: "works"}, {X: 1.5, Y: 1.5, Role: "works"},
		{X: 2.5, Y: 1, Role: "works"},
	}, s.Cells)
	require.Len(t, s.Lines, 5)
	for _, l := range s.Lines {
		require.False(t, l.Back)
		require.Less(t, s.Cells[l.From].X, s.Cells[l.To].X)
	}
}

// TestASketchSetsLinkedNodesSideBySide: no two lines cross that need not.
func TestASketchSetsLinkedNodesSideBySide(t *testing.T) {
	s := picture.NewSketch(sketched("a", "b", "c", "x", "y", "z"), [][2]string{{"a", "z"}, {"b", "y"}, {"c", "x"}})
	require.Len(t, s.Lines, 3)
	for _, l := range s.Lines {
		require.Equal(t, s.Cells[l.From].Y, s.Cells[l.To].Y)
	}
}

func TestASketchShowsLoopsAndStates(t *testing.T) {
	nodes := sketched("start", "worker", "shelf", "own")
	nodes[1].State, nodes[2].State = picture.Loops, picture.Loses
	links := [][2]string{{"start", "worker"}, {"worker", "shelf"}, {"shelf", "worker"}, {"own", "own"}}
	s := picture.NewSketch(nodes, links)
	back := 0
	for _, l := range s.Lines {
		if l.Back {
			back++
			require.Equal(t, picture.Loses, s.Cells[l.From].State)
			require.Equal(t, picture.Loops, s.Cells[l.To].State)
		}
	}
	require.Equal(t, 1, back)
	require.Len(t, s.Cells, 4)
}

// TestASketchStaysSmall whatever the model: cells stand for several nodes, of which the worst
// shows.
func TestASketchStaysSmall(t *testing.T) {
	var nodes []picture.Sketched
	var links [][2]string
	for i := range 10_000 {
		nodes = append(nodes, picture.Sketched{Name: fmt.Sprint(i), Role: "holds"})
		name := fmt.Sprint(i)
		links = append(links, [2]string{fmt.Sprint(i / 3), name}, [2]string{name, fmt.Sprint(i * 7 % 10_000)})
	}
	nodes[9_999].State = picture.Loops
	s := picture.NewSketch(nodes, links)
	require.LessOrEqual(t, len(s.Cells), 48*24)
	require.LessOrEqual(t, len(s.Lines), 400)
	worst := picture.Fine
	for _, c := range s.Cells {
		require.True(t, c.X > 0 && c.X < float64(s.Columns) && c.Y > 0 && c.Y < float64(s.Rows), c)
		worst = max(worst, c.State)
	}
	require.Equal(t, picture.Loops, worst)
	require.Equal(t, s, picture.NewSketch(nodes, links), "the same input gives the same sketch")
	require.Empty(t, picture.NewSketch(nil, nil).Cells)
}
