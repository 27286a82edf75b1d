package model

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/expr"
)

// Options choose what of a file is read.
type Options struct {
	Environment string            // whose variables hold; empty: those of the file itself
	Variant     *Value            // a JSON Merge Patch over the file, or nil
	Sets        []string          // PATH=VALUE, applied last
	Origin      map[string]string // by path: where a setting comes from, as errors say; else -set
	// Load gives the text of another file named in `parts`; nil: parts are an
	// error.
	Load func(name string) ([]byte, error)
}

const (
	topologyHeader = "topology/1"
	scenarioHeader = "scenario/1"
)

// Parse reads a topology. The error is Problems when the file is at fault.
func Parse(file string, text []byte, opt Options) (*Topology, error) {
	root, err := ReadDocument(file, text)
	if err != nil {
		return nil, err
	}
	return FromDocument(file, root, opt)
}

// existingNode reports a path that leads into a node or a link that the model lacks.
func existingNode(root *Value, origin, path string) error {
	at := root
	steps := strings.Split(path, ".")
	for k, what := range map[int]string{1: "node", 3: "link"} {
		if len(steps) < k+2 || k == 3 && steps[2] != "links" || steps[0] != "nodes" {
			continue
		}
		at = root
		for _, s := range steps[:k] {
			if at = at.Get(s); at == nil {
				return nil
			}
		}
		if at.Shape != Map || at.Get(steps[k]) != nil {
			continue
		}
		var names []string
		for _, f := range at.Fields {
			names = append(names, f.Key)
		}
		return fmt.Errorf("%s %s: no %s named %q%s", origin, path, what, steps[k], didYouMean(steps[k], names))
	}
	return nil
}

// FromDocument reads a topology from a parsed document.
func FromDocument(file string, root *Value, opt Options) (*Topology, error) {
	if opt.Variant != nil {
		root = Merge(root, opt.Variant)
	}
	for _, set := range opt.Sets {
		path, value, ok := strings.Cut(set, "=")
		if !ok {
			return nil, fmt.Errorf("-set %q: write it as PATH=VALUE, such as nodes.consignments.lease=90s", set)
		}
		origin := cmp.Or(opt.Origin[path], "-set")
		if err := existingNode(root, origin, path); err != nil {
			return nil, err
		}
		var err error
		if root, err = setFrom(root, origin, path, value); err != nil {
			return nil, err
		}
	}
	d := &decoder{}
	t := d.topology(file, root, opt)
	if len(d.problems) > 0 {
		return nil, d.problems.sorted()
	}
	opt.Variant, opt.Sets, opt.Origin = nil, nil, nil
	t.source, t.options = root, opt
	return t, nil
}

// Patched returns the topology that a JSON Merge Patch over the document makes,
// read with the same options.
func (t *Topology) Patched(patch *Value) (*Topology, error) {
	if t.source == nil {
		return nil, fmt.Errorf("the topology was not read from a document")
	}
	return FromDocument(t.File, Merge(t.source, patch), t.options)
}

func (d *decoder) header(o *object, want string) {
	v := o.get("ironweir")
	switch {
	case v == nil:
		d.problem(o.v.Pos, "", "the file does not say what it is: its first line should be `ironweir: %s`", want)
	case v.Scalar != want:
		message := fmt.Sprintf("this is %q where %q is needed", v.Scalar, want)
		if v.Scalar == topologyHeader || v.Scalar == scenarioHeader {
			message += "; are the topology and the scenario swapped?"
		}
		d.problem(v.Pos, "ironweir", "%s", message)
	}
}

func (d *decoder) topology(file string, root *Value, opt Options) *Topology {
	if root.Shape != Map {
		d.wants(root, "", "a map that starts with `ironweir: "+topologyHeader+"`")
		return nil
	}
	head := d.object(root, "")
	d.header(head, topologyHeader)
	if len(d.problems) > 0 {
		return nil
	}
	t := &Topology{File: file, Environment: opt.Environment, byName: map[string]*Node{}}
	vars := d.variables(root, t, opt.Environment)
	root = expand(root, vars, &d.problems)

	o := d.object(root, "")
	o.get("ironweir")
	o.get("variables")
	o.get("environments")
	t.Name, t.About = o.text("name"), o.text("about")
	if t.Name != "" {
		d.checkName(t.Name, o.pos("name"), "name")
	}
	defaults := d.defaults(o)
	if v := o.get("limits"); v != nil {
		q := d.object(v, "limits")
		t.Limits.Payload = q.size("payload", 0)
		q.done(nil)
	}
	d.pools(t, o)
	t.Explicit = o.oneOf("permissions", "open", "open", "explicit") == "explicit"
	together := d.failsTogether(t, o)
	if parts := o.get("parts"); parts != nil {
		o.each("parts", func(name string, pos Position, v *Value, path string) {
			d.part(t, name, pos, v, path, opt)
		})
	}
	d.accepted(t, o)
	o.each("nodes", func(name string, pos Position, v *Value, path string) {
		if n := d.node(name, pos, v, path, defaults); n != nil {
			t.Nodes = append(t.Nodes, n)
			t.byName[n.Name] = n
		}
	})
	if o.v.Get("nodes") == nil {
		d.problem(o.v.Pos, "", "the topology has no `nodes`")
	}
	d.alarms(t, o)
	d.prices(t, o)
	o.done(nil)
	t.Ranges = d.guesses
	for _, g := range d.guesses {
		t.Guesses = append(t.Guesses, g.Path)
	}
	d.resolve(t, together)
	return t
}

// defaults reads the fields that nodes of a kind have where they state none.
func (d *decoder) defaults(o *object) map[Kind]*Value {
	defaults := map[Kind]*Value{}
	o.each("defaults", func(kind string, pos Position, v *Value, path string) {
		if !Kind(kind).Known() {
			d.problem(pos, path, "unknown kind %q%s", kind, didYouMean(kind, kindNames()))
			return
		}
		if v.Shape != Map {
			d.wants(v, path, "a map of fields")
			return
		}
		defaults[Kind(kind)] = v
	})
	return defaults
}

// pools reads how many runs share each pool.
func (d *decoder) pools(t *Topology, o *object) {
	o.each("pools", func(name string, pos Position, v *Value, path string) {
		d.checkName(name, pos, path)
		n, ok := quantity(d, v, path, "a number", parseNumber)
		if ok && (n < 1 || n != float64(int(n))) {
			d.problem(v.Pos, path, "a pool is a whole number of 1 or more")
		}
		if t.Pools == nil {
			t.Pools = map[string]int{}
		}
		t.Pools[name] = int(n)
	})
}

// failsTogether reads the groups of nodes that one fault meets, and gives where each stands.
func (d *decoder) failsTogether(t *Topology, o *object) map[string]Position {
	together := map[string]Position{}
	o.each("fails-together", func(name string, pos Position, v *Value, path string) {
		d.checkName(name, pos, path)
		if t.FailsTogether == nil {
			t.FailsTogether = map[string][]string{}
		}
		q := d.object(&Value{Shape: Map, Fields: []Field{{Key: name, Value: v}}}, "fails-together")
		if v.Shape == Map {
			q = d.object(v, path)
			t.FailsTogether[name] = q.list("nodes")
			if b := q.breaks("breaks"); b != nil {
				if t.GroupBreaks == nil {
					t.GroupBreaks = map[string]*Breaks{}
				}
				t.GroupBreaks[name] = b
			}
			q.done(nil)
		} else {
			t.FailsTogether[name] = q.list(name)
		}
		together[name] = v.Pos
	})
	return together
}

// part reads another file and takes its nodes in as NAME/node.
func (d *decoder) part(t *Topology, name string, pos Position, v *Value, path string, opt Options) {
	d.checkName(name, pos, path)
	if v.Shape != Text {
		d.wants(v, path, "a file name")
		return
	}
	if opt.Load == nil {
		d.problem(v.Pos, path, "the part %q cannot be read here: this model was given as one text", v.Scalar)
		return
	}
	text, err := opt.Load(v.Scalar)
	if err != nil {
		d.problem(v.Pos, path, "the part cannot be read: %v", err)
		return
	}
	inner := opt
	inner.Variant, inner.Sets, inner.Load = nil, nil, nil
	part, err := Parse(v.Scalar, text, inner)
	if ps, ok := err.(Problems); ok {
		d.problems = append(d.problems, ps...)
		return
	}
	if err != nil {
		d.problem(v.Pos, path, "%v", err)
		return
	}
	under := func(s string) string { return name + "/" + s }
	for _, n := range part.Nodes {
		n.Name = under(n.Name)
		for i := range n.Callers {
			n.Callers[i] = under(n.Callers[i])
		}
		if n.DeadLetter != "" {
			n.DeadLetter = under(n.DeadLetter)
		}
		for _, l := range n.Links {
			l.From, l.To = n.Name, under(l.To)
			if l.DeadLetter != "" {
				l.DeadLetter = under(l.DeadLetter)
			}
		}
		t.Nodes = append(t.Nodes, n)
		t.byName[n.Name] = n
	}
}

func (d *decoder) variables(root *Value, t *Topology, environment string) *Value {
	vars := root.Get("variables")
	if vars != nil && vars.Shape != Map {
		d.wants(vars, "variables", "a map")
		vars = nil
	}
	envs := root.Get("environments")
	if envs != nil && envs.Shape == Map {
		for _, f := range envs.Fields {
			t.Environments = append(t.Environments, f.Key)
			for _, v := range f.Value.Fields {
				if vars.Get(v.Key) == nil {
					d.problem(v.Pos, "environments."+f.Key+"."+v.Key, "`variables` has no %q to replace", v.Key)
				}
			}
		}
	} else if envs != nil {
		d.wants(envs, "environments", "a map of environments")
	}
	if environment == "" {
		return vars
	}
	chosen := envs.Get(environment)
	if chosen == nil {
		d.problem(
			root.Pos,
			"",
			"no environment %q%s; the file has: %s",
			environment,
			didYouMean(environment, t.Environments),
			strings.Join(t.Environments, ", "),
		)
		return vars
	}
	if vars == nil {
		return chosen
	}
	return Merge(vars, chosen)
}

func (d *decoder) accepted(t *Topology, o *object) {
	v := o.get("accepted")
	if v == nil {
		return
	}
	if v.Shape != List {
		d.wants(v, "accepted", "a list")
		return
	}
	for i, item := range v.Items {
		q := d.object(item, fmt.Sprintf("accepted[%d]", i))
		a := Accepted{
			Code:    q.text("code"),
			Node:    q.text("node"),
			Link:    q.text("link"),
			Because: q.text("because"),
			Until:   q.time("until"),
			Pos:     item.Pos,
		}
		if a.Code == "" || a.Because == "" {
			d.problem(item.Pos, q.path, "an accepted finding needs `code` and `because`")
		}
		q.done(nil)
		t.Accepted = append(t.Accepted, a)
	}
}

// Watches are the numbers that an alarm can watch, and whether each is a time.
var Watches = map[string]bool{
	"runs":         false,
	"failures":     false,
	"throttled":    false,
	"timeouts":     false,
	"run-time.p95": true,
	"depth":        false,
	"oldest":       true,
	"parked":       false,
	"lost":         false,
}

func (d *decoder) alarms(t *Topology, o *object) {
	o.each("alarms", func(name string, pos Position, v *Value, path string) {
		d.checkName(name, pos, path)
		q := d.object(v, path)
		a := Alarm{Name: name, Watch: q.text("watch"), Of: q.text("of"), Lasting: q.duration("lasting", 0), Pos: pos}
		isTime, ok := Watches[a.Watch]
		if !ok {
			d.problem(
				q.pos("watch"),
				q.at("watch"),
				"an alarm watches one of %s, not %q%s",
				strings.Join(sortedKeys(Watches), ", "),
				a.Watch,
				didYouMean(a.Watch, sortedKeys(Watches)),
			)
		}
		if above := q.get("above"); above == nil {
			d.problem(pos, path, "an alarm needs `above`, the value over which it goes off")
		} else if isTime {
			a.Above = q.duration("above", 0).Seconds()
		} else if n := q.number("above"); n != nil {
			a.Above = *n
		}
		q.done(nil)
		t.Alarms = append(t.Alarms, a)
	})
}

func (d *decoder) prices(t *Topology, o *object) {
	v := o.get("prices")
	if v == nil {
		return
	}
	q := d.object(v, "prices")
	p := &Prices{Currency: q.text("currency")}
	price := func(key, unit string) float64 {
		f := q.get(key)
		if f == nil {
			return 0
		}
		out, _ := quantity(d, f, q.at(key), "a price", func(s string) (float64, error) {
			number, per, _ := strings.Cut(s, "/")
			n, err := parseNumber(strings.TrimSpace(number))
			if err != nil || n < 0 {
				return 0, fmt.Errorf(
					"%q is not a valid price: use 0.30%s",
					s,
					map[bool]string{true: "/1e6", false: unit}[unit == ""],
				)
			}
			if unit != "" {
				if "/"+per != unit {
					return 0, fmt.Errorf("%q is not a valid price: use 0.00002%s", s, unit)
				}
				return n, nil
			}
			if per != "" {
				of, err := parseNumber(per)
				if err != nil || of <= 0 {
					return 0, fmt.Errorf("%q is not a valid price: use 0.30/1e6", s)
				}
				n /= of
			}
			return n, nil
		})
		return out
	}
	p.Run, p.Message = price("runs", ""), price("messages", "")
	p.Compute, p.Storage = price("compute", "/GB-s"), price("storage", "/GB-month")
	q.done(nil)
	t.Prices = p
}

func (o *object) scheduleProblems(n *Node) {
	if _, err := time.LoadLocation(n.Zone); err != nil || n.Zone == "Local" {
		o.problem(o.pos("zone"), o.at("zone"), "unknown zone %q; use an IANA name such as Europe/London", n.Zone)
		n.Zone = "UTC"
	}
	switch {
	case n.Cron != "" && n.Every != 0:
		o.problem(o.pos("cron"), o.path, "a schedule has `every` or `cron`, not both")
	case n.Cron == "" && n.Every == 0:
		o.problem(o.v.Pos, o.path, "a schedule needs `every` or `cron`")
	case n.Cron != "":
		if _, err := cadence.Parse(n.Cron, n.CronFields, n.Sunday); err != nil {
			o.problem(o.pos("cron"), o.at("cron"), "%v", err)
		}
	}
	if n.Sunday > 1 {
		o.problem(o.pos("sunday"), o.at("sunday"), "Sunday is 0 or 1")
	}
	if n.From != nil && n.Until != nil && !n.From.Before(*n.Until) {
		o.problem(o.pos("until"), o.at("until"), "`until` must come after `from`")
	}
}

func (d *decoder) condition(pos Position, path, source, want string) {
	if source == "" {
		return
	}
	if _, err := expr.Compile(source, want); err != nil {
		d.problem(pos, path, "%v", err)
	}
}
