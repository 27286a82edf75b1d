package graph

import (
	"ironweir/core/expr"
	"ironweir/core/model"
)

// Task is a compiled task of a workflow.
type Task struct {
	*model.Task
	If, In, While *expr.Expression
	Link          int // that a call uses, or None
	With, Set     *Payload
	Do, Fork, Try []*Task
	Cases         []TaskCase
	CatchWhen     *expr.Expression
	CatchDo       []*Task
}

// TaskCase is a compiled case of a switch; When nil: the default.
type TaskCase struct {
	*model.TaskCase
	When *expr.Expression
}

// compileTasks needs the links of the workflow, which come first.
func (g *Graph) compileTasks(n *Node, tasks []*model.Task) ([]*Task, error) {
	var out []*Task
	for _, m := range tasks {
		t := &Task{Task: m, Link: None}
		var err error
		for _, e := range []struct {
			source, want string
			into         **expr.Expression
		}{{m.If, "bool", &t.If}, {forOf(m).In, "list", &t.In}, {forOf(m).While, "bool", &t.While}, {catchOf(m).When, "bool", &t.CatchWhen}} {
			if *e.into, err = g.expression(e.source, e.want); err != nil {
				return nil, err
			}
		}
		for i := range m.Switch {
			c := TaskCase{TaskCase: &m.Switch[i]}
			if c.When, err = g.expression(m.Switch[i].When, "bool"); err != nil {
				return nil, err
			}
			t.Cases = append(t.Cases, c)
		}
		if t.With, err = g.payload(m.With); err != nil {
			return nil, err
		}
		if t.Set, err = g.payload(m.Set); err != nil {
			return nil, err
		}
		if m.Set != nil {
			g.UsesData = true
		}
		if m.Call != "" {
			t.Link = g.LinkID(n.Name + ":" + m.Call)
		}
		for _, l := range []struct {
			from []*model.Task
			into *[]*Task
		}{{m.Do, &t.Do}, {m.Fork, &t.Fork}, {m.Try, &t.Try}, {catchOf(m).Do, &t.CatchDo}} {
			if *l.into, err = g.compileTasks(n, l.from); err != nil {
				return nil, err
			}
		}
		out = append(out, t)
	}
	return out, nil
}

func forOf(t *model.Task) model.TaskFor {
	if t.For == nil {
		return model.TaskFor{}
	}
	return *t.For
}

func catchOf(t *model.Task) model.TaskCatch {
	if t.Catch == nil {
		return model.TaskCatch{}
	}
	return *t.Catch
}
