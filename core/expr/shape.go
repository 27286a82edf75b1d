package expr

import (
	"sort"
	"strings"
)

// KeyShape is a set of keys: those that start with Prefix, end with Suffix and
// have at least Least bytes; with Exact set, the one key Prefix.
type KeyShape struct {
	Prefix, Suffix string
	Least          int
	Exact          bool
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

// Verdict tells whether what is known lets a filter take a key.
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
	case k.Exact || !strings.HasPrefix(p, k.Prefix):
		return Impossible
	}
	return Possible
}

// HasSuffix judges whether keys of the shape end with s.
func (k KeyShape) HasSuffix(s string) Verdict {
	switch {
	case strings.HasSuffix(k.Suffix, s):
		return Certain
	case k.Exact || !strings.HasSuffix(s, k.Suffix):
		return Impossible
	}
	return Possible
}

// Narrow gives the keys of the shape that start with p and end with s; it is
// called only when neither is impossible.
func (k KeyShape) Narrow(p, s string) KeyShape {
	if len(p) > len(k.Prefix) {
		k.Prefix = p
	}
	if len(s) > len(k.Suffix) {
		k.Suffix = s
	}
	k.Least = max(k.Least, len(k.Prefix), len(k.Suffix))
	return k
}

// MaxShapes is how many shapes a set holds before it is widened to one.
const MaxShapes = 16

// Shapes is a set of shapes, sorted, at most MaxShapes.
type Shapes []KeyShape

// Add gives the set with k in it, widened when it grows too large, and whether
// it changed.
func (s Shapes) Add(k KeyShape) (Shapes, bool) {
	for _, have := range s {
		if have == k || have.covers(k) {
			return s, false
		}
	}
	kept := make(Shapes, 0, len(s)+1)
	for _, have := range s {
		if !k.covers(have) {
			kept = append(kept, have)
		}
	}
	kept = append(kept, k)
	if len(kept) > MaxShapes {
		kept = Shapes{kept.widest()}
	}
	sort.Slice(kept, func(i, j int) bool {
		a, b := kept[i], kept[j]
		if a.Prefix != b.Prefix {
			return a.Prefix < b.Prefix
		}
		return a.Suffix < b.Suffix
	})
	return kept, true
}

func (k KeyShape) covers(o KeyShape) bool {
	if k.Exact {
		return o.Exact && o.Prefix == k.Prefix
	}
	return strings.HasPrefix(o.Prefix, k.Prefix) && strings.HasSuffix(o.Suffix, k.Suffix) && o.Least >= k.Least
}

func (s Shapes) widest() KeyShape {
	w := s[0]
	for _, k := range s[1:] {
		w.Prefix = commonPrefix(w.Prefix, k.Prefix)
		w.Suffix = commonSuffix(w.Suffix, k.Suffix)
		w.Least = min(w.Least, k.Least)
		w.Exact = false
	}
	return w
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
			out.Suffix = piece.Suffix
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
		// All but what follows the last slash: only a slash in the suffix tells
		// where that is.
		if i := strings.LastIndexByte(from.Suffix, '/'); i >= 0 {
			return KeyShape{Prefix: keyDir(from.Prefix), Suffix: from.Suffix[:i]}
		}
		return KeyShape{Prefix: keyDir(from.Prefix)}
	case "name", "stem", "ext":
		// A slash in the suffix tells the whole name; without one the name ends
		// as the key does.
		if i := strings.LastIndexByte(from.Suffix, '/'); i >= 0 {
			stem, ext := stemExt(from.Suffix[i+1:])
			return ExactKey(map[string]string{"name": from.Suffix[i+1:], "stem": stem, "ext": ext}[p.name])
		}
		dot := strings.LastIndexByte(from.Suffix, '.')
		switch {
		case p.name == "name":
			return KeyShape{Suffix: from.Suffix}
		case dot <= 0: // no dot is known, or it may be the name's first letter, which parts nothing
			return KeyShape{}
		case p.name == "stem":
			return KeyShape{Suffix: from.Suffix[:dot]}
		}
		return ExactKey(from.Suffix[dot+1:])
	case "seq", "id":
		return KeyShape{Least: 1}
	case "date":
		return KeyShape{Least: 10}
	}
	return KeyShape{}
}
