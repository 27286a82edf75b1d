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
	return fmt.Errorf("the %s %q does not compile: %s", what, source, Wrong(source, seen, issues))
}

// Wrong says in words where and why a text does not compile. Seen is what expressions of its
// sort see.
func Wrong(source, seen string, issues *cel.Issues) string {
	found := issues.Errors()
	if len(found) == 0 {
		return issues.Err().Error()
	}
	first := found[0] // what follows is caused by it
	words := strings.TrimPrefix(first.Message, "Syntax error: ")
	for _, w := range whatIsWrong {
		if m := w.says.FindStringSubmatchIndex(first.Message); m != nil {
			words = string(w.says.ExpandString(nil, w.words, first.Message, m))
			break
		}
	}
	if strings.HasPrefix(words, "there is no") {
		words += "; " + seen
	}
	at := fmt.Sprintf("column %d", first.Location.Column()+1)
	if strings.Contains(source, "\n") {
		at = fmt.Sprintf("line %d, %s", first.Location.Line(), at)
	}
	return at + ": " + words
}
