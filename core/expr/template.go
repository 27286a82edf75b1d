package expr

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Template is a key template (RFC 6570 level 1): literal text and variables.
type Template struct {
	Source    string
	ReadsData bool
	Literal   bool // no variables at all
	parts     []part
}

type part struct {
	text string
	name string // of the variable; empty for text
}

// Names that a template may use on what an event carries; any other name is
// free: outsiders fill it in.
var carried = map[string]bool{
	"key":  true,
	"dir":  true,
	"name": true,
	"stem": true,
	"ext":  true,
	"seq":  true,
	"date": true,
	"id":   true,
}

var variableName = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.-]*$`)

// ParseTemplate reads a template. With free set, names outside the known ones
// may stand in it: outsiders fill them in.
func ParseTemplate(source string, free bool) (*Template, error) {
	t := &Template{Source: source, Literal: true}
	rest := source
	for rest != "" {
		open := strings.IndexAny(rest, "{}")
		if open < 0 {
			t.parts = append(t.parts, part{text: rest})
			break
		}
		if rest[open] == '}' {
			return nil, fmt.Errorf("the template %q closes a brace that it did not open", source)
		}
		if open > 0 {
			t.parts = append(t.parts, part{text: rest[:open]})
		}
		end := strings.IndexByte(rest, '}')
		if end < open {
			return nil, fmt.Errorf("the template %q opens a brace and does not close it", source)
		}
		name := rest[open+1 : end]
		if !variableName.MatchString(name) {
			return nil, fmt.Errorf(
				"the template %q has the variable {%s}; a name is letters, digits, `_`, `-` and dots",
				source,
				name,
			)
		}
		if strings.HasPrefix(name, "data.") {
			t.ReadsData = true
		} else if !carried[name] && !free {
			return nil, fmt.Errorf("the template %q has the variable {%s}; it may use {key} {dir} {name} {stem} {ext} {seq} {date} {id} and {data.…}", source, name)
		}
		t.Literal = false
		t.parts = append(t.parts, part{name: name})
		rest = rest[end+1:]
	}
	return t, nil
}

// Filling is what a template takes its variables from.
type Filling struct {
	Subject string
	ID      uint64
	Seq     uint64
	Time    time.Time
	Data    any
}

// Append writes the key to dst. Variables go in unencoded.
func (t *Template) Append(dst []byte, f *Filling) []byte {
	for i := range t.parts {
		p := &t.parts[i]
		switch p.name {
		case "":
			dst = append(dst, p.text...)
		case "key":
			dst = append(dst, f.Subject...)
		case "dir":
			dst = append(dst, keyDir(f.Subject)...)
		case "name":
			dst = append(dst, keyName(f.Subject)...)
		case "stem":
			stem, _ := stemExt(keyName(f.Subject))
			dst = append(dst, stem...)
		case "ext":
			_, ext := stemExt(keyName(f.Subject))
			dst = append(dst, ext...)
		case "seq":
			dst = strconv.AppendUint(dst, f.Seq, 10)
		case "date":
			dst = f.Time.UTC().AppendFormat(dst, "2006-01-02")
		case "id":
			dst = strconv.AppendUint(dst, f.ID, 10)
		default:
			if strings.HasPrefix(p.name, "data.") {
				dst = append(dst, text(at(f.Data, p.name[5:]))...)
				break
			}
			// A free name: outsiders vary it; seven values stand for them.
			dst = append(dst, p.name...)
			dst = append(dst, '-')
			dst = strconv.AppendUint(dst, f.Seq%7+1, 10)
		}
	}
	return dst
}

func keyDir(key string) string {
	if i := strings.LastIndexByte(key, '/'); i >= 0 {
		return key[:i]
	}
	return ""
}

func keyName(key string) string { return key[strings.LastIndexByte(key, '/')+1:] }

func stemExt(name string) (stem, ext string) {
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		return name[:i], name[i+1:]
	}
	return name, ""
}

func at(data any, path string) any {
	for _, step := range strings.Split(path, ".") {
		switch t := data.(type) {
		case map[string]any:
			data = t[step]
		case []any:
			i, err := strconv.Atoi(step)
			if err != nil || i < 0 || i >= len(t) {
				return nil
			}
			data = t[i]
		default:
			return nil
		}
	}
	return data
}

func text(v any) string {
	switch t := v.(type) {
	case nil:
		return ""
	case string:
		return t
	case float64:
		return strconv.FormatFloat(t, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}
