package flow

import (
	"regexp"

	"ironweir/core/expr"
)

// aboutSubject finds the parts of a condition that the shape of a key may decide.
var aboutSubject = regexp.MustCompile(`event\.subject\.(startsWith|endsWith)\(('[^'\\]*'|"[^"\\]*")\)`)

// judge reports whether a condition holds for a message: Possible where what is not
// known decides.
func (a *Analysis) judge(x *expr.Expression, m Message, defaultType string) reach {
	e, has := a.Seen(m, defaultType)
	v := x.Judge(e, has)
	if v != expr.Possible || m.Key.Exact {
		return v
	}
	source := aboutSubject.ReplaceAllStringFunc(x.Source, func(part string) string {
		of := aboutSubject.FindStringSubmatch(part)
		text := of[2][1 : len(of[2])-1]
		verdict := m.Key.HasPrefix(text)
		if of[1] == "endsWith" {
			verdict = m.Key.HasSuffix(text)
		}
		switch verdict {
		case expr.Certain:
			return "true"
		case expr.Impossible:
			return "false"
		}
		return part
	})
	if source == x.Source {
		return v
	}
	simpler, ok := a.simpler[source]
	if !ok {
		var err error
		if simpler, err = expr.Compile(source, "any"); err != nil {
			return v
		}
		a.simpler[source] = simpler
	}
	return simpler.Judge(e, has)
}
