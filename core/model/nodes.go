package model

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"ironweir/core/expr"
)

// Defaults of fields that a node does not state.
const (
	DefaultTimeout   = 45 * time.Second
	DefaultAnswer    = 30 * time.Second // an endpoint's timeout
	DefaultLease     = 60 * time.Second
	DefaultRetention = 7 * 24 * time.Hour
	DefaultFeed      = 48 * time.Hour // retention of a stream or change feed
)

// node decodes one node; defaults are those written under `defaults` for its
// kind.
func (d *decoder) node(name string, pos Position, v *Value, path string, defaults map[Kind]*Value) *Node {
	d.checkName(strings.TrimPrefix(name[strings.LastIndexByte(name, '/')+1:], "/"), pos, path)
	n := &Node{Name: name, Pos: pos}
	if v.Shape != Map {
		d.problem(pos, path, "a node needs at least `kind`, as in `%s: {kind: queue}`", name)
		return nil
	}
	kind := v.Get("kind")
	if kind == nil {
		d.problem(pos, path, "the node has no `kind`; it is one of %s", kindList())
		return nil
	}
	n.KindPos = kind.Pos
	n.Kind = Kind(kind.Scalar)
	if !n.Kind.Known() {
		d.problem(
			kind.Pos,
			path+".kind",
			"unknown kind %q%s; a kind is one of %s",
			kind.Scalar,
			didYouMean(kind.Scalar, kindNames()),
			kindList(),
		)
		return nil
	}
	if base := defaults[n.Kind]; base != nil {
		v = Merge(base, v)
	}
	o := d.object(v, path)
	o.get("kind")
	n.written = v
	n.About, n.Owner, n.Tags = o.text("about"), o.text("owner"), o.texts("tags")
	n.Rate = o.rate("rate")
	n.Callers, n.ObservedAs = o.list("callers"), o.list("observed-as")
	n.Public = o.truth("public", false)
	n.Keys, n.Types, n.Sources = o.list("keys"), o.list("types"), o.list("sources")
	n.Breaks = o.breaks("breaks")
	n.Takes = o.distribution("takes", Constant(0), false)
	n.Fails = o.failing("fails", n.Kind == Function || n.Kind == Outside)
	n.HopLimit = NoHopLimit
	n.Kind.traits().read(o, n)
	o.each("links", func(link string, pos Position, v *Value, path string) {
		if l := d.link(n, link, pos, v, path); l != nil {
			n.Links = append(n.Links, l)
		}
	})
	o.done(func(key string) string {
		var owners []string
		for k := range kinds {
			if slices.Contains(kinds[k].fields, key) {
				owners = append(owners, string(kinds[k].kind))
			}
		}
		if owners == nil {
			return ""
		}
		return fmt.Sprintf("%s has no `%s`; that is a field of %s", n.Kind.Noun(), key, strings.Join(owners, ", "))
	})
	return n
}

func kindNames() []string {
	names := make([]string, len(Kinds))
	for i, k := range Kinds {
		names[i] = string(k)
	}
	return names
}

func kindList() string { return strings.Join(kindNames(), ", ") }

// bucketFields reads the fields of a bucket.
func (o *object) bucketFields(n *Node) {
	n.Notice = o.distribution("notice", Constant(0), false)
	n.ObjectLife = o.duration("object-life", 0)
	n.Duplicates = o.share("duplicates", 0)
}

// topicFields reads the fields of a topic.
func (o *object) topicFields(n *Node) {
	n.Duplicates = o.share("duplicates", 0)
	n.Ignore = o.match("ignore")
}

// streamFields reads the fields of a stream or table.
func (o *object) streamFields(n *Node) {
	n.Partitions = 1
	if v := o.get("partitions"); v != nil {
		if v.Scalar == "auto" && n.Kind == Stream {
			n.Partitions = 0
		} else {
			n.Partitions = o.whole("partitions", 1, 1)
		}
	}
	n.Retention = o.positive("retention", DefaultFeed)
	if n.Kind == Stream {
		n.By = o.text("by")
		n.PartitionRate = o.rate("partition-rate")
	}
}

// endpointFields reads the fields of an endpoint.
func (o *object) endpointFields(n *Node) {
	n.Method, n.Path = strings.ToUpper(o.text("method")), o.text("path")
	n.Accepts = o.schema("accepts")
	n.Timeout = o.positive("timeout", DefaultAnswer)
	n.RateLimit = o.rate("rate-limit")
}

// workflowFields reads the fields of a workflow.
func (o *object) workflowFields(n *Node) {
	n.Do = o.tasks("do")
	n.Timeout = o.duration("timeout", 0)
	n.Retry = o.retry("retry")
	n.DeadLetter = o.text("dead-letter")
	n.Concurrency = o.whole("concurrency", 0, 1)
	n.ResultsAll = o.oneOf("results", "async", "async", "all") == "all"
}

// outsideFields reads the fields of an outside system.
func (o *object) outsideFields(n *Node) {
	n.RateLimit = o.rate("rate-limit")
	n.Timeout = o.duration("timeout", 0)
}

// queueFields reads the fields of a queue.
func (o *object) queueFields(n *Node) {
	n.Grouped = o.oneOf("order", "any", "any", "grouped") == "grouped"
	n.Group = o.text("group")
	n.Retention = o.positive("retention", DefaultRetention)
	n.Delay = o.duration("delay", 0)
	n.Capacity = o.whole("capacity", 0, 1)
	n.Lease = o.positive("lease", DefaultLease)
	n.CarryAge = o.oneOf("age", "fresh", "fresh", "carried") == "carried"
	n.Duplicates = o.share("duplicates", 0)
	if v := o.get("dedupe"); v != nil {
		q := o.object(v, o.at("dedupe"))
		n.Dedupe = &Dedupe{By: q.text("by"), Within: q.duration("within", 5*time.Minute)}
		q.done(nil)
	}
	if n.Grouped && n.Group == "" {
		o.problem(
			o.pos("order"),
			o.at("order"),
			"order: grouped needs `group`, an expression that gives the group, as in `group: event.subject`",
		)
	}
	if n.Group != "" && !n.Grouped {
		o.problem(o.pos("group"), o.at("group"), "`group` has no effect without `order: grouped`")
	}
}

// scheduleFields reads the fields of a schedule.
func (o *object) scheduleFields(n *Node) {
	n.Every = o.positive("every", 0)
	n.Cron = o.text("cron")
	n.CronFields = o.oneOf("cron-fields", "standard", "standard", "with-seconds", "with-year", "with-both")
	n.Sunday = o.whole("sunday", 0, 0)
	n.Zone = o.text("zone")
	n.Jitter = o.duration("jitter", 0)
	n.From, n.Until = o.time("from"), o.time("until")
	n.Enabled = o.truth("enabled", true)
	n.Data = o.get("data")
	if n.Zone == "" {
		n.Zone = "UTC"
	}
	o.scheduleProblems(n)
}

// functionFields reads the fields of a function.
func (o *object) functionFields(n *Node) {
	n.Memory = o.size("memory", 0)
	n.Timeout = o.positive("timeout", DefaultTimeout)
	if v := o.get("cold-start"); v != nil {
		c := o.object(v, o.at("cold-start"))
		n.ColdStart = &ColdStart{
			Takes: c.distribution("takes", Constant(0), false),
			Idle:  c.duration("idle", 10*time.Minute),
		}
		c.done(nil)
	}
	o.each("cases", func(name string, pos Position, v *Value, path string) {
		o.checkName(name, pos, path)
		q := o.object(v, path)
		c := Case{Name: name, If: q.text("if"), Pos: pos}
		if c.If == "" {
			o.problem(pos, path, "a case needs `if`, the condition under which it holds")
		}
		if q.v.Get("takes") != nil {
			t := q.distribution("takes", Constant(0), false)
			c.Takes = &t
		} else {
			q.get("takes")
		}
		if q.v.Get("fails") != nil {
			f := q.failing("fails", true)
			c.Fails = &f
		} else {
			q.get("fails")
		}
		q.done(nil)
		n.Cases = append(n.Cases, c)
	})
	n.Accepts = o.schema("accepts")
	n.Concurrency = o.whole("concurrency", 0, 1)
	n.Pool = o.text("pool")
	n.HopLimit = o.whole("hop-limit", NoHopLimit, 0)
	n.Idempotent = o.text("idempotent")
	n.Together = o.oneOf("sends", "one-by-one", "one-by-one", "together") == "together"
	n.Hook = o.text("hook")
	n.Retry = o.retry("retry")
	n.DeadLetter = o.text("dead-letter")
	n.ResultsAll = o.oneOf("results", "async", "async", "all") == "all"
}

func (o *object) schema(key string) *expr.Schema {
	v := o.get(key)
	if v == nil {
		return nil
	}
	if v.Shape != Map {
		o.wants(v, o.at(key), "a JSON Schema, a map")
		return nil
	}
	s, err := expr.CompileSchema(v.Plain())
	if err != nil {
		o.problem(v.Pos, o.at(key), "%s", err)
		return nil
	}
	return s
}

// failing reads a share of runs, or the map form where full is set.
func (o *object) failing(key string, full bool) Failing {
	v := o.get(key)
	if v == nil {
		return Failing{}
	}
	if v.Shape != Map || v.Get("guess") != nil || v.Get("measured") != nil {
		return Failing{EachTry: o.share(key, 0)}
	}
	if !full {
		o.wants(v, o.at(key), "a share")
		return Failing{}
	}
	q := o.object(v, o.at(key))
	f := Failing{EachTry: q.share("each-try", 0), ForGood: q.share("for-good", 0), Error: q.text("error"),
		PerMessage: q.oneOf("per", "run", "run", "message") == "message"}
	q.done(nil)
	return f
}

// breaks reads how a node breaks down by itself; a bare duration is the mean of
// an exponential distribution. It returns nil where nothing is written.
func (o *object) breaks(key string) *Breaks {
	v := o.get(key)
	if v == nil {
		return nil
	}
	q := o.object(v, o.at(key))
	b := &Breaks{Every: q.exponential("every"), For: q.exponential("for")}
	if v.Shape == Map && (v.Get("every") == nil || v.Get("for") == nil) {
		o.problem(v.Pos, o.at(key), "`breaks` needs `every` and `for`, as in `breaks: {every: 60d, for: 25m}`")
	}
	q.done(nil)
	return b
}

// exponential reads a distribution whose bare duration is a mean.
func (o *object) exponential(key string) Distribution {
	d := o.distribution(key, Constant(0), false)
	if v := o.v.Get(key); v != nil && d.Dist == "constant" && (v.Shape != Map || v.Get("dist") == nil) {
		d.Dist = "exponential"
	}
	if o.v.Get(key) != nil && d.Expected() <= 0 {
		o.problem(o.pos(key), o.at(key), "this must be more than 0s")
	}
	return d
}

func (o *object) retry(key string) *Retry {
	v := o.get(key)
	if v == nil {
		return nil
	}
	q := o.object(v, o.at(key))
	r := &Retry{Pos: v.Pos, Wait: q.durationOrNil("wait"), MaxWait: q.durationOrNil("max-wait"),
		GiveUp: q.durationOrNil("give-up"), Factor: q.number("factor"), Except: q.list("except")}
	if q.v.Get("tries") != nil {
		if n := q.whole("tries", 0, 1); n > 0 {
			r.Tries = &n
		}
	}
	if q.v.Get("jitter") != nil {
		j := q.share("jitter", 0)
		r.Jitter = &j
	}
	if r.Factor != nil && (*r.Factor < 1 || *r.Factor > 1000) {
		o.problem(q.pos("factor"), q.at("factor"), "%v must lie between 1 and 1000", *r.Factor)
		r.Factor = nil
	}
	q.asked = append(q.asked, "tries", "jitter")
	q.done(nil)
	return r
}

func (o *object) match(key string) Match {
	v := o.get(key)
	if v == nil {
		return nil
	}
	clauses := []*Value{v}
	if v.Shape == List {
		clauses = v.Items
	}
	var m Match
	for i, c := range clauses {
		path := o.at(key)
		if v.Shape == List {
			path = fmt.Sprintf("%s[%d]", path, i)
		}
		if c.Shape != Map {
			o.wants(c, path, "a map with prefix, suffix, type, source or if")
			continue
		}
		q := o.object(c, path)
		m = append(
			m,
			Clause{
				Prefix: q.list("prefix"),
				Suffix: q.list("suffix"),
				Type:   q.list("type"),
				Source: q.list("source"),
				If:     q.text("if"),
				Pos:    c.Pos,
			},
		)
		q.done(nil)
	}
	return m
}

// link decodes one link; what it joins is checked once all nodes are known.
func (d *decoder) link(from *Node, name string, pos Position, v *Value, path string) *Link {
	d.checkName(name[strings.LastIndexByte(name, '/')+1:], pos, path)
	o := d.object(v, path)
	l := &Link{From: from.Name, Name: name, To: o.text("to"), Pos: pos, ToPos: o.pos("to"), written: v}
	if l.To == "" {
		l.To, l.ToPos = name, pos
	}
	l.Disabled = !o.truth("enabled", true)
	l.Changes = o.list("changes")
	l.Match = o.match("match")
	l.Read = Read{UpTo: 1, Parallel: 1, Failed: "each", Pos: o.pos("read")}
	if from.Kind == Stream || from.Kind == Table {
		l.Read.Failed = "all"
	}
	if r := o.get("read"); r != nil {
		q := o.object(r, o.at("read"))
		l.Read.Written = true
		l.Read.UpTo, l.Read.Parallel = q.whole("up-to", 1, 1), q.whole("parallel", 1, 1)
		l.Read.Within = q.duration("within", 0)
		l.Read.Newest = q.oneOf("from", "oldest", "oldest", "newest") == "newest"
		l.Read.Failed = q.oneOf("failed", l.Read.Failed, "each", "all", "halve")
		l.Read.Reject = q.oneOf("settle", "lease", "lease", "reject") == "reject"
		l.Read.Prefetch = q.whole("prefetch", 0, 0)
		for _, field := range []string{"settle", "prefetch"} {
			if q.v.Get(field) != nil && from.Kind != Queue {
				d.problem(
					q.pos(field),
					q.at(field),
					"only the readers of a queue have `%s`; %s hands out its records by partition",
					field,
					from.Kind.Noun(),
				)
			}
		}
		if l.Read.Failed == "halve" && from.Kind == Queue {
			d.problem(q.pos("failed"), q.at("failed"), "a queue's batch is not halved; that is for streams and tables")
		}
		q.done(nil)
	}
	l.Retry = o.retry("retry")
	l.DeadLetter, l.DLPos = o.text("dead-letter"), o.pos("dead-letter")
	l.Mode = o.oneOf("mode", "", "wait", "async", "accept")
	l.Ignore = o.oneOf("on-error", "fail", "fail", "ignore") == "ignore"
	l.Wrap = o.oneOf("wrap", "none", "none", "event", "base64")
	l.When = When(o.oneOf("when", "", "success", "failure"))
	l.AtStart = o.oneOf("at", "end", "end", "start") == "start"
	l.PerRun = o.oneOf("per", "message", "message", "run") == "run"
	l.Count = o.count("count")
	l.ForEach, l.Chance, l.If = o.text("for-each"), o.share("chance", 1), o.text("if")
	l.Key, l.Type, l.Data, l.Size = o.text("key"), o.text("type"), o.get("data"), o.size("size", -1)
	l.Op = o.oneOf("op", "", "write", "delete", "read", "insert", "update")
	o.done(nil)
	return l
}

// count reads a number, a distribution, or CEL.
func (o *object) count(key string) Count {
	v := o.get(key)
	if v == nil {
		return Count{Dist: Constant(1)}
	}
	if v.Shape == Text {
		return Count{Expr: v.Scalar, Dist: Constant(1)}
	}
	out, ok := o.decoder.distribution(v, o.at(key), true)
	if !ok {
		out = Constant(1)
	}
	return Count{Dist: out}
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
