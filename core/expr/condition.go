// Package expr holds the expressions of a model: conditions and values in CEL
// over the event in hand, key templates, and the shapes of keys that the
// analysis reasons with. It is pure; an expression is compiled once and bounded
// in cost.
package expr

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/interpreter"
)

// CostLimit bounds one evaluation, in CEL cost units.
const CostLimit = 100_000

// MaxSource bounds the text of one expression, in bytes.
const MaxSource = 4096

// Event is what an expression sees. Age is the time since the journey began.
// Where ID is empty, Number is the id.
type Event struct {
	Number                    uint64
	ID, Source, Type, Subject string
	Time                      time.Time
	Data                      any
	Size                      int64
	Hops, Try                 int
	Age                       time.Duration
	Item                      any
	Index                     int
	Error                     any // what a workflow's `catch` deals with
}

// ResolveName makes an Event a CEL activation; values are converted only when
// an expression asks for them.
func (e *Event) ResolveName(name string) (any, bool) {
	switch name {
	case "event.id":
		if e.ID == "" {
			return strconv.FormatUint(e.Number, 10), true
		}
		return e.ID, true
	case "event.source":
		return e.Source, true
	case "event.type":
		return e.Type, true
	case "event.subject":
		return e.Subject, true
	case "event.time":
		return e.Time, true
	case "event.data":
		return e.Data, true
	case "event.size":
		return e.Size, true
	case "event.hops":
		return int64(e.Hops), true
	case "event.try":
		return int64(e.Try), true
	case "event.age":
		return e.Age, true
	case "item":
		return e.Item, true
	case "index":
		return int64(e.Index), true
	case "error":
		return e.Error, true
	}
	return nil, false
}

// Parent makes an Event a CEL activation.
func (e *Event) Parent() interpreter.Activation { return nil }

var environment = sync.OnceValues(func() (*cel.Env, error) {
	return cel.NewEnv(
		cel.Variable("event.id", cel.StringType), cel.Variable("event.source", cel.StringType),
		cel.Variable("event.type", cel.StringType), cel.Variable("event.subject", cel.StringType),
		cel.Variable("event.time", cel.TimestampType), cel.Variable("event.data", cel.DynType),
		cel.Variable("event.size", cel.IntType), cel.Variable("event.hops", cel.IntType),
		cel.Variable("event.try", cel.IntType), cel.Variable("event.age", cel.DurationType),
		cel.Variable("item", cel.DynType), cel.Variable("index", cel.IntType), cel.Variable("error", cel.DynType),
		cel.CrossTypeNumericComparisons(true),
	)
})

// Embedded finds the expression in a string of a payload: `=…`, or `${ … }` as
// workflows write it.
func Embedded(s string) (source string, ok bool) {
	if rest, ok := strings.CutPrefix(s, "="); ok {
		return rest, true
	}
	if rest, ok := strings.CutPrefix(s, "${"); ok && strings.HasSuffix(rest, "}") {
		return strings.TrimSpace(strings.TrimSuffix(rest, "}")), true
	}
	return "", false
}

// Expression is a compiled expression over an Event.
type Expression struct {
	Source    string
	ReadsData bool // whether it looks into the payload
	Volatile  bool // whether it reads what changes between tries
	constant  ref.Val
	program   cel.Program
	ast       *cel.Ast
	partial   func() (cel.Program, error) // made when it is first asked for
}

var (
	readsData = regexp.MustCompile(`\bevent\s*\.\s*data\b|\bitem\b`)
	volatile  = regexp.MustCompile(`\bevent\s*\.\s*(try|age|hops)\b`)
)

// seenByConditions says what expressions over an event see.
const seenByConditions = "expressions see event.id .source .type .subject .time .data .size .hops .try .age"

// Compile checks an expression; want is what it must give: "bool", "list",
// "number" or "any".
func Compile(source, want string) (*Expression, error) {
	if len(source) > MaxSource {
		return nil, fmt.Errorf("an expression of %d bytes; at most %d are allowed", len(source), MaxSource)
	}
	env, err := environment()
	if err != nil {
		return nil, err
	}
	ast, issues := env.Compile(source)
	if issues != nil && issues.Err() != nil {
		return nil, compileError("expression", source, seenByConditions, issues)
	}
	out := ast.OutputType()
	fits := out.IsExactType(cel.DynType) || want == "any"
	switch want {
	case "bool":
		fits = fits || out.IsExactType(cel.BoolType)
	case "list":
		fits = fits || out.Kind() == types.ListKind
	case "number":
		fits = fits || out.IsExactType(cel.IntType) || out.IsExactType(cel.DoubleType) || out.IsExactType(cel.UintType)
	}
	if !fits {
		return nil, fmt.Errorf("the expression %q gives %s; a %s is needed here", source, out, want)
	}
	program, err := env.Program(ast, cel.EvalOptions(cel.OptOptimize), cel.CostLimit(CostLimit))
	if err != nil {
		return nil, fmt.Errorf("the expression %q does not compile: %w", source, err)
	}
	e := &Expression{
		Source:    source,
		ReadsData: readsData.MatchString(source),
		Volatile:  volatile.MatchString(source),
		program:   program,
		ast:       ast,
	}
	e.partial = sync.OnceValues(func() (cel.Program, error) {
		return env.Program(ast, cel.EvalOptions(cel.OptOptimize, cel.OptPartialEval), cel.CostLimit(CostLimit))
	})
	if !strings.Contains(source, "event") && !strings.Contains(source, "item") && !strings.Contains(source, "index") {
		if v, _, err := program.Eval(cel.NoVars()); err == nil {
			e.constant = v
		}
	}
	return e, nil
}

// Constant gives the value when the expression reads nothing of the event.
func (x *Expression) Constant() (value any, ok bool) {
	if x.constant == nil {
		return nil, false
	}
	return x.constant.Value(), true
}

func (x *Expression) eval(e *Event) (ref.Val, error) {
	if x.constant != nil {
		return x.constant, nil
	}
	v, _, err := x.program.Eval(e)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", x.Source, err)
	}
	return v, nil
}

// Truth evaluates to true or false. What cannot be evaluated (a missing field
// of the payload, say) is false, with the error for those who ask why.
func (x *Expression) Truth(e *Event) (bool, error) {
	v, err := x.eval(e)
	if err != nil {
		return false, err
	}
	b, ok := v.Value().(bool)
	if !ok {
		return false, fmt.Errorf("%s: gave %v, not true or false", x.Source, v.Type())
	}
	return b, nil
}

// Number evaluates to a number.
func (x *Expression) Number(e *Event) (float64, error) {
	v, err := x.eval(e)
	if err != nil {
		return 0, err
	}
	switch n := v.Value().(type) {
	case int64:
		return float64(n), nil
	case uint64:
		return float64(n), nil
	case float64:
		return n, nil
	}
	return 0, fmt.Errorf("%s: gave %v, not a number", x.Source, v.Type())
}

// List evaluates to a list of plain values.
func (x *Expression) List(e *Event) ([]any, error) {
	v, err := x.eval(e)
	if err != nil {
		return nil, err
	}
	l, ok := v.(traits.Lister)
	if !ok {
		return nil, fmt.Errorf("%s: gave %v, not a list", x.Source, v.Type())
	}
	var out []any
	for it := l.Iterator(); it.HasNext() == types.True; {
		out = append(out, Plain(it.Next()))
	}
	return out, nil
}

// Value evaluates to a plain value, as encoding/json would decode it.
func (x *Expression) Value(e *Event) (any, error) {
	v, err := x.eval(e)
	if err != nil {
		return nil, err
	}
	return Plain(v), nil
}

// Plain converts a CEL value to what encoding/json would decode.
func Plain(v ref.Val) any {
	switch t := v.(type) {
	case traits.Mapper:
		out := map[string]any{}
		for it := t.Iterator(); it.HasNext() == types.True; {
			k := it.Next()
			out[fmt.Sprint(k.Value())] = Plain(t.Get(k))
		}
		return out
	case traits.Lister:
		out := []any{}
		for it := t.Iterator(); it.HasNext() == types.True; {
			out = append(out, Plain(it.Next()))
		}
		return out
	}
	switch n := v.Value().(type) {
	case int64:
		return float64(n)
	case uint64:
		return float64(n)
	case time.Time:
		return n.Format(time.RFC3339Nano)
	case time.Duration:
		return n.Seconds()
	case bool, string, float64:
		return n
	}
	if v.Type() == types.NullType {
		return nil
	}
	return fmt.Sprint(v.Value())
}

// Judgement is a condition over a result document, `run` in expectations.
type Judgement struct {
	Source  string
	program cel.Program
	ast     ast.Expr
}

// CompileJudgement checks an expectation: true or false over `run`.
func CompileJudgement(source string) (*Judgement, error) {
	return compileJudgement(source, "true or false", cel.BoolType)
}

// CompileMeasure checks a number over `run`, or an expectation, which counts as 1 or 0.
func CompileMeasure(source string) (*Judgement, error) {
	return compileJudgement(source, "a number", cel.BoolType, cel.IntType, cel.UintType, cel.DoubleType)
}

func compileJudgement(source, want string, types ...*cel.Type) (*Judgement, error) {
	if len(source) > MaxSource {
		return nil, fmt.Errorf("an expression of %d bytes; at most %d are allowed", len(source), MaxSource)
	}
	env, err := cel.NewEnv(cel.Variable("run", cel.DynType), cel.CrossTypeNumericComparisons(true))
	if err != nil {
		return nil, err
	}
	compiled, issues := env.Compile(source)
	if issues != nil && issues.Err() != nil {
		return nil, compileError("expectation", source, "an expectation sees `run`, the result", issues)
	}
	if out := compiled.OutputType(); !slices.ContainsFunc(append(types, cel.DynType), out.IsExactType) {
		return nil, fmt.Errorf("the expectation %q gives %s; it must be %s", source, out, want)
	}
	program, err := env.Program(compiled, cel.CostLimit(10*CostLimit))
	if err != nil {
		return nil, err
	}
	return &Judgement{Source: source, program: program, ast: compiled.NativeRep().Expr()}, nil
}

// Holds judges one result, given as encoding/json decodes it.
func (j *Judgement) Holds(run any) (bool, error) {
	v, _, err := j.program.Eval(map[string]any{"run": run})
	if err != nil {
		return false, fmt.Errorf("%s: %w", j.Source, err)
	}
	b, ok := v.Value().(bool)
	if !ok {
		return false, fmt.Errorf("%s: gave %v, not true or false", j.Source, v.Type())
	}
	return b, nil
}

// Number works out a number from one result, given as encoding/json decodes it; true is 1
// and false 0.
func (j *Judgement) Number(run any) (float64, error) {
	v, _, err := j.program.Eval(map[string]any{"run": run})
	if err != nil {
		return 0, fmt.Errorf("%s: %w", j.Source, err)
	}
	switch x := v.Value().(type) {
	case bool:
		if x {
			return 1, nil
		}
		return 0, nil
	case int64:
		return float64(x), nil
	case uint64:
		return float64(x), nil
	case float64:
		return x, nil
	}
	return 0, fmt.Errorf("%s: gave %v, not a number", j.Source, v.Type())
}
