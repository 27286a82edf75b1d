package guarantees

import (
	"fmt"
	"slices"
)

// Change is one thing that holds better or worse between an entry and a
// destination than in an earlier model.
type Change struct {
	From   string `json:"from"`
	To     string `json:"to"`
	What   string `json:"what"` // survives, no_fault, one_fault, order or at_most_s
	Before string `json:"before"`
	After  string `json:"after"`
}

// Compare returns what was lost and what was won, in the order of the pairs.
// A pair that only one of the models has is neither; an effect that is lost instead of
// repeated is both.
func Compare(before, after []Guarantee) (lost, won []Change) {
	lost, won = []Change{}, []Change{}
	old := map[[2]string]*Guarantee{}
	for i := range before {
		g := &before[i]
		old[[2]string{g.From, g.To}] = g
	}
	for i := range after {
		now := &after[i]
		was := old[[2]string{now.From, now.To}]
		if was == nil {
			continue
		}
		note := func(what, before, after string, worse, better bool) {
			change := Change{now.From, now.To, what, before, after}
			if worse {
				lost = append(lost, change)
			}
			if better {
				won = append(won, change)
			}
		}
		effect := func(what, was, now string) {
			note(what, was, now, was != now && !least(now, was), was != now && !least(was, now))
		}
		effect("no_fault", was.Effects.NoFault, now.Effects.NoFault)
		effect("one_fault", was.Effects.OneFault, now.Effects.OneFault)
		note("survives", fmt.Sprint(was.Survives), fmt.Sprint(now.Survives),
			now.Survives < was.Survives, now.Survives > was.Survives)
		note("order", orderWord(was.Order), orderWord(now.Order),
			was.Order.Kept && !now.Order.Kept, !was.Order.Kept && now.Order.Kept)
		bound := func(d Delay) string {
			if d.AtMost == nil {
				return "no bound"
			}
			return "bounded"
		}
		note("at_most_s", bound(was.Delay), bound(now.Delay),
			was.Delay.AtMost != nil && now.Delay.AtMost == nil, was.Delay.AtMost == nil && now.Delay.AtMost != nil)
	}
	return slices.Clip(lost), slices.Clip(won)
}

func orderWord(o Order) string {
	if o.Kept {
		return "kept"
	}
	return "not kept"
}
