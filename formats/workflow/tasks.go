package workflow

import (
	"fmt"
	"strings"

	"ironweir/core/model"
	"ironweir/formats/drafting"
)

// maxDepth bounds how deep tasks lie in each other.
const maxDepth = 20

// tasks writes a list of named tasks as a model has them.
func (d *draft) tasks(list *model.Value, path string, depth int) (*model.Value, error) {
	if list == nil || list.Shape != model.List {
		return nil, fmt.Errorf("%s: a list of named tasks is needed, as in `- weigh: {call: scale}`", place(list, path))
	}
	if depth > maxDepth {
		return nil, fmt.Errorf("%s: tasks lie more than %d deep", place(list, path), maxDepth)
	}
	out := model.ListValue()
	for i, item := range list.Items {
		if item.Shape != model.Map || len(item.Fields) != 1 {
			return nil, fmt.Errorf("%s: one named task is needed", place(item, fmt.Sprintf("%s[%d]", path, i)))
		}
		f := item.Fields[0]
		at := fmt.Sprintf("%s[%d].%s", path, i, f.Key)
		task, err := d.task(f.Key, f.Value, at, depth)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, model.MapValue().Add(f.Key, task))
	}
	return out, nil
}

func place(v *model.Value, path string) string {
	if v == nil {
		return path
	}
	return fmt.Sprintf("line %d, %s", v.Pos.Line, path)
}

// actions are the words that say what a task does.
var actions = []string{"call", "do", "for", "fork", "switch", "try", "wait", "raise", "set", "emit", "listen", "run"}

// task writes one task: what a model has no word for becomes the nearest that it has, and is marked.
func (d *draft) task(name string, v *model.Value, path string, depth int) (*model.Value, error) {
	out := model.MapValue()
	if cond := v.Get("if"); cond != nil {
		if cel, ok := expression(cond.Scalar); ok {
			out.Add("if", text(cel))
		} else {
			d.ask(path, "the task is done only if %s, which could not be translated; here it is always done", cond.Scalar)
		}
	}
	is := ""
	for _, a := range actions {
		if v.Get(a) != nil && !(a == "do" && v.Get("for") != nil) {
			is = a
			break
		}
	}
	var err error
	switch is {
	case "call":
		d.call(name, v, out)
	case "run":
		out.Add("call", text(d.node("function", name, runs(v.Get("run")))))
		d.Lacks("what %s does that the task %s runs (%s)", d.named["function "+name], name, runs(v.Get("run")))
	case "emit":
		d.emit(name, v.Get("emit"), path, out)
	case "listen":
		d.listen(name, v.Get("listen"), path, out)
	case "wait":
		out.Add("wait", v.Get("wait"))
	case "raise":
		out.Add("raise", text(d.raised(v.Get("raise").Get("error"))))
	case "set":
		out.Add("set", d.payload(v.Get("set"), path+".set"))
	case "switch":
		err = d.choose(v.Get("switch"), path, out)
	case "try":
		err = d.try(v, path, depth, out)
	case "do":
		err = d.inner(out, "do", v.Get("do"), path, depth)
	case "for":
		err = d.repeat(v, path, depth, out)
	case "fork":
		fork := model.MapValue()
		if err = d.inner(fork, "branches", v.Get("fork").Get("branches"), path, depth); err == nil {
			if compete := v.Get("fork").Get("compete"); compete != nil {
				fork.Add("compete", compete)
			}
			out.Add("fork", fork)
		}
	default:
		return nil, fmt.Errorf("%s: the task %s does none of %s", place(v, path), name, strings.Join(actions, ", "))
	}
	if err != nil {
		return nil, err
	}
	if then := v.Get("then"); then != nil {
		out.Add("then", then)
	}
	if v.Get("timeout") != nil {
		d.Lacks("a time-out of the task %s: give it to the node that it calls", name)
	}
	return out, nil
}

// ask marks what could not be translated.
func (d *draft) ask(path, format string, args ...any) {
	say := fmt.Sprintf(format, args...)
	d.remark(path, "QUESTION: "+say)
	d.Missing = append(d.Missing, say)
}

// remark notes something about a task, at the place in the workflow that it says.
func (d *draft) remark(path, say string) {
	at := "nodes." + d.name + ".do"
	if d.Comments[at] != "" {
		d.Comments[at] += "\n"
	}
	d.Comments[at] += strings.TrimPrefix(path, "nodes."+d.name+".") + ": " + say
}

func (d *draft) inner(out *model.Value, key string, list *model.Value, path string, depth int) error {
	tasks, err := d.tasks(list, path+"."+key, depth+1)
	if err == nil {
		out.Add(key, tasks)
	}
	return err
}

// call writes a call: protocols lead to outside systems by their address, everything else is a function of that name.
func (d *draft) call(name string, v, out *model.Value) {
	called, with := v.Get("call").Scalar, v.Get("with")
	address := ""
	switch called {
	case "http":
		address = endpoint(with.Get("endpoint"))
	case "grpc":
		address = "grpc://" + drafting.Scalar(with, "service", "host")
	case "openapi", "asyncapi":
		address = endpoint(with.Get("document").Get("endpoint"))
	default:
		function, _, _ := strings.Cut(called, ":") // a version and a catalogue may follow
		out.Add("call", text(d.node("function", function, "")))
		if with != nil {
			out.Add("with", d.payload(with, "nodes."+d.name))
		}
		return
	}
	to := host(address)
	if to == "" {
		to = name
	}
	about := called + " " + address
	if method := drafting.Scalar(with, "method"); method != "" {
		about = strings.ToUpper(method) + " " + address
	}
	out.Add("call", text(d.node("outside", to, strings.TrimSpace(about))))
}

// endpoint gives an address, which may be given with how to sign in there.
func endpoint(v *model.Value) string {
	if v != nil && v.Shape == model.Map {
		v = v.Get("uri")
	}
	if v == nil {
		return ""
	}
	return v.Scalar
}

// runs says what a task runs.
func runs(v *model.Value) string {
	for _, kind := range []string{"workflow", "container", "script", "shell"} {
		if x := v.Get(kind); x != nil {
			for _, key := range []string{"name", "image", "language", "command"} {
				if s := drafting.Scalar(x, key); s != "" {
					return kind + " " + s
				}
			}
			return "a " + kind
		}
	}
	return "something"
}

// emit makes a link to a topic: a workflow sends when it is done.
func (d *draft) emit(name string, v *model.Value, path string, out *model.Value) {
	kind := drafting.Scalar(v, "event", "with", "type")
	if kind == "" {
		kind = name
	}
	topic := d.named["topic "+kind]
	if topic == "" {
		topic = d.Name(kind, "events")
		d.named["topic "+kind] = topic
		receivers := d.Name("takers-of-"+topic, "takers")
		d.nodes.Add(topic, model.MapValue().Add("kind", text("topic")).
			Add("links", model.MapValue().Add(receivers, model.MapValue())))
		d.nodes.Add(receivers, model.MapValue().Add("kind", text("outside")))
		d.Comments["nodes."+receivers] = "Guessed: who receives these events is not in the document."
		d.links.Add(topic, model.MapValue().Add("type", text(kind)))
		d.Lacks("who receives the events of type %s", kind)
	}
	out.Add("wait", text("0s"))
	d.remark(path, "Here an event of type "+kind+" is emitted; in the model the link to "+topic+
		" sends it when the workflow has ended.")
}

// listen waits for an outside system.
func (d *draft) listen(name string, v *model.Value, path string, out *model.Value) {
	types := strings.Join(eventTypes(v.Get("to")), ", ")
	out.Add("call", text(d.node("outside", name+"-event", "answers with events: "+types)))
	d.remark(path, "Here the workflow waits for events ("+types+"); in the model it waits for the answer of "+
		"an outside system.")
}

// raised names an error by the last part of its type.
func (d *draft) raised(v *model.Value) string {
	v = d.used("errors", v)
	if v != nil && v.Shape == model.Map {
		v = v.Get("type")
	}
	if v == nil || v.Scalar == "" {
		return "error"
	}
	return errorName(v.Scalar)
}

func errorName(kind string) string {
	kind = strings.TrimRight(kind, "/")
	if slug := drafting.Slug(kind[strings.LastIndex(kind, "/")+1:]); slug != "" {
		return slug
	}
	return "error"
}

// choose writes a switch. A condition that cannot be translated asks whether the payload has a field of its name.
func (d *draft) choose(v *model.Value, path string, out *model.Value) error {
	if v.Shape != model.List {
		return fmt.Errorf("%s: `switch` is a list of named cases", place(v, path))
	}
	cases := model.ListValue()
	for _, item := range v.Items {
		if item.Shape != model.Map || len(item.Fields) != 1 {
			return fmt.Errorf("%s: one named case is needed", place(item, path))
		}
		f := item.Fields[0]
		one := model.MapValue()
		if when := f.Value.Get("when"); when != nil {
			cel, ok := expression(when.Scalar)
			if !ok {
				cel = fmt.Sprintf("%q in event.data", f.Key)
				d.ask(path, "the case %s holds if %s, which could not be translated; here it holds if the payload has a "+
					"field of its name", f.Key, when.Scalar)
			}
			one.Add("when", text(cel))
		}
		then := f.Value.Get("then")
		if then == nil {
			then = text("continue")
		}
		cases.Items = append(cases.Items, model.MapValue().Add(f.Key, one.Add("then", then)))
	}
	out.Add("switch", cases)
	return nil
}

// try writes a try with its catch.
func (d *draft) try(v *model.Value, path string, depth int, out *model.Value) error {
	if err := d.inner(out, "try", v.Get("try"), path, depth); err != nil {
		return err
	}
	caught := model.MapValue()
	c := v.Get("catch")
	if c == nil {
		out.Add("catch", caught)
		return nil
	}
	if kind := drafting.Scalar(c, "errors", "with", "type"); kind != "" {
		caught.Add("errors",
			model.MapValue().Add("with", model.MapValue().Add("type", text(errorName(kind)))))
	} else if c.Get("errors") != nil {
		d.ask(path, "only some errors are caught, by %s; here all are", keysOf(c.Get("errors").Get("with")))
	}
	for _, key := range []string{"when", "exceptWhen"} {
		cond := c.Get(key)
		if cond == nil {
			continue
		}
		cel, ok := expression(cond.Scalar)
		switch {
		case ok && key == "exceptWhen":
			caught.Add("when", text("!("+cel+")"))
		case ok:
			caught.Add("when", text(cel))
		default:
			d.ask(path, "errors are caught only by the condition %s (%s), which could not be translated", cond.Scalar, key)
		}
	}
	if r := d.used("retries", c.Get("retry")); r != nil {
		caught.Add("retry", d.retry(r, path))
	}
	if c.Get("do") != nil {
		if err := d.inner(caught, "do", c.Get("do"), path+".catch", depth); err != nil {
			return err
		}
	}
	out.Add("catch", caught)
	return nil
}

func keysOf(v *model.Value) string {
	if v == nil {
		return "something else"
	}
	var keys []string
	for _, f := range v.Fields {
		keys = append(keys, f.Key)
	}
	return strings.Join(keys, ", ")
}

// retry writes a rule of tries.
func (d *draft) retry(v *model.Value, path string) *model.Value {
	out := model.MapValue()
	for _, key := range []string{"delay", "backoff", "jitter"} {
		if x := v.Get(key); x != nil {
			if key == "backoff" && len(x.Fields) == 1 {
				x = model.MapValue().Add(x.Fields[0].Key, model.MapValue())
			}
			out.Add(key, x)
		}
	}
	limit := model.MapValue()
	if n := v.Get("limit").Get("attempt").Get("count"); n != nil {
		limit.Add("attempt", model.MapValue().Add("count", n))
	}
	if t := v.Get("limit").Get("duration"); t != nil {
		limit.Add("duration", t)
	}
	if len(limit.Fields) > 0 {
		out.Add("limit", limit)
	}
	if v.Get("when") != nil || v.Get("exceptWhen") != nil {
		d.ask(path, "errors are tried again only under a condition; here all are")
	}
	return out
}

// repeat writes a loop over a list.
func (d *draft) repeat(v *model.Value, path string, depth int, out *model.Value) error {
	loop := v.Get("for")
	for _, names := range [][2]string{{"each", "item"}, {"at", "index"}} {
		if called := drafting.Scalar(loop, names[0]); called != "" && called != names[1] {
			v = renamed(v, "$"+called, "$"+names[1])
		}
	}
	in, ok := expression(drafting.Scalar(loop, "in"))
	if !ok {
		d.ask(path, "it repeats for each of %s, which could not be translated; here for each of `items`",
			drafting.Scalar(loop, "in"))
		in = "event.data.items"
	}
	out.Add("for", model.MapValue().Add("in", text(in)))
	if while := v.Get("while"); while != nil {
		if cel, ok := expression(while.Scalar); ok {
			out.Add("while", text(cel))
		} else {
			d.ask(path, "it repeats only while %s, which could not be translated", while.Scalar)
		}
	}
	return d.inner(out, "do", v.Get("do"), path, depth)
}

// renamed copies a value with a variable of its expressions renamed.
func renamed(v *model.Value, from, to string) *model.Value {
	if v == nil {
		return nil
	}
	out := *v
	out.Scalar = variable(v.Scalar, from, to)
	out.Fields, out.Items = nil, nil
	for _, f := range v.Fields {
		f.Value = renamed(f.Value, from, to)
		out.Fields = append(out.Fields, f)
	}
	for _, item := range v.Items {
		out.Items = append(out.Items, renamed(item, from, to))
	}
	return &out
}

// payload copies data, with its expressions translated; those that cannot be are left out.
func (d *draft) payload(v *model.Value, path string) *model.Value {
	if v.Shape == model.Map {
		out := model.MapValue()
		for _, f := range v.Fields {
			if x := d.payload(f.Value, path); x != nil {
				out.Add(f.Key, x)
			} else {
				d.Lacks("the field %s of a payload: %s could not be translated", f.Key, f.Value.Scalar)
			}
		}
		return out
	}
	if v.Shape == model.List {
		out := model.ListValue()
		for _, item := range v.Items {
			if x := d.payload(item, path); x != nil {
				out.Items = append(out.Items, x)
			}
		}
		return out
	}
	if !strings.Contains(v.Scalar, "${") {
		return v
	}
	cel, ok := expression(v.Scalar)
	if !ok || !strings.HasPrefix(strings.TrimSpace(v.Scalar), "${") {
		return nil
	}
	return text("${ " + cel + " }")
}
