package model

import (
	"errors"
	"fmt"
	"slices"
)

// Relation is what a link does with a message, which follows from the kinds
// that it joins and its mode.
type Relation uint8

const (
	NoRelation  Relation = iota
	Intake               // handed to a function or workflow, which holds it (asynchronous)
	Write                // written to a channel by a delivering link
	Push                 // pushed to an outside system
	PolledRun            // a reader hands a batch to a function or workflow and waits
	PolledMove           // a reader moves messages to a channel
	PolledPush           // a reader hands messages to an outside system and waits
	WaitingCall          // a run (or an endpoint) calls and waits
	RunWrite             // a run writes to a channel
	RunIntake            // a run starts a function or workflow and goes on
	RunPush              // a run pushes to an outside system and goes on
)

func (r Relation) String() string {
	return [...]string{"nothing", "intake", "write", "push", "polled run", "polled move", "polled push",
		"waiting call", "write of a run", "asynchronous call", "push of a run"}[r]
}

// Delivering reports whether the link belongs to its source channel (or to a
// result), and not to a run: it has tries of its own and a dead-letter.
func (r Relation) Delivering() bool {
	return r == Intake || r == Write || r == Push || r.Polls()
}

// Polls reports whether a reader takes the messages.
func (r Relation) Polls() bool { return r == PolledRun || r == PolledMove || r == PolledPush }

// OfRun reports whether a run makes the message or call.
func (r Relation) OfRun() bool {
	return r == WaitingCall || r == RunWrite || r == RunIntake || r == RunPush
}

// Asynchronous reports whether nobody waits for what the target does.
func (r Relation) Asynchronous() bool {
	return r == Intake || r == RunIntake || r == Push || r == RunPush
}

// relate gives the relation of a link, or an error that says why the two kinds
// cannot be joined so.
func relate(from, to Kind, mode string, when When) (Relation, error) {
	if why := to.traits().refuses; why != "" {
		return 0, errors.New(why)
	}
	modes := func(allowed ...string) error { return modeFits(mode, from, to, allowed) }
	runs := to == Function || to == Workflow
	switch {
	case from.traits().delivers || when != OfRun:
		if err := modes(""); err != nil {
			return 0, err
		}
		switch {
		case runs:
			return Intake, nil
		case to == Outside:
			return Push, nil
		}
		return Write, nil
	case from.Polled():
		if err := modes(""); err != nil {
			return 0, err
		}
		switch {
		case runs:
			return PolledRun, nil
		case to == Outside:
			return PolledPush, nil
		}
		return PolledMove, nil
	case from == Endpoint:
		if runs || to == Outside {
			if err := modes("", "wait", "accept"); err != nil {
				return 0, err
			}
			if mode != "accept" {
				return WaitingCall, nil
			}
			if runs {
				return Intake, nil
			}
			return Push, nil
		}
		return Write, modes("", "accept")
	}
	switch {
	case runs:
		if err := modes("", "async", "wait"); err != nil {
			return 0, err
		}
		if mode == "wait" {
			return WaitingCall, nil
		}
		return RunIntake, nil
	case to == Outside:
		if err := modes("", "wait", "async"); err != nil {
			return 0, err
		}
		if mode == "async" {
			return RunPush, nil
		}
		return WaitingCall, nil
	}
	return RunWrite, modes("")
}

// modeFits reports a mode that a link between two kinds does not have. Allowed starts with
// the one that need not be written.
func modeFits(mode string, from, to Kind, allowed []string) error {
	if slices.Contains(allowed, mode) {
		return nil
	}
	if len(allowed) == 1 {
		return fmt.Errorf("a link from %s to %s has no `mode`", from.Noun(), to.Noun())
	}
	return fmt.Errorf(
		"mode %q does not fit a link from %s to %s: it is %s",
		mode,
		from.Noun(),
		to.Noun(),
		orList(allowed[1:]),
	)
}

func orList(words []string) string {
	s := ""
	for i, w := range words {
		switch {
		case i == 0:
		case i == len(words)-1:
			s += " or "
		default:
			s += ", "
		}
		s += w
	}
	return s
}
