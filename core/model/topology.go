package model

import (
	"time"

	"ironweir/core/expr"
)

// Topology is a model as read: defaults filled in, variables replaced.
type Topology struct {
	Name          string
	About         string
	Environment   string
	Environments  []string
	Limits        Limits
	Pools         map[string]int
	Explicit      bool // permissions: explicit
	FailsTogether map[string][]string
	GroupBreaks   map[string]*Breaks // of the groups that break down as one
	Accepted      []Accepted
	Nodes         []*Node // in the order written
	Alarms        []Alarm
	Prices        *Prices
	Guesses       []string // paths of the numbers that are marked as guesses
	Ranges        []Guess  // the same, with their ranges
	File          string

	byName  map[string]*Node
	source  *Value // the document, variants and settings applied
	options Options
}

// Node gives the node of that name, or nil.
func (t *Topology) Node(name string) *Node { return t.byName[name] }

// NodeNames lists the names in the order written.
func (t *Topology) NodeNames() []string {
	names := make([]string, len(t.Nodes))
	for i, n := range t.Nodes {
		names[i] = n.Name
	}
	return names
}

// Limits are what the platform at hand allows.
type Limits struct {
	Payload int64 // bytes; 0: no limit
}

// Accepted is a finding that somebody decided to live with.
type Accepted struct {
	Code, Node, Link, Because string
	Until                     *time.Time
	Pos                       Position
}

// Alarm watches one number of one node.
type Alarm struct {
	Name    string
	Watch   string
	Of      string
	Above   float64 // seconds, or a count, as Watch has it
	Lasting time.Duration
	Pos     Position
}

// Prices turn counts into money.
type Prices struct {
	Currency string
	Run      float64 // a run
	Compute  float64 // a gigabyte-second
	Message  float64 // a message written or delivered
	Storage  float64 // a gigabyte-month
}

// Node is one node. Which fields count depends on its kind.
type Node struct {
	Name       string
	Kind       Kind
	About      string
	Owner      string
	Tags       map[string]string
	Rate       float64 // per second, what outsiders send in
	Callers    []string
	ObservedAs []string
	Public     bool
	Pos        Position
	KindPos    Position
	written    *Value // the fields as they stand in the text, and defaults

	Fails Failing
	Takes Distribution
	Links []*Link // in the order written

	// What external senders use; empty: any value.
	Keys, Types, Sources []string
	Breaks               *Breaks // nil: it never breaks down by itself

	// bucket
	Notice     Distribution
	ObjectLife time.Duration
	Duplicates float64
	// queue
	Grouped   bool
	Group     string
	Retention time.Duration
	Delay     time.Duration
	Capacity  int
	Lease     time.Duration
	CarryAge  bool
	Dedupe    *Dedupe
	// topic
	Ignore Match
	// stream, table
	Partitions    int // 0: auto
	By            string
	PartitionRate float64
	// schedule
	Every      time.Duration
	Cron       string
	CronFields string
	Sunday     int
	Zone       string
	Jitter     time.Duration
	From       *time.Time
	Until      *time.Time
	Enabled    bool
	Data       *Value
	// endpoint
	Method  string
	Path    string
	Accepts *expr.Schema // nil: any payload
	// endpoint, outside
	RateLimit float64
	// endpoint, function, workflow, outside
	Timeout time.Duration // 0: none
	// function
	Memory      int64
	ColdStart   *ColdStart
	Cases       []Case
	Concurrency int // 0: none
	Pool        string
	HopLimit    int // NoHopLimit: none
	Idempotent  string
	Together    bool
	Hook        string
	Retry       *Retry
	DeadLetter  string
	ResultsAll  bool
	// workflow
	Do []*Task
}

// Link gives the link of that name, or nil.
func (n *Node) Link(name string) *Link {
	for _, l := range n.Links {
		if l.Name == name {
			return l
		}
	}
	return nil
}

// NoHopLimit is the HopLimit of a function that has none; 0 is a limit.
const NoHopLimit = -1

// Guess is a number that is marked as a guess, as written.
type Guess struct {
	Path      string
	Value     string // empty: a whole distribution
	Low, High string // of its range; empty: half to double
}

// Breaks is how a node or group breaks down by itself: the time between two
// breakdowns, counted while it works, and the length of one, in seconds.
type Breaks struct {
	Every, For Distribution
}

// Failing is a share of runs (of writes, on a channel) that fail.
type Failing struct {
	EachTry    float64
	ForGood    float64
	PerMessage bool
	Error      string
}

// Dedupe drops a second message of one key within a window.
type Dedupe struct {
	By     string
	Within time.Duration
}

// ColdStart is what a first run takes longer, or one after Idle unused.
type ColdStart struct {
	Takes Distribution
	Idle  time.Duration
}

// Case replaces a function's time and failures when its condition holds.
type Case struct {
	Name  string
	If    string
	Takes *Distribution
	Fails *Failing
	Pos   Position
}

// When says which result of a run a link carries.
type When string

const (
	OfRun   When = ""
	Success When = "success"
	Failure When = "failure"
)

// Link is one link as written.
type Link struct {
	From, Name, To string
	Pos, ToPos     Position
	Relation       Relation
	written        *Value // the fields as they stand in the text

	Disabled   bool // enabled: false
	Changes    []string
	Match      Match
	Read       Read
	Retry      *Retry
	DeadLetter string
	DLPos      Position
	Mode       string
	Ignore     bool // on-error: ignore
	Wrap       string
	When       When
	AtStart    bool
	PerRun     bool
	Count      Count
	ForEach    string
	Chance     float64
	If         string
	Key        string
	Type       string
	Data       *Value
	Size       int64 // -1: passed on
	Op         string
	ByTask     bool // a workflow's tasks call it
	Sometimes  bool // only on some ways through the tasks
	InCatch    bool // only after an error
	Caught     bool // the tasks around it catch its errors
}

// place gives where a field of the node stands: the node's own place if it states none.
func (n *Node) place(field ...string) Position { return n.written.place(n.Pos, field) }

// Forgiven reports whether the run goes on when what the link calls or writes to
// fails: it ignores errors, or the tasks around it catch them.
func (l *Link) Forgiven() bool { return l.Ignore || l.Caught }

// ID is the link's name in findings and results, FROM:NAME.
func (l *Link) ID() string { return l.From + ":" + l.Name }

// place gives where a field of the link stands: the link's own place if it states none.
func (l *Link) place(field ...string) Position { return l.written.place(l.Pos, field) }

// Read is how a reader takes messages.
type Read struct {
	UpTo     int
	Within   time.Duration
	Parallel int
	Newest   bool
	Failed   string // each all halve
	Reject   bool   // settle: reject
	Prefetch int    // messages taken ahead of the run that will handle them
	Written  bool
	Pos      Position
}

// Retry is as written: absent fields are nil and come from the default of the
// delivery.
type Retry struct {
	Tries   *int
	Wait    *time.Duration
	Factor  *float64
	MaxWait *time.Duration
	Jitter  *float64
	GiveUp  *time.Duration
	Except  []string
	Pos     Position
}

// Match is a filter: any of its clauses; nothing written means everything.
type Match []Clause

// Clause holds when all its fields hold, each of which is any-of.
type Clause struct {
	Prefix, Suffix, Type, Source []string
	If                           string
	Pos                          Position
}

// Count is how many messages a send makes.
type Count struct {
	Dist Distribution
	Expr string // CEL when not empty
}
