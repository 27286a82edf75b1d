package flow

import (
	"ironweir/core/check/internal/dist"
	"ironweir/core/graph"
)

// ages is how the tries of a message end where runs do not all last as long: each is a
// share of the messages that are tried at all, except runs.
type ages struct {
	runs float64 // that are started per message
	aged float64 // given up for its age, between two tries
	last float64 // failed at its last try
}

// triesByAge follows the runs of a message that an intake tries until it is too old,
// each of which fails, and may be tried again, with a chance. The runs that fail have a
// law of some mass.
func (a *Analysis) triesByAge(p *graph.Policy, failing dist.Law, again float64) ages {
	out, left := ages{}, 1.0
	failing = failing.Times(1 / failing.Mass)
	age := dist.Constant(0) // at the start of a try; its mass is the share that is not too old
	for k := 1; left*age.Mass > 1e-12 && k <= 2*mostAged; k++ {
		out.runs += left * age.Mass
		left *= again
		if k == p.Tries {
			out.last = left * age.Mass
			break
		}
		wait := dist.Constant(float64(p.Backoff(k)) * 1e-9)
		next := a.memo.sums.Plus(age, failing).Plus(wait).Within(float64(p.GiveUp) * 1e-9)
		out.aged += left * (age.Mass - next.Mass)
		age = next
	}
	return out
}

// mostAged is the number of tries beyond which that of the mean run is near enough.
const mostAged = 100

// agesMatter reports whether the time that runs take decides how often an intake tries a
// message.
func (a *Analysis) agesMatter(at State, p *graph.Policy, failing dist.Law) bool {
	if at.How != AsIntake || p.GiveUp == 0 || len(failing.Atoms) < 2 || failing.Mass < Negligible {
		return false
	}
	shortest, _ := a.triesInTime(at, p, failing.Atoms[0].At, nil)
	longest, _ := a.triesInTime(at, p, failing.Atoms[len(failing.Atoms)-1].At, nil)
	return shortest != longest && longest <= mostAged
}
