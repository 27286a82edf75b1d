package workflow

import (
	"regexp"
	"strings"

	"ironweir/core/model"
)

// The DSL's expressions are jq by default. What is the same in CEL but for its spelling is translated: paths,
// comparisons, and what joins them. Everything else (filters, functions, pipes) is not.

// token is one part of an expression that is translated.
var token = regexp.MustCompile(`^(?:\s+|"(?:[^"\\]|\\.)*"|\d+(?:\.\d+)?|==|!=|<=|>=|[<>()]|[+*%-]|\$?(?:\.?[A-Za-z_][\w-]*)(?:\.[A-Za-z_][\w-]*|\[\d+\])*|\.)`)

// field is the name of a field that CEL may have after a dot.
var field = regexp.MustCompile(`^[A-Za-z_]\w*$`)

// words are what jq says in words; a null needs none.
var words = map[string]string{"and": "&&", "or": "||", "true": "true", "false": "false", "null": "null"}

// variables are what expressions of a model see beside the payload.
var variables = map[string]bool{"item": true, "index": true, "error": true}

// expression writes an expression as CEL; ok is false where that is not possible.
func expression(jq string) (cel string, ok bool) {
	rest := model.Runtime(strings.TrimSpace(jq))
	if rest == "" {
		return "", false
	}
	var out strings.Builder
	for rest != "" {
		t := token.FindString(rest)
		if t == "" {
			return "", false
		}
		rest = rest[len(t):]
		switch {
		case words[t] != "":
			out.WriteString(words[t])
		case t == ".":
			out.WriteString("event.data")
		case strings.HasPrefix(t, ".") || strings.HasPrefix(t, "$"):
			path, ok := pathOf(t)
			if !ok {
				return "", false
			}
			out.WriteString(path)
		case t[0] >= 'a' && t[0] <= 'z' || t[0] >= 'A' && t[0] <= 'Z' || t[0] == '_':
			return "", false // a function
		default:
			out.WriteString(t)
		}
	}
	return strings.TrimSpace(out.String()), true
}

// pathOf writes a path of jq: .a.b[0] lies in the payload, $item.a in a variable.
func pathOf(jq string) (cel string, ok bool) {
	root := "event.data"
	path := strings.TrimPrefix(jq, ".")
	if name, isVariable := strings.CutPrefix(jq, "$"); isVariable {
		root, path, _ = strings.Cut(name, ".")
		if at := strings.IndexByte(root, '['); at >= 0 {
			root, path = root[:at], root[at:]+"."+path
		}
		if !variables[root] {
			return "", false
		}
	}
	for _, step := range strings.Split(strings.ReplaceAll(strings.TrimSuffix(path, "."), "[", ".["), ".") {
		switch {
		case step == "":
		case step[0] == '[':
			root += step
		case field.MatchString(step):
			root += "." + step
		default:
			root += `["` + step + `"]`
		}
	}
	return root, true
}

// variable renames a variable in an expression.
func variable(jq, from, to string) string {
	if !strings.Contains(jq, from) {
		return jq
	}
	return regexp.MustCompile(regexp.QuoteMeta(from)+`\b`).ReplaceAllLiteralString(jq, to)
}
