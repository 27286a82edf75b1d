package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// mostLines is how long a function may be without a reason.
const mostLines = 80

// TestFunctionsStayShort: a function of more lines says why above it, in a sentence that
// starts with "It is long".
func TestFunctionsStayShort(t *testing.T) {
	looked := 0
	for _, file := range tracked(t, ".go") {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, file, contents(t, file), parser.ParseComments)
		require.NoError(t, err)
		for _, d := range f.Decls {
			d, ok := d.(*ast.FuncDecl)
			if !ok || d.Body == nil {
				continue
			}
			looked++
			lines := set.Position(d.End()).Line - set.Position(d.Pos()).Line + 1
			if lines > mostLines && !strings.Contains(d.Doc.Text(), "It is long") {
				t.Errorf("%s:%d: %s has %d lines", file, set.Position(d.Pos()).Line, d.Name.Name, lines)
			}
		}
	}
	require.Greater(t, looked, 1000)
}
