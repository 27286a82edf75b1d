package model

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Task is one step of a workflow: the subset of the Serverless Workflow DSL 1.0
// (CNCF) that docs/model.md lists. Exactly one of its actions is set.
type Task struct {
	Name string
	Pos  Position
	If   string // CEL; empty: always
	Then string // continue, end, exit or the name of a task of the same list

	Call    string        // the name of a link of the workflow
	With    *Value        // the payload of the call
	Do      []*Task       // a list of its own; also what a `for` repeats
	For     *TaskFor      //
	Fork    []*Task       // branches
	Compete bool          // the first branch to end ends the fork
	Switch  []TaskCase    //
	Try     []*Task       //
	Catch   *TaskCatch    //
	Wait    time.Duration // with IsWait
	IsWait  bool
	Raise   string // the name of the error
	Set     *Value // the new payload
}

// TaskFor repeats tasks for each item of a list.
type TaskFor struct{ In, While string }

// TaskCase is a case of a switch; When empty: the default.
type TaskCase struct{ Name, When, Then string }

// TaskCatch says which errors of a try are caught, whether it is tried again,
// and what is done then.
type TaskCatch struct {
	Type  string // the name of an error; empty: any
	When  string
	Retry *TaskRetry
	Do    []*Task
}

// TaskRetry tries again up to Count times (0: without end), within Within.
type TaskRetry struct {
	Delay      time.Duration
	Backoff    string // constant linear exponential
	Count      int
	Within     time.Duration
	JitterFrom time.Duration
	JitterTo   time.Duration
	Pos        Position
}

// taskActions are the words that say what a task does.
var taskActions = []string{"call", "do", "for", "fork", "switch", "try", "wait", "raise", "set"}

// maxTaskDepth bounds how deep tasks lie in each other.
const maxTaskDepth = 20

func (o *object) tasks(key string) []*Task {
	v := o.get(key)
	if v == nil || v.Shape != List || len(v.Items) == 0 {
		o.problem(o.pos(key), o.at(key), "this needs a list of named tasks, as in `- weigh: {call: scale}`")
		return nil
	}
	return o.decoder.taskList(v, o.at(key), 0)
}

func (d *decoder) taskList(v *Value, path string, depth int) []*Task {
	if v == nil || v.Shape != List {
		if v != nil {
			d.wants(v, path, "a list of named tasks, as in `- weigh: {call: scale}`")
		}
		return nil
	}
	if depth > maxTaskDepth {
		d.problem(v.Pos, path, "tasks lie more than %d deep", maxTaskDepth)
		return nil
	}
	var list []*Task
	names := map[string]bool{}
	for i, item := range v.Items {
		at := fmt.Sprintf("%s[%d]", path, i)
		if item.Shape != Map || len(item.Fields) != 1 {
			d.wants(item, at, "one named task, as in `- weigh: {call: scale}`")
			continue
		}
		f := item.Fields[0]
		if names[f.Key] {
			d.problem(f.Pos, at, "two tasks of one list are named %q", f.Key)
		}
		names[f.Key] = true
		if t := d.task(f.Key, f.Pos, f.Value, at+"."+f.Key, depth); t != nil {
			list = append(list, t)
		}
	}
	for _, t := range list {
		d.jump(t.Then, t.Pos, path, names)
		for _, c := range t.Switch {
			d.jump(c.Then, t.Pos, path, names)
		}
	}
	return list
}

func (d *decoder) jump(then string, pos Position, path string, names map[string]bool) {
	switch then {
	case "", "continue", "end", "exit":
		return
	}
	if !names[then] {
		d.problem(
			pos,
			path,
			"`then: %s` names no task of this list%s; it is a task, continue, exit or end",
			then,
			didYouMean(then, sortedKeys(names)),
		)
	}
}

func (d *decoder) task(name string, pos Position, v *Value, path string, depth int) *Task {
	o := d.object(v, path)
	t := &Task{Name: name, Pos: pos, If: Runtime(o.text("if")), Then: o.text("then")}
	var is []string
	for _, a := range taskActions {
		if v.Get(a) != nil && !(a == "do" && v.Get("for") != nil) {
			is = append(is, a)
		}
	}
	if len(is) != 1 {
		unknown := ""
		for _, f := range o.v.Fields {
			switch f.Key {
			case "emit", "listen", "run":
				unknown = fmt.Sprintf("; `%s` is not among those that are simulated", f.Key)
			}
		}
		d.problem(pos, path, "a task does exactly one of %s%s", strings.Join(taskActions, ", "), unknown)
		return nil
	}
	switch is[0] {
	case "call":
		t.Call = o.text("call")
		t.With = o.get("with")
	case "do":
		t.Do = d.taskList(o.get("do"), o.at("do"), depth+1)
	case "for":
		q := d.object(o.written("for"), o.at("for"))
		t.For = &TaskFor{In: Runtime(q.text("in")), While: Runtime(o.text("while"))}
		for key, only := range map[string]string{"each": "item", "at": "index"} {
			if got := q.text(key); got != "" && got != only {
				d.problem(q.pos(key), q.at(key), "expressions see it as `%s`; leave `%s` out", only, key)
			}
		}
		q.done(nil)
		t.Do = d.taskList(o.get("do"), o.at("do"), depth+1)
		if t.For.In == "" || t.Do == nil {
			d.problem(pos, path, "`for` needs `in`, a list, and `do` beside it")
		}
	case "fork":
		q := d.object(o.written("fork"), o.at("fork"))
		t.Fork = d.taskList(q.get("branches"), q.at("branches"), depth+1)
		t.Compete = q.truth("compete", false)
		q.done(nil)
		if len(t.Fork) == 0 {
			d.problem(pos, path, "`fork` needs `branches`, a list of named tasks")
		}
	case "switch":
		d.taskSwitch(t, o)
	case "try":
		t.Try = d.taskList(o.written("try"), o.at("try"), depth+1)
		d.taskCatch(t, o, depth)
	case "wait":
		t.IsWait = true
		t.Wait = d.taskTime(o.written("wait"), o.at("wait"))
	case "raise":
		t.Raise = d.raised(o.written("raise"), o.at("raise"))
	case "set":
		t.Set = o.get("set")
	}
	o.asked = append(o.asked, taskActions...)
	o.done(nil)
	return t
}

func (d *decoder) taskSwitch(t *Task, o *object) {
	v := o.written("switch")
	if v.Shape != List {
		d.wants(v, o.at("switch"), "a list of named cases, as in `- heavy: {when: event.data.kg > 100, then: weigh}`")
		return
	}
	for i, item := range v.Items {
		at := fmt.Sprintf("%s[%d]", o.at("switch"), i)
		if item.Shape != Map || len(item.Fields) != 1 {
			d.wants(item, at, "one named case")
			continue
		}
		q := d.object(item.Fields[0].Value, at)
		c := TaskCase{Name: item.Fields[0].Key, When: Runtime(q.text("when")), Then: q.text("then")}
		if c.Then == "" {
			d.problem(item.Pos, at, "a case needs `then`, where it goes on")
		}
		q.done(nil)
		t.Switch = append(t.Switch, c)
	}
}

func (d *decoder) taskCatch(t *Task, o *object, depth int) {
	v := o.get("catch")
	if v == nil {
		d.problem(t.Pos, o.path, "`try` needs `catch`, what is done about an error; `catch: {}` goes on")
		return
	}
	q := d.object(v, o.at("catch"))
	c := &TaskCatch{When: Runtime(q.text("when"))}
	if as := q.text("as"); as != "" && as != "error" {
		d.problem(q.pos("as"), q.at("as"), "expressions see the error as `error`; leave `as` out")
	}
	if e := q.get("errors"); e != nil {
		errors := d.object(e, q.at("errors"))
		if w := errors.get("with"); w != nil {
			with := d.object(w, errors.at("with"))
			c.Type = with.text("type")
			with.done(nil)
		}
		errors.done(nil)
	}
	if r := q.get("retry"); r != nil {
		c.Retry = d.taskRetry(r, q.at("retry"))
	}
	if q.v.Get("do") != nil {
		c.Do = d.taskList(q.get("do"), q.at("do"), depth+1)
	} else {
		q.get("do")
	}
	q.done(nil)
	t.Catch = c
}

func (d *decoder) taskRetry(v *Value, path string) *TaskRetry {
	q := d.object(v, path)
	r := &TaskRetry{Backoff: "constant", Pos: v.Pos}
	if w := q.get("delay"); w != nil {
		r.Delay = d.taskTime(w, q.at("delay"))
	}
	if b := q.get("backoff"); b != nil {
		if b.Shape != Map || len(b.Fields) != 1 ||
			b.Get("constant") == nil && b.Get("linear") == nil && b.Get("exponential") == nil {
			d.wants(b, q.at("backoff"), "one of {constant: {}}, {linear: {}} and {exponential: {}}")
		} else {
			r.Backoff = b.Fields[0].Key
		}
	}
	if l := q.get("limit"); l != nil {
		limit := d.object(l, q.at("limit"))
		if a := limit.get("attempt"); a != nil {
			attempt := d.object(a, limit.at("attempt"))
			r.Count = attempt.whole("count", 0, 1)
			attempt.done(nil)
		}
		if w := limit.get("duration"); w != nil {
			r.Within = d.taskTime(w, limit.at("duration"))
		}
		limit.done(nil)
	}
	if j := q.get("jitter"); j != nil {
		jitter := d.object(j, q.at("jitter"))
		if w := jitter.get("from"); w != nil {
			r.JitterFrom = d.taskTime(w, jitter.at("from"))
		}
		if w := jitter.get("to"); w != nil {
			r.JitterTo = d.taskTime(w, jitter.at("to"))
		}
		jitter.done(nil)
	}
	q.done(nil)
	return r
}

// raised reads the name of an error: a text, {error: NAME}, or an error with its
// type.
func (d *decoder) raised(v *Value, path string) string {
	if v.Shape == Map {
		if e := v.Get("error"); e != nil {
			return d.raised(e, path+".error")
		}
		if t := v.Get("type"); t != nil {
			return d.raised(t, path+".type")
		}
	}
	if v.Shape != Text || v.Scalar == "" {
		d.wants(v, path, "the name of an error")
		return ""
	}
	return v.Scalar
}

var isoDuration = regexp.MustCompile(`^P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?)?$`)

// ISOSeconds reads a time as ISO 8601 writes it, with days and what is shorter: PT5M.
func ISOSeconds(text string) (seconds float64, ok bool) {
	m := isoDuration.FindStringSubmatch(text)
	if m == nil || len(text) <= 2 {
		return 0, false
	}
	for i, unit := range []float64{86400, 3600, 60, 1} {
		if n, err := strconv.ParseFloat(m[i+1], 64); err == nil {
			seconds += n * unit
		}
	}
	return seconds, true
}

// taskTime reads a time as the DSL writes it, {minutes: 5} or PT5M, or as the
// rest of a model does, 5m.
func (d *decoder) taskTime(v *Value, path string) time.Duration {
	seconds := 0.0
	if v.Shape == Map {
		o := d.object(v, path)
		for key, unit := range map[string]float64{"days": 86400, "hours": 3600, "minutes": 60, "seconds": 1,
			"milliseconds": 1e-3} {
			if n := o.number(key); n != nil {
				seconds += *n * unit
			}
		}
		o.done(nil)
	} else if s, ok := ISOSeconds(v.Scalar); ok {
		seconds = s
	} else {
		t, err := ParseDuration(v.Scalar)
		if err != nil {
			d.problem(v.Pos, path, "%v", err)
		}
		return t
	}
	if !(seconds >= 0 && seconds <= MaxDuration.Seconds()) {
		d.problem(v.Pos, path, "a time lies between 0 and %s", FormatDuration(MaxDuration))
		return 0
	}
	return time.Duration(seconds * 1e9)
}

// Runtime takes an expression out of the DSL's `${ … }`.
func Runtime(s string) string {
	if inner, ok := strings.CutPrefix(strings.TrimSpace(s), "${"); ok && strings.HasSuffix(inner, "}") {
		return strings.TrimSpace(strings.TrimSuffix(inner, "}"))
	}
	return s
}

// Place says where in a workflow a task lies.
type Place struct {
	Caught    bool // an error there is caught by something that does not fail by itself
	Sometimes bool // it is not done on every way through
	InCatch   bool // it is done only after an error
}

// Walk visits tasks and all that lie in them.
func Walk(tasks []*Task, in Place, visit func(t *Task, p Place)) {
	for _, t := range tasks {
		p := in
		p.Sometimes = p.Sometimes || t.If != ""
		visit(t, p)
		switch {
		case t.Try != nil:
			tried := p
			tried.Caught = p.Caught || t.Catch != nil && t.Catch.Type == "" && t.Catch.When == "" && !raises(t.Catch.Do)
			Walk(t.Try, tried, visit)
			if t.Catch != nil {
				Walk(t.Catch.Do, Place{p.Caught, true, true}, visit)
			}
		case t.Fork != nil:
			p.Sometimes = p.Sometimes || t.Compete
			Walk(t.Fork, p, visit)
		default:
			p.Sometimes = p.Sometimes || t.For != nil
			Walk(t.Do, p, visit)
		}
		if t.Switch != nil || t.Then != "" && t.Then != "continue" {
			in.Sometimes = true // what follows may be jumped over
		}
	}
}

// raises reports whether a list of tasks always ends in an error.
func raises(tasks []*Task) bool {
	for _, t := range tasks {
		if t.Raise != "" && t.If == "" {
			return true
		}
	}
	return false
}

// calls gives a workflow a waiting link for each task that calls a node which
// no link of its own names.
func (d *decoder) calls(t *Topology, n *Node, path string) {
	if len(n.Do) == 0 {
		return
	}
	names := t.NodeNames()
	Walk(n.Do, Place{}, func(task *Task, p Place) {
		d.taskExpressions(task, path)
		if task.Call == "" {
			return
		}
		l := n.Link(task.Call)
		if l == nil {
			to := t.byName[task.Call]
			if to == nil {
				d.problem(
					task.Pos,
					path,
					"task %s calls %q, which is not a node%s",
					task.Name,
					task.Call,
					didYouMean(task.Call, names),
				)
				return
			}
			l = &Link{
				From:   n.Name,
				Name:   task.Call,
				To:     to.Name,
				Pos:    task.Pos,
				ToPos:  task.Pos,
				Read:   Read{UpTo: 1, Parallel: 1, Failed: "each"},
				Wrap:   "none",
				Count:  Count{Dist: Constant(1)},
				Chance: 1,
				Size:   -1,
			}
			n.Links = append(n.Links, l)
		}
		if to := t.byName[l.To]; to != nil && !to.Kind.Runs() || l.When != OfRun || l.Mode != "" && l.Mode != "wait" {
			d.problem(
				task.Pos,
				path,
				"task %s calls %s; a call waits for a function, outside system or workflow",
				task.Name,
				task.Call,
			)
			return
		}
		l.Mode = "wait"
		if !l.ByTask {
			l.ByTask, l.Sometimes, l.InCatch, l.Caught = true, p.Sometimes, p.InCatch, p.Caught
		} else {
			l.Sometimes, l.InCatch, l.Caught = l.Sometimes && p.Sometimes, l.InCatch && p.InCatch, l.Caught && p.Caught
		}
	})
}

func (d *decoder) taskExpressions(t *Task, path string) {
	path += "." + t.Name
	d.condition(t.Pos, path+".if", t.If, "bool")
	if t.For != nil {
		d.condition(t.Pos, path+".for.in", t.For.In, "list")
		d.condition(t.Pos, path+".while", t.For.While, "bool")
	}
	for _, c := range t.Switch {
		d.condition(t.Pos, path+".switch."+c.Name, c.When, "bool")
	}
	if t.Catch != nil {
		d.condition(t.Pos, path+".catch.when", t.Catch.When, "bool")
	}
	for _, v := range []*Value{t.With, t.Set} {
		if v != nil {
			d.payload(v, path)
		}
	}
}
