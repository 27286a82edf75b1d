package expr

import (
	"cmp"
	"slices"
	"strings"
)

// KeyShape is a set of keys: those that start with Prefix, end with Suffix and
// have at least Least bytes; with Exact set, the one key Prefix.
type KeyShape struct {
	Prefix, Suffix string
	Least          int
	Exact          bool
	Wide           bool // it stands for several shapes that were widened to it
	// The characters next to Prefix and Suffix: at least one of the class.
	Head, Tail Class
}

// Class is what is known of a character.
type Class uint8

const (
	AnyCharacter Class = iota
	Digit
	DigitOrDash
)

func (c Class) holds(b byte) bool {
	return c == AnyCharacter || b >= '0' && b <= '9' || c == DigitOrDash && b == '-'
}

// AnyKey is the set of all keys.
var AnyKey = KeyShape{}

// ExactKey is the set of one key.
func ExactKey(key string) KeyShape {
	return KeyShape{Prefix: key, Suffix: key, Least: len(key), Exact: true}
}

func (k KeyShape) String() string {
	if k.Exact {
		return k.Prefix
	}
	return k.Prefix + "…" + k.Suffix
}

// Verdict says whether what is known lets a filter take a key.
type Verdict uint8

const (
	Impossible Verdict = iota
	Possible
	Certain
)

func (v Verdict) String() string { return [...]string{"impossible", "possible", "certain"}[v] }

// HasPrefix judges whether keys of the shape start with p.
func (k KeyShape) HasPrefix(p string) Verdict {
	switch {
	case strings.HasPrefix(k.Prefix, p):
		return Certain
	case k.Exact || !strings.HasPrefix(p, k.Prefix) || !k.Head.holds(p[len(k.Prefix)]):
		return Impossible
	}
	return Possible
}

// HasSuffix judges whether keys of the shape end with s.
func (k KeyShape) HasSuffix(s string) Verdict {
	switch {
	case strings.HasSuffix(k.Suffix, s):
		return Certain
	case k.Exact || !strings.HasSuffix(s, k.Suffix) || !k.Tail.holds(s[len(s)-len(k.Suffix)-1]):
		return Impossible
	}
	return Possible
}

// Narrow gives the keys of the shape that start with p and end with s; it is
// called only when neither is impossible.
func (k KeyShape) Narrow(p, s string) KeyShape {
	if len(p) > len(k.Prefix) {
		k.Prefix, k.Head = p, AnyCharacter
	}
	if len(s) > len(k.Suffix) {
		k.Suffix, k.Tail = s, AnyCharacter
	}
	k.Least = max(k.Least, len(k.Prefix), len(k.Suffix))
	return k
}

// Overlaps reports whether some key is in both sets.
func (k KeyShape) Overlaps(o KeyShape) bool {
	return k.HasPrefix(o.Prefix) != Impossible && k.HasSuffix(o.Suffix) != Impossible &&
		(!k.Exact || len(k.Prefix) >= o.Least) && (!o.Exact || len(o.Prefix) >= k.Least)
}

// MaxShapes is how many shapes a set holds before it is widened.
const MaxShapes = 16

// Shapes is a set of shapes, sorted, at most MaxShapes. A shape is kept beside a
// wider one that covers it, so that what comes back round a loop is told apart
// from what outsiders may send; only a shape that was widened absorbs others.
type Shapes []KeyShape

// Add returns the set with k in it, and whether it changed. A set that grows over
// MaxShapes has the two shapes widened to one that lose least by it.
func (s Shapes) Add(k KeyShape) (Shapes, bool) {
	for _, have := range s {
		if have == k || have.Wide && have.covers(k) {
			return s, false
		}
	}
	kept := make(Shapes, 0, len(s)+1)
	for _, have := range s {
		if !(k.Wide && k.covers(have)) {
			kept = append(kept, have)
		}
	}
	kept = append(kept, k)
	for len(kept) > MaxShapes {
		kept = kept.widened()
	}
	slices.SortFunc(kept, KeyShape.Compare)
	return kept, true
}

// Compare orders shapes.
func (k KeyShape) Compare(o KeyShape) int {
	truth := func(b bool) int {
		if b {
			return 1
		}
		return 0
	}
	return cmp.Or(cmp.Compare(k.Prefix, o.Prefix), cmp.Compare(k.Suffix, o.Suffix), cmp.Compare(k.Least, o.Least),
		cmp.Compare(k.Head, o.Head), cmp.Compare(k.Tail, o.Tail),
		truth(k.Exact)-truth(o.Exact), truth(k.Wide)-truth(o.Wide))
}

// Cover returns the member of the set that stands for a shape: the shape itself,
// or the widened one that absorbed it.
func (s Shapes) Cover(k KeyShape) (KeyShape, bool) {
	for _, have := range s {
		if have == k || have.Wide && have.covers(k) {
			return have, true
		}
	}
	return KeyShape{}, false
}

// widened returns the set with the two shapes merged that have most in common, and
// without those that the merged one covers.
func (s Shapes) widened() Shapes {
	slices.SortFunc(s, KeyShape.Compare) // so that the choice depends on the shapes alone
	best, first, second := -1, 0, 1
	for i := range s {
		for j := i + 1; j < len(s); j++ {
			if common := len(commonPrefix(s[i].Prefix, s[j].Prefix)) + len(commonSuffix(s[i].Suffix,
				s[j].Suffix)); common > best {
				best, first, second = common, i, j
			}
		}
	}
	a, b := s[first], s[second]
	merged := KeyShape{
		Prefix: commonPrefix(a.Prefix, b.Prefix),
		Suffix: commonSuffix(a.Suffix, b.Suffix),
		Least:  min(a.Least, b.Least),
		Wide:   true,
	}
	out := Shapes{merged}
	for k, have := range s {
		if k != first && k != second && !merged.covers(have) {
			out = append(out, have)
		}
	}
	return out
}

func (k KeyShape) covers(o KeyShape) bool {
	if k.Exact {
		return o.Exact && o.Prefix == k.Prefix
	}
	return strings.HasPrefix(o.Prefix, k.Prefix) && strings.HasSuffix(o.Suffix, k.Suffix) && o.Least >= k.Least
}

func commonPrefix(a, b string) string {
	i := 0
	for i < len(a) && i < len(b) && a[i] == b[i] {
		i++
	}
	return a[:i]
}

func commonSuffix(a, b string) string {
	i := 0
	for i < len(a) && i < len(b) && a[len(a)-1-i] == b[len(b)-1-i] {
		i++
	}
	return a[len(a)-i:]
}

// Shape gives what is known of the keys that the template makes from keys of
// the shape in hand.
func (t *Template) Shape(from KeyShape) KeyShape {
	if t.Literal {
		return ExactKey(t.Source)
	}
	out := KeyShape{Exact: true}
	open := false // whether something unknown has stood before
	for _, p := range t.parts {
		piece := p.shape(from)
		if !open {
			out.Prefix += piece.Prefix
		}
		if piece.Exact {
			out.Suffix += piece.Suffix
		} else {
			if !open {
				out.Head = piece.Head
			}
			out.Suffix, out.Tail = piece.Suffix, piece.Tail
			open, out.Exact = true, false
		}
		out.Least += piece.Least
	}
	return out
}

// shape gives what is known of one part.
func (p part) shape(from KeyShape) KeyShape {
	if p.name == "" {
		return ExactKey(p.text)
	}
	if from.Exact {
		f := Filling{Subject: from.Prefix}
		switch p.name {
		case "key", "dir", "name", "stem", "ext":
			return ExactKey(string((&Template{parts: []part{p}}).Append(nil, &f)))
		}
	}
	switch p.name {
	case "key":
		return from
	case "dir":
		// All but what follows the last slash: only a slash in the suffix gives
		// where that is.
		if i := strings.LastIndexByte(from.Suffix, '/'); i >= 0 {
			return KeyShape{Prefix: keyDir(from.Prefix), Suffix: from.Suffix[:i]}
		}
		return KeyShape{Prefix: keyDir(from.Prefix)}
	case "name", "stem", "ext":
		// A slash in the suffix gives the whole name; without one the name ends
		// as the key does.
		if i := strings.LastIndexByte(from.Suffix, '/'); i >= 0 {
			stem, ext := stemExt(from.Suffix[i+1:])
			return ExactKey(map[string]string{"name": from.Suffix[i+1:], "stem": stem, "ext": ext}[p.name])
		}
		dot := strings.LastIndexByte(from.Suffix, '.')
		switch {
		case p.name == "name":
			return KeyShape{Suffix: from.Suffix, Tail: from.Tail}
		// no dot is known, or it may be the name's first letter, which parts nothing
		case dot < 0 || dot == 0 && from.Tail == AnyCharacter:
			return KeyShape{}
		case p.name == "stem":
			return KeyShape{Suffix: from.Suffix[:dot], Tail: from.Tail}
		}
		return ExactKey(from.Suffix[dot+1:])
	case "seq", "id":
		return KeyShape{Least: 1, Head: Digit, Tail: Digit}
	case "date":
		return KeyShape{Least: 10, Head: DigitOrDash, Tail: DigitOrDash}
	}
	return KeyShape{}
}
