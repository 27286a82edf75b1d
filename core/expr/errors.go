package expr

import (
	"fmt"
	"regexp"
	"strings"

	"cel.dev/cel-go/cel"
)

// whatIsWrong says in words what the compiler of expressions says with the terms of its
// grammar.
var whatIsWrong = []struct {
	says  *regexp.Regexp
	words string
}{
	{regexp.MustCompile(`(?:mismatched|extraneous) input '<EOF>'`), "it ends too early"},
	{regexp.MustCompile(`(?:mismatched|extraneous) input '(.*?)' expecting`), "`$1` is not expected here"},
	{regexp.MustCompile(`no viable alternative at input '(.*)'`), "`$1` makes no sense here"},
	{regexp.MustCompile(`token recognition error at: '= ?'`), "`=` has no meaning here; what is equal is `==`"},
	{regexp.MustCompile(`token recognition error at: '([&|]) ?'`), "`$1` has no meaning here; write `$1$1`"},
	{regexp.MustCompile(`token recognition error at: '["'].*'`), "a quotation mark is not closed"},
	{regexp.MustCompile(`token recognition error at: '(.*?)\s*'`), "`$1` has no meaning here"},
	{regexp.MustCompile(`no matching overload for '_?(.*?)_?' applied to '\((.*)\)'`), "`$1` cannot be used with ($2)"},
	{regexp.MustCompile(`undeclared reference to '([^']*)'( \(did you mean .*\))?`), "there is no `$1`$2"},
}

// compileError says why a text does not compile. Seen is what expressions of its sort see.
func compileError(what, source, seen string, issues *cel.Issues) error {
	found := issues.Errors()
	if len(found) == 0 {
		return fmt.Errorf("the %s %q does not compile: %w", what, source, issues.Err())
	}
	first := found[0] // what follows comes of it
	words, said := first.Message, false
	for _, w := range whatIsWrong {
		if m := w.says.FindStringSubmatchIndex(first.Message); m != nil {
			words, said = string(w.says.ExpandString(nil, w.words, first.Message, m)), true
			break
		}
	}
	if !said {
		words = strings.TrimPrefix(words, "Syntax error: ")
	}
	if strings.HasPrefix(words, "there is no") {
		words += "; " + seen
	}
	at := fmt.Sprintf("column %d", first.Location.Column()+1)
	if strings.Contains(source, "\n") {
		at = fmt.Sprintf("line %d, %s", first.Location.Line(), at)
	}
	return fmt.Errorf("the %s %q does not compile: %s: %s", what, source, at, words)
}
