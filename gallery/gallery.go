// Package gallery holds the starters: small models of one shape each, which
// check finds nothing in, to begin a model of one's own with.
package gallery

import (
	"embed"
	"io/fs"
	"sort"
	"strings"
)

//go:embed *.yaml scenarios/*.yaml
var files embed.FS

// Starter is a model to begin with.
type Starter struct {
	Name  string
	About string // the first line of comment of the file
	Text  []byte
	// Scenario shows what it is good for: a day on which something goes wrong.
	Scenario []byte
}

// Starters lists all, by name.
func Starters() []Starter {
	var out []Starter
	entries, err := fs.ReadDir(files, ".")
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if e.IsDir() {
			continue
		}
		text, err := files.ReadFile(e.Name())
		if err != nil {
			continue
		}
		scenario, err := files.ReadFile("scenarios/" + e.Name())
		if err != nil {
			continue
		}
		first, _, _ := strings.Cut(string(text), "\n")
		out = append(
			out,
			Starter{
				strings.TrimSuffix(e.Name(), ".yaml"),
				strings.TrimSpace(strings.TrimPrefix(first, "#")),
				text,
				scenario,
			},
		)
	}
	sort.Slice(out, func(a, b int) bool { return out[a].Name < out[b].Name })
	return out
}

// ByName gives a starter.
func ByName(name string) (Starter, bool) {
	for _, s := range Starters() {
		if s.Name == name {
			return s, true
		}
	}
	return Starter{}, false
}
