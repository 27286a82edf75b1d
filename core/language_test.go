package core_test

import (
	"go/scanner"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/sim"
)

// tracked lists the files of the repository with one of some endings.
func tracked(t *testing.T, endings ...string) []string {
	out, err := exec.Command("git", "-C", "..", "ls-files", "--cached", "--others", "--exclude-standard").Output()
	require.NoError(t, err)
	var files []string
	for _, f := range strings.Fields(string(out)) {
		for _, e := range endings {
			if _, err := os.Stat(filepath.Join("..", f)); strings.HasSuffix(f, e) && err == nil {
				files = append(files, f)
			}
		}
	}
	require.NotEmpty(t, files)
	return files
}

func contents(t *testing.T, file string) string {
	text, err := os.ReadFile(filepath.Join("..", file))
	require.NoError(t, err)
	return string(text)
}

// literals returns the string literals of a Go file, joined.
func literals(t *testing.T, file string) string {
	var s scanner.Scanner
	src := []byte(contents(t, file))
	s.Init(token.NewFileSet().AddFile(file, -1, len(src)), src, nil, 0)
	var out strings.Builder
	for {
		_, tok, lit := s.Scan()
		switch tok {
		case token.EOF:
			return out.String()
		case token.STRING:
			out.WriteString(lit + "\n")
		}
	}
}

// TestOneWordForOneThing keeps what the glossary says is not said out of every text
// that a person reads: documents, strings of the program, pages of the console.
func TestOneWordForOneThing(t *testing.T) {
	var not []string
	for _, row := range regexp.MustCompile(`(?m)^\| .* \| .* \| (.+) \|$`).FindAllStringSubmatch(contents(t, "docs/glossary.md"), -1) {
		if row[1] != "Not" {
			not = append(not, strings.Split(row[1], ", ")...)
		}
	}
	require.Greater(t, len(not), 20)
	words := regexp.MustCompile(`(?i)\b(` + strings.Join(not, "|") + `)\b`)
	require.True(t, words.MatchString("a loop that goes round"), "the search can fail")
	quoted := regexp.MustCompile("\"[^\"\n]*\"")
	for _, f := range tracked(t, ".md", ".go", ".svelte", ".html", ".ts") {
		text := ""
		switch {
		case f == "docs/glossary.md" || strings.HasSuffix(f, "_test.go") || strings.HasPrefix(f, "bench/"):
			continue
		case strings.HasSuffix(f, ".go"):
			text = literals(t, f)
		case strings.HasSuffix(f, ".ts"):
			text = strings.Join(quoted.FindAllString(contents(t, f), -1), "\n")
		case strings.HasSuffix(f, ".svelte"): // the markup, and the strings of its script
			whole := regexp.MustCompile(`(?s)<style>.*?</style>`).ReplaceAllString(contents(t, f), "")
			script := regexp.MustCompile(`(?s)<script.*?</script>`)
			text = regexp.MustCompile(`(?s)\{.*?\}`).ReplaceAllString(script.ReplaceAllString(whole, ""), "") +
				strings.Join(quoted.FindAllString(strings.Join(script.FindAllString(whole, -1), "\n"), -1), "\n")
		default:
			text = contents(t, f)
		}
		for _, line := range strings.Split(text, "\n") {
			if found := words.FindString(line); found != "" {
				t.Errorf("%s: %q is not said (docs/glossary.md): %s", f, found, strings.TrimSpace(line))
			}
		}
	}
}

// TestCommentsReport holds the comments of Go code to the idiom: a function reports whether
// something is so.
func TestCommentsReport(t *testing.T) {
	idiom := regexp.MustCompile(`//.*\btells (whether|how|what|which|why|when)\b`)
	require.True(t, idiom.MatchString("// Ended tells whether nothing follows."), "the search can fail")
	for _, f := range tracked(t, ".go") {
		for i, line := range strings.Split(contents(t, f), "\n") {
			if f != "core/language_test.go" && idiom.MatchString(line) {
				t.Errorf("%s:%d: say `reports whether`, or `returns`: %s", f, i+1, strings.TrimSpace(line))
			}
		}
	}
}

// TestTheConsoleNamesCausesAsTheTerminalDoes: each cause of loss, with the same words.
func TestTheConsoleNamesCausesAsTheTerminalDoes(t *testing.T) {
	said := contents(t, "console/src/lib/format.ts")
	for _, f := range sim.Fates() {
		if f.Loss() {
			require.NotEmpty(t, sim.LossWords(f))
			require.Regexp(t, `(?m)^  `+f.String()+`: "`+regexp.QuoteMeta(sim.LossWords(f))+`",$`, said)
		}
	}
}

// TestLinesFit at 120 columns, tabs being 4 wide: Go, except inside strings, and documents, except
// tables and code. (The console's are formatted by its own linter.)
func TestLinesFit(t *testing.T) {
	quoted := regexp.MustCompile("`[^`]{20,}|\"[^\"]{20,}\"|\\S{60,}")
	for _, f := range tracked(t, ".go", ".md") {
		inString, inCode := false, false
		for i, line := range strings.Split(contents(t, f), "\n") {
			was := inString || inCode
			if strings.HasSuffix(f, ".go") {
				inString = inString != (strings.Count(line, "`")%2 == 1)
			} else if strings.HasPrefix(strings.TrimSpace(line), "```") {
				inCode = !inCode
			}
			long := len([]rune(strings.ReplaceAll(line, "\t", "    "))) > 120
			if long && !was && !quoted.MatchString(line) && !strings.HasPrefix(line, "|") {
				t.Errorf("%s:%d is longer than 120 columns", f, i+1)
			}
		}
	}
}
