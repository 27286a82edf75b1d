// Package drafting holds what readers of foreign documents share: names that are not taken yet,
// references within the document, and the list of what the document does not say.
package drafting

import (
	"fmt"
	"regexp"
	"strings"

	"ironweir/core/model"
)

// Draft is a model that is being drafted from a document.
type Draft struct {
	Doc      *model.Value
	Comments map[string]string // what was guessed, by dotted path
	Missing  []string          // what the document does not say
	taken    map[string]bool   // names
}

// New makes the draft of a document.
func New(doc *model.Value) *Draft {
	return &Draft{Doc: doc, Comments: map[string]string{}, taken: map[string]bool{}}
}

// Lacks records something that the document does not say.
func (d *Draft) Lacks(format string, args ...any) {
	d.Missing = append(d.Missing, fmt.Sprintf(format, args...))
}

// maxName is the length of a name, in bytes, that leaves room for a number behind it.
const maxName = 60

// Name makes a name of the model from a text, and takes it. otherwise stands before a text that
// does not begin with a letter.
func (d *Draft) Name(from, otherwise string) string {
	s := Slug(from)
	if s == "" || s[0] >= '0' && s[0] <= '9' {
		s = strings.Trim(otherwise+"-"+s, "-")
	}
	s = strings.TrimRight(s[:min(len(s), maxName)], "-")
	for base, k := s, 2; d.taken[s]; k++ {
		s = fmt.Sprintf("%s-%d", base, k)
	}
	d.taken[s] = true
	return s
}

// Free gives a name back, such as that of the model itself, which a node may bear too.
func (d *Draft) Free(name string) { delete(d.taken, name) }

// maxReferences bounds how many references are followed one after the other.
const maxReferences = 10

// At follows a reference within the document, and gives the value with the last key of its
// path. A nil value: it leads nowhere, which is recorded.
func (d *Draft) At(v *model.Value) (target *model.Value, key string) {
	for range maxReferences {
		r := v.Get("$ref")
		if r == nil {
			return v, key
		}
		path, ours := strings.CutPrefix(r.Scalar, "#/")
		if !ours {
			d.Lacks("%s is in another document and was not read", r.Scalar)
			return nil, ""
		}
		v = d.Doc
		for _, step := range strings.Split(path, "/") {
			key = Unescaped(step)
			if v = v.Get(key); v == nil {
				d.Lacks("%s points to nothing", r.Scalar)
				return nil, ""
			}
		}
	}
	return nil, ""
}

// Scalar gives the scalar at a path; empty: there is none.
func Scalar(v *model.Value, path ...string) string {
	for _, p := range path {
		v = v.Get(p)
	}
	if v == nil {
		return ""
	}
	return v.Scalar
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// Slug writes a text in the letters of names, with hyphens between its words.
func Slug(text string) string {
	return strings.Trim(notName.ReplaceAllString(strings.ToLower(text), "-"), "-")
}

// Unescaped decodes a step of a JSON Pointer (RFC 6901).
func Unescaped(step string) string { return strings.NewReplacer("~1", "/", "~0", "~").Replace(step) }

// Escaped encodes a key as a step of a JSON Pointer.
func Escaped(key string) string { return strings.NewReplacer("~", "~0", "/", "~1").Replace(key) }
