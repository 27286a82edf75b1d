package engine

import "ironweir/core/graph"

// Parts do what only some models need, and what only looks on. Each is a package of its own, which knows the engine;
// what the engine knows of it stands here.
type Parts struct {
	Traffic   Traffic
	Incidents Incidents
	Workflows Workflows
	Series    Series
}

// Traffic brings messages from outside and lets schedules fire.
type Traffic interface {
	SetUp() error // all sources, once the nodes are set up
	SetUpSchedule(n *Node) error
	Arrive(source uint32)      // its next message comes
	ArriveAgain(source uint32) // that of a replay
	Fire(n *Node)              // an instant of a schedule's calendar
}

// Incidents change what nodes and links do for a while.
type Incidents interface {
	SetUp() error
	Turn(incident int)      // one starts or ends
	SendBack(incident int)  // the next message of one that sends back
	Squeezes(node int) bool // whether one changes the concurrency of a node
}

// Workflows take runs of workflows through their tasks.
type Workflows interface {
	Start(run uint32)                                      // with the message in hand, or the next
	Waits(thread uint32, timer uint64) bool                // for this timer
	Resume(thread uint32)                                  // what it waited for is over
	Answer(thread, turn uint32, failure int16, final bool) // to the call of a task
	Drop(run uint32)                                       // all threads of a run
}

// Series take numbers over time.
type Series interface {
	SetUp()
	Sample() // a step of the series ends now
}

// Tracer records what happens to the journeys that it is asked for. It only looks.
type Tracer interface {
	Comes(copy uint32, m Message)                   // to a node
	Offered(copy uint32, l *graph.Link, why string) // why is empty where the link takes it
	OfferedResult(journey uint32, n *Node, l *graph.Link, why string)
	Dead(copy uint32, to int32) // it goes on as a dead letter
	ColdStart(time int64)       // of the run that begins now
	Begins(run uint32)
	Ends(run uint32, failure int16)
	Sends(run, journey uint32, l *graph.Link)
	Skips(journey uint32, l *graph.Link, why string, err error)
	Calls(run uint32, m Message, l *graph.Link, try int, away int16) // why the callee turns it away, or NoError
	Waits(copy uint32, wait int64, cause Fate, tries int)            // for its next try, of so many; 0: any number
	Answers(copy uint32, failure, status int16)
	Fate(copy uint32, f Fate)
	Task(run uint32, data any, what, why string) // a step of a workflow, with its payload then
}

// Sampler learns how journeys end.
type Sampler interface {
	JourneyFails(j *Journey) // a copy has been lost, parked or returned
	JourneyEnds(j *Journey)  // or goes on at the end of the run
}

// Observer answers for runs of a live replication.
type Observer interface {
	Asks(run uint32) bool                                          // it will be answered: the run waits
	Returns(run uint32, r *Run, s *Send) (events []any, says bool) // what the answer has it send by a link
	Answered(c *Copy, status int16)                                // a request
	Drops(run uint32)                                              // it is over
}
