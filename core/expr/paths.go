package expr

import (
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types/ref"
)

// Path is a chain of names that an expectation reads from `run`: run.nodes['door'].runs
// is nodes, door, runs.
type Path struct {
	Steps []string
	Probe bool // it only asks whether the last is there: has(run.cost.total)
}

// Paths lists the chains of constant names that an expectation reads; a chain ends where
// a name is computed.
func (j *Judgement) Paths() []Path {
	var out []Path
	var walk func(e ast.Expr)
	chain := func(e ast.Expr) (steps []string, ok bool) {
		for {
			switch e.Kind() {
			case ast.IdentKind:
				return steps, e.AsIdent() == "run"
			case ast.SelectKind:
				steps = append([]string{e.AsSelect().FieldName()}, steps...)
				e = e.AsSelect().Operand()
				continue
			case ast.CallKind:
				call := e.AsCall()
				if call.FunctionName() != operators.Index || len(call.Args()) != 2 ||
					call.Args()[1].Kind() != ast.LiteralKind {
					return nil, false
				}
				name, text := ref.Val(call.Args()[1].AsLiteral()).Value().(string)
				if !text {
					return nil, false
				}
				steps = append([]string{name}, steps...)
				e = call.Args()[0]
				continue
			}
			return nil, false
		}
	}
	walk = func(e ast.Expr) {
		if steps, ok := chain(e); ok && len(steps) > 0 {
			out = append(out, Path{steps, e.Kind() == ast.SelectKind && e.AsSelect().IsTestOnly()})
			return
		}
		switch e.Kind() {
		case ast.SelectKind:
			walk(e.AsSelect().Operand())
		case ast.CallKind:
			if e.AsCall().IsMemberFunction() {
				walk(e.AsCall().Target())
			}
			for _, a := range e.AsCall().Args() {
				walk(a)
			}
		case ast.ListKind:
			for _, x := range e.AsList().Elements() {
				walk(x)
			}
		case ast.ComprehensionKind:
			c := e.AsComprehension()
			for _, x := range []ast.Expr{c.IterRange(), c.AccuInit(), c.LoopCondition(), c.LoopStep(), c.Result()} {
				walk(x)
			}
		}
	}
	walk(j.ast)
	return out
}
