package flow

import (
	"math/bits"
	"slices"
)

// faultSet is a set of faults that are nodes or groups, a bit each: the words of it that
// are not empty, in order. Most sets hold a few of many faults. A set is never changed in
// place, so that it may be shared; what adds to one makes another.
type faultSet []faultWord

type faultWord struct {
	at   int32 // faults 64·at to 64·at+63
	bits uint64
}

// find returns where the word for a position is, or would be.
func (f faultSet) find(at int32) (int, bool) {
	return slices.BinarySearchFunc(f, at, func(w faultWord, at int32) int { return int(w.at - at) })
}

func (f faultSet) has(i int) bool {
	k, ok := f.find(int32(i / 64))
	return ok && f[k].bits>>(i%64)&1 == 1
}

// add adds a fault.
func (f *faultSet) add(i int) { f.merge(faultSet{{int32(i / 64), 1 << (i % 64)}}) }

// merge adds another set and reports whether that changed anything.
func (f *faultSet) merge(o faultSet) bool {
	if o.within(*f) {
		return false
	}
	if len(*f) == 0 {
		*f = o
		return true
	}
	out := make(faultSet, 0, len(*f)+len(o))
	rest := *f
	for _, w := range o {
		for len(rest) > 0 && rest[0].at < w.at {
			out, rest = append(out, rest[0]), rest[1:]
		}
		if len(rest) > 0 && rest[0].at == w.at {
			w.bits |= rest[0].bits
			rest = rest[1:]
		}
		out = append(out, w)
	}
	*f = append(out, rest...)
	return true
}

// within reports whether another set holds all that this one does.
func (f faultSet) within(o faultSet) bool {
	for _, w := range f {
		for len(o) > 0 && o[0].at < w.at {
			o = o[1:]
		}
		if len(o) == 0 || o[0].at != w.at || w.bits&^o[0].bits != 0 {
			return false
		}
	}
	return true
}

func (f faultSet) empty() bool { return len(f) == 0 }

// meets reports whether two sets have a fault in common.
func (f faultSet) meets(o faultSet) bool {
	for len(f) > 0 && len(o) > 0 {
		switch {
		case f[0].at < o[0].at:
			f = f[1:]
		case f[0].at > o[0].at:
			o = o[1:]
		case f[0].bits&o[0].bits != 0:
			return true
		default:
			f, o = f[1:], o[1:]
		}
	}
	return false
}

// both returns what is in both sets, and only what is in the first.
func (f faultSet) both(o faultSet) (common, rest faultSet) {
	if !f.meets(o) {
		return nil, f
	}
	for _, w := range f {
		for len(o) > 0 && o[0].at < w.at {
			o = o[1:]
		}
		var also uint64
		if len(o) > 0 && o[0].at == w.at {
			also = o[0].bits
		}
		if in := w.bits & also; in != 0 {
			common = append(common, faultWord{w.at, in})
		}
		if not := w.bits &^ also; not != 0 {
			rest = append(rest, faultWord{w.at, not})
		}
	}
	return common, rest
}

// list returns the members in order.
func (f faultSet) list() []int {
	var out []int
	for _, w := range f {
		for b := w.bits; b != 0; b &= b - 1 {
			out = append(out, int(w.at)*64+bits.TrailingZeros64(b))
		}
	}
	return out
}

// faultMarks marks faults, a bit each.
type faultMarks []uint64

func (m faultMarks) has(i int) bool { return m[i/64]>>(i%64)&1 == 1 }

func (m faultMarks) mark(i int) { m[i/64] |= 1 << (i % 64) }

// less returns what of a set is not marked.
func (m faultMarks) less(f faultSet) faultSet {
	var out faultSet
	for _, w := range f {
		if not := w.bits &^ m[w.at]; not != 0 {
			out = append(out, faultWord{w.at, not})
		}
	}
	return out
}
