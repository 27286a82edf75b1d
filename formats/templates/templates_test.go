package templates_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
	"ironweir/formats/templates"
)

const small = `ironweir: topology/1
name: small
about: Two of a kind.
defaults: {queue: {lease: 2m}}
nodes:
  jobs: {kind: queue, owner: yard, tags: {tier: core, area: slip}, links: {work: {retry: {tries: 3}, dead-letter: odd}}}
  odd: {kind: queue, lease: 1m}
  work: {kind: function}
`

func write(t *testing.T, template string) (names []string, texts map[string]string, err error) {
	t.Helper()
	doc, err := model.ReadDocument("m.yaml", []byte(small))
	require.NoError(t, err)
	topology, err := model.FromDocument("m.yaml", doc, model.Options{})
	require.NoError(t, err)
	return templates.Write("t.tmpl", []byte(template), doc, topology)
}

func TestOneText(t *testing.T) {
	for template, want := range map[string]string{
		"{{.Name}}: {{upper .About}}":                                                           "small: TWO OF A KIND.",
		`{{range .Nodes}}{{.Name}} {{.Field "lease"}};{{end}}`:                                  "jobs 2m;odd 1m;work <no value>;",
		`{{range .Nodes}}{{if .Has "lease"}}{{.Name}},{{end}}{{end}}`:                           "jobs,odd,",
		`{{range .Links}}{{.ID}} {{.From}} {{.To}} {{.ToKind}} {{.Field "retry.tries"}}{{end}}`: "jobs:work jobs work function 3",
		`{{range .Nodes}}{{range keys .Tags}}{{.}} {{end}}{{end}}`:                              "area tier ",
		`{{range .Links}}{{json (.Field "retry")}}{{end}}`:                                      `{"tries":3}`,
		`{{indent 2 "a\nb"}} {{replace "b" "c" "abb"}} {{lower "X"}}`:                           "a\n  b acc x",
	} {
		names, texts, err := write(t, template)
		require.NoError(t, err, template)
		require.Equal(t, []string{""}, names)
		require.Equal(t, want, texts[""], template)
	}
}

func TestSeveralFiles(t *testing.T) {
	names, texts, err := write(t, "\n{{range .Nodes}}{{file (print .Kind \"/\" .Name \".txt\")}}\n{{.Name}}\n{{end}}")
	require.NoError(t, err)
	require.Equal(t, []string{"queue/jobs.txt", "queue/odd.txt", "function/work.txt"}, names)
	require.Equal(t, "jobs\n", texts["queue/jobs.txt"])
}

func TestFaultsNameThePlace(t *testing.T) {
	for template, says := range map[string]string{
		"a\n{{.Nome}}":                           "t.tmpl:2:2",
		"{{range .Nodes}":                        "t.tmpl:1",
		"{{file \"../up\"}}":                     "does not lie below -out",
		"{{file \"/etc/passwd\"}}":               "does not lie below -out",
		"{{file \"\"}}":                          "does not lie below -out",
		"words {{file \"a\"}}":                   "text before the first {{file}}",
		"{{file \"a\"}}{{file \"a\"}}":           "started twice",
		`{{range .Nodes}}{{shout .Name}}{{end}}`: "shout",
	} {
		_, _, err := write(t, template)
		require.ErrorContains(t, err, says, template)
	}
}

// TestTheDemosTemplates write what they promise.
func TestTheDemosTemplates(t *testing.T) {
	source, err := os.ReadFile("../../demo/kittiwake.yaml")
	require.NoError(t, err)
	doc, err := model.ReadDocument("kittiwake.yaml", source)
	require.NoError(t, err)
	topology, err := model.FromDocument("kittiwake.yaml", doc, model.Options{})
	require.NoError(t, err)
	for file, says := range map[string]map[string]string{
		"alarms.tmpl":   {"dead-letters.alarm.yaml": "watches: unread-weighings", "mail.alarm.yaml": "tell: quay-systems"},
		"triggers.tmpl": {"": "| bookings | confirm-booking | all | 5 | clerk-desk |"},
	} {
		template, err := os.ReadFile("../../demo/templates/" + file)
		require.NoError(t, err)
		_, texts, err := templates.Write(file, template, doc, topology)
		require.NoError(t, err)
		for name, want := range says {
			require.Contains(t, texts[name], want, file)
		}
	}
}
