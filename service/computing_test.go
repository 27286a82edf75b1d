package service_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// heavy are the calls that work on models: what they are given decides how long they take.
var heavy = []string{
	"graph.Compile", "model.Parse", "model.ParseScenario", "model.FromDocument", "check.Run", "flow.Analyse",
	"guarantees.Of", "jobs.NewTask", "sim.Run", "sim.Journeys", "sim.OneJourney", "sim.Rest", "study.Compare",
	"report.Write", "incoming.Read", "learn.Observe", "learn.Together", "verify.Compare", "verify.NewWitnesses",
	"observation.Compare", "observation.SumUp", "observation.Drifts",
}

// TestTheServiceItselfComputesNothing that callers send, or that is kept: no handler reaches a call that works on a
// model, but those that a process of its own runs.
func TestTheServiceItselfComputesNothing(t *testing.T) {
	sources := readSources(t)
	inProcesses := map[string]bool{
		"LoadDemo":     true, // of the models that ship with the product, before anybody is answered
		"madeStarters": true, // the same
		"beginHere":    true, // in the process of a rehearsal, or where there are none
	}
	maps.Copy(inProcesses, sources.computing)
	reaches := map[string]string{} // by function: the call that it leads to
	for changed := true; changed; {
		changed = false
		for name, calls := range sources.calls {
			if reaches[name] != "" || inProcesses[name] {
				continue
			}
			for _, call := range calls {
				if slices.Contains(heavy, call) {
					reaches[name] = call
				} else if by := reaches[call]; by != "" {
					reaches[name] = call + ", " + by
				}
				changed = changed || reaches[name] != ""
			}
		}
	}
	require.Greater(t, len(sources.handlers), 60, "operations were found")
	require.Greater(t, len(sources.computing), 15, "operations that compute were found")
	require.NotEmpty(t, reaches["compile"], "calls are followed")
	require.NotEmpty(t, reaches["checkText"], "calls are followed")
	for _, name := range slices.Sorted(maps.Keys(sources.handlers)) {
		require.Empty(t, reaches[name], "the handler %s computes in the service itself: make it a procedure, or let it compute", name)
	}
}

// sources is what the package's files say.
type sources struct {
	calls     map[string][]string // by function: what it calls, of this package by its name alone
	handlers  map[string]bool     // of operations that the service answers itself
	computing map[string]bool     // functions that a process of its own runs
}

func readSources(t *testing.T) *sources {
	s := &sources{map[string][]string{}, map[string]bool{}, map[string]bool{}}
	files := token.NewFileSet()
	entries, err := os.ReadDir(".")
	require.NoError(t, err)
	for _, entry := range entries {
		if !strings.HasSuffix(entry.Name(), ".go") || strings.HasSuffix(entry.Name(), "_test.go") {
			continue
		}
		file, err := parser.ParseFile(files, entry.Name(), nil, 0)
		require.NoError(t, err)
		for _, d := range file.Decls {
			function, ok := d.(*ast.FuncDecl)
			if !ok {
				ast.Inspect(d, s.procedure)
				continue
			}
			ast.Inspect(function.Body, func(n ast.Node) bool {
				if call, ok := n.(*ast.CallExpr); ok {
					s.registered(call)
					s.calls[function.Name.Name] = append(s.calls[function.Name.Name], called(call.Fun))
				}
				return true
			})
		}
	}
	return s
}

// called names a function; one of this package by its name alone.
func called(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.Ident:
		return e.Name
	case *ast.IndexExpr:
		return called(e.X)
	case *ast.SelectorExpr:
		if of, ok := e.X.(*ast.Ident); ok && slices.ContainsFunc(heavy, func(h string) bool {
			return strings.HasPrefix(h, of.Name+".")
		}) {
			return of.Name + "." + e.Sel.Name
		}
		return e.Sel.Name
	}
	return ""
}

// procedure notes the function that a procedure runs.
func (s *sources) procedure(n ast.Node) bool {
	if pair, ok := n.(*ast.KeyValueExpr); ok {
		if key, ok := pair.Key.(*ast.Ident); ok && key.Name == "do" {
			if f, ok := pair.Value.(*ast.Ident); ok {
				s.computing[f.Name] = true
			}
		}
	}
	return true
}

// registered notes the handler of an operation that a call registers.
func (s *sources) registered(call *ast.CallExpr) {
	name := called(call.Fun)
	if name != "register" && name != "onRehearsal" || len(call.Args) < 4 {
		return
	}
	handler := called(call.Args[len(call.Args)-1])
	to := s.handlers
	for _, argument := range call.Args[:len(call.Args)-1] {
		ast.Inspect(argument, func(n ast.Node) bool {
			switch i, _ := n.(*ast.Ident); {
			case i != nil && (i.Name == "computes" || i.Name == "computing" || i.Name == "answeredThere"):
				to = s.computing
			}
			return true
		})
	}
	to[handler] = true
}
