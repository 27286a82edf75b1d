package picture

import (
	"cmp"
	"slices"
)

// Sketch is a small picture of a topology, to be recognised by: columns and rows of cells, in
// which nodes lie, and lines between them. Messages flow from left to right, but for the links
// that lead back.
type Sketch struct {
	Columns int            `json:"columns" doc:"the width, in cells"`
	Rows    int            `json:"rows" doc:"the height, in cells"`
	Cells   []SketchedCell `json:"cells"`
	Lines   []SketchedLine `json:"lines"`
}

// SketchedCell is a node, or several in the same place.
type SketchedCell struct {
	X     float64 `json:"x" doc:"of its middle, in cells"`
	Y     float64 `json:"y"`
	Role  string  `json:"role" enum:"holds,moves,works,starts,ends"`
	State State   `json:"state,omitempty" enum:"loops,loses,full" doc:"what is found of it; absent: none of these"`
}

// SketchedLine is a link between two cells, by their index.
type SketchedLine struct {
	From int  `json:"from"`
	To   int  `json:"to"`
	Back bool `json:"back,omitempty" doc:"it leads back, or down a column"`
}

// Sketched is a node for a sketch.
type Sketched struct {
	Name, Role string
	State      State
}

// Bounds of a sketch, so that it stays small whatever the model's size.
const (
	mostColumns = 48
	mostRows    = 24
	mostLines   = 400
	sweeps      = 4 // over the columns, to set linked nodes side by side
)

// NewSketch draws nodes and the links between them, by name; links with other nodes are left
// out. The same input gives the same sketch.
func NewSketch(nodes []Sketched, links [][2]string) *Sketch {
	index := make(map[string]int, len(nodes))
	for i, n := range nodes {
		index[n.Name] = i
	}
	l := &layers{next: make([][]int, len(nodes)), before: make([][]int, len(nodes)), column: make([]int, len(nodes))}
	for _, link := range links {
		from, known := index[link[0]]
		to, there := index[link[1]]
		if known && there && from != to {
			l.next[from] = append(l.next[from], to)
		}
	}
	l.setColumns()
	l.setRows()
	return l.draw(nodes)
}

// layers are nodes in columns.
type layers struct {
	next, before [][]int // by links that do not lead back
	back         [][2]int
	column       []int
	columns      [][]int // nodes, from top to bottom
}

// setColumns sets each node right of all that lead to it: links that close a circle lead back.
func (l *layers) setColumns() {
	order := l.withoutCircles()
	for _, i := range order {
		for _, to := range l.next[i] {
			l.column[to] = max(l.column[to], l.column[i]+1)
			l.before[to] = append(l.before[to], i)
		}
	}
	for _, i := range order {
		for len(l.columns) <= l.column[i] {
			l.columns = append(l.columns, nil)
		}
		l.columns[l.column[i]] = append(l.columns[l.column[i]], i)
	}
}

// withoutCircles takes the links that lead back out, and gives the nodes such that links lead
// to later ones: from those that nothing leads to on, in the order of the model.
func (l *layers) withoutCircles() []int {
	const unseen, open, closed = 0, 1, 2
	state := make([]int, len(l.next))
	led := make([]bool, len(l.next))
	for _, to := range l.next {
		for _, k := range to {
			led[k] = true
		}
	}
	var order []int
	at := make([]int, len(l.next)) // the link of each open node that is looked at
	visit := func(start int) {
		stack := []int{start}
		state[start] = open
		for len(stack) > 0 {
			i := stack[len(stack)-1]
			if at[i] == len(l.next[i]) {
				state[i] = closed
				order = append(order, i)
				stack = stack[:len(stack)-1]
				continue
			}
			to := l.next[i][at[i]]
			switch state[to] {
			case open:
				l.back = append(l.back, [2]int{i, to})
				l.next[i] = slices.Delete(l.next[i], at[i], at[i]+1)
				continue
			case unseen:
				state[to] = open
				stack = append(stack, to)
			}
			at[i]++
		}
	}
	for _, first := range []bool{true, false} { // what nothing leads to, then circles
		for i := range l.next {
			if state[i] == unseen && (!first || !led[i]) {
				visit(i)
			}
		}
	}
	slices.Reverse(order)
	return order
}

// setRows orders each column by the middle of what its nodes are linked with, forth and back.
func (l *layers) setRows() {
	place := make([]float64, len(l.next)) // of a node within its column, from 0 to 1
	rank := func(column []int) {
		for k, i := range column {
			place[i] = (float64(k) + 0.5) / float64(len(column))
		}
	}
	for _, column := range l.columns {
		rank(column)
	}
	middle := make([]float64, len(l.next))
	order := func(column []int, linked [][]int) {
		for _, i := range column {
			middle[i] = place[i]
			if len(linked[i]) > 0 {
				sum := 0.0
				for _, k := range linked[i] {
					sum += place[k]
				}
				middle[i] = sum / float64(len(linked[i]))
			}
		}
		slices.SortStableFunc(column, func(a, b int) int { return cmp.Compare(middle[a], middle[b]) })
		rank(column)
	}
	for range sweeps {
		for _, column := range l.columns {
			order(column, l.before)
		}
		for k := len(l.columns) - 1; k >= 0; k-- {
			order(l.columns[k], l.next)
		}
	}
}

// draw sets the nodes into cells.
func (l *layers) draw(nodes []Sketched) *Sketch {
	s := &Sketch{Rows: 1, Cells: []SketchedCell{}, Lines: []SketchedLine{}}
	s.Columns = min(max(len(l.columns), 1), mostColumns)
	for _, column := range l.columns {
		s.Rows = min(max(s.Rows, len(column)), mostRows)
	}
	type spot struct{ column, row int }
	taken := map[spot]int{}
	cell := make([]int, len(nodes))
	for c, column := range l.columns {
		x := c * s.Columns / len(l.columns)
		shown := min(len(column), s.Rows)
		for k, i := range column {
			row := k * shown / len(column)
			at, there := taken[spot{x, row}]
			if !there {
				at = len(s.Cells)
				taken[spot{x, row}] = at
				s.Cells = append(s.Cells, SketchedCell{
					X:    float64(x) + 0.5,
					Y:    float64(s.Rows) * (float64(row) + 0.5) / float64(shown),
					Role: nodes[i].Role,
				})
			}
			s.Cells[at].State = s.Cells[at].State.Worse(nodes[i].State)
			cell[i] = at
		}
	}
	l.drawLines(s, cell)
	return s
}

func (l *layers) drawLines(s *Sketch, cell []int) {
	drawn := map[SketchedLine]bool{}
	add := func(from, to int) {
		line := SketchedLine{cell[from], cell[to], s.Cells[cell[to]].X <= s.Cells[cell[from]].X}
		if line.From == line.To || drawn[line] || len(s.Lines) == mostLines {
			return
		}
		drawn[line] = true
		s.Lines = append(s.Lines, line)
	}
	for _, link := range l.back { // first, since loops are what a small picture should show
		add(link[0], link[1])
	}
	for from, links := range l.next {
		for _, to := range links {
			add(from, to)
		}
	}
}
