package model

import (
	"encoding/json"
	"fmt"
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// said are defaults in words, for which no value can be written, and POST, which an endpoint is asked with where its
// model names no method.
var said = map[string]bool{
	"": true, "everyone linked": true, "its name": true, "spread evenly": true, "passed on": true, "POST": true,
}

// needed are what a node or link must have for a field to be of any use, or for the kind to be complete.
var needed = map[string]string{
	"schedule": "every: 1h", "workflow": "do: [{a: {wait: 1s}}]",
}

// withField gives a model with one field written, and the same one without it.
func withField(t *testing.T, kind, field, value string) (with, without *Node, err error) {
	t.Helper()
	parse := func(more string) (*Node, error) {
		fields := "kind: " + kind
		for _, f := range []string{needed[kind], more} {
			if f != "" {
				fields += ", " + f
			}
		}
		m, err := Parse("m.yaml", []byte("ironweir: topology/1\nname: m\nnodes:\n  n: {"+fields+"}\n"), Options{})
		if err != nil {
			return nil, err
		}
		return m.Node("n"), nil
	}
	without, err = parse("")
	require.NoError(t, err, kind)
	with, err = parse(field + ": " + value)
	return with, without, err
}

// asRead is what is known of a node or link but for where it is written.
func asRead(t *testing.T, x any) string {
	t.Helper()
	text, err := json.Marshal(x)
	require.NoError(t, err)
	text = regexp.MustCompile(`("[A-Za-z]*Pos(ition)?":\{[^{}]*\}|"Written":(true|false)),?`).ReplaceAll(text, nil)
	return string(text)
}

// TestDefaultsAgree: the default that forms show for a field of a kind is the one that the reader applies (to write it
// changes nothing), and the one that docs/model.md lists; another value does change the node.
func TestDefaultsAgree(t *testing.T) {
	listed := documentedDefaults(t)
	others := map[string]string{ // another value of each form
		"duration": "7m", "distribution": "7m", "share": "7%", "whole": "7", "rate": "7/s", "size": "7MB", "truth": "",
		"choice": "", "text": "seven", "anything": "7",
	}
	compared := 0
	for _, k := range WholeCatalogue().Kinds {
		for _, f := range k.Fields {
			if doc, ok := listed[k.Kind+" "+f.Path]; ok {
				assert.Equal(t, doc, normal(f.Default), "%s.%s: docs/model.md and the forms differ", k.Kind, f.Path)
			}
			if said[f.Default] {
				continue
			}
			with, without, err := withField(t, k.Kind, f.Path, f.Default)
			if !assert.NoError(t, err, "%s.%s", k.Kind, f.Path) {
				continue
			}
			assert.Equal(t, asRead(t, without), asRead(t, with), "%s.%s: %s is not its default", k.Kind, f.Path, f.Default)
			other := others[f.Form]
			switch {
			case f.Form == "choice":
				other = f.Choices[len(f.Choices)-1]
				if other == f.Default {
					other = f.Choices[0]
				}
			case f.Form == "truth":
				other = fmt.Sprint(f.Default != "true")
			case f.Path == "zone":
				other = "Europe/Lisbon"
			case f.Path == "fails":
				other = "7%"
			}
			with, without, err = withField(t, k.Kind, f.Path, other)
			if err == nil && f.Path != "cron-fields" && f.Path != "sunday" && f.Path != "zone" { // of `cron` alone
				assert.NotEqual(t, asRead(t, without), asRead(t, with), "%s.%s: %s changes nothing", k.Kind, f.Path, other)
				compared++
			}
		}
	}
	require.Greater(t, compared, 30)
	require.Greater(t, len(listed), 60)
}

// normal writes a default as the forms and the reference can be compared.
func normal(text string) string {
	text = strings.Trim(text, "`")
	switch text {
	case "none", "unknown", "see below", "see semantics.md", "required", "never", "everyone linked":
		return ""
	case "the node's name", "its name":
		return "its name"
	case "0%", "0s":
		return "0"
	}
	return text
}

// documentedDefaults gives the defaults that docs/model.md lists, by kind and field; those of every node for each kind
// that lists none of its own.
func documentedDefaults(t *testing.T) map[string]string {
	t.Helper()
	text, err := os.ReadFile("../../docs/model.md")
	require.NoError(t, err)
	out := map[string]string{}
	section := ""
	every := map[string]string{}
	row := regexp.MustCompile("^\\| `([a-z-]+)` \\| [^|]* \\| ([^|]*) \\|")
	for _, line := range strings.Split(string(text), "\n") {
		if title, ok := strings.CutPrefix(line, "### "); ok {
			section = strings.ToLower(title)
		} else if strings.HasPrefix(line, "## ") {
			section = ""
		}
		m := row.FindStringSubmatch(line)
		switch {
		case m == nil:
		case section == "every node":
			every[m[1]] = normal(strings.TrimSpace(m[2]))
		case Kind(section).Known():
			out[section+" "+m[1]] = normal(strings.TrimSpace(m[2]))
		}
	}
	for _, k := range Kinds {
		for field, value := range every {
			if _, ok := out[string(k)+" "+field]; !ok && field != "kind" && field != "links" && field != "tags" {
				out[string(k)+" "+field] = value
			}
		}
	}
	require.NotEmpty(t, every)
	require.False(t, reflect.DeepEqual(out, every))
	return out
}

// TestDefaultsOfLinksAgree, as those of nodes do: to write one changes nothing, from any kind that the field is for.
func TestDefaultsOfLinksAgree(t *testing.T) {
	link := func(kind, field, value string) (string, error) {
		inner := ""
		if field != "" {
			inner = field + ": " + value
			if first, last, nested := strings.Cut(field, "."); nested {
				inner = first + ": {" + last + ": " + value + "}"
			}
		}
		fields := "kind: " + kind
		if needed[kind] != "" {
			fields += ", " + needed[kind]
		}
		m, err := Parse("m.yaml", []byte("ironweir: topology/1\nname: m\nnodes:\n  n: {"+fields+", links: {m: {"+inner+
			"}}}\n  m: {kind: queue}\n"), Options{})
		if err != nil {
			m, err = Parse("m.yaml", []byte("ironweir: topology/1\nname: m\nnodes:\n  n: {"+fields+", links: {m: {"+
				inner+"}}}\n  m: {kind: function}\n"), Options{})
		}
		if err != nil {
			return "", err
		}
		return asRead(t, m.Node("n").Link("m")), nil
	}
	compared := 0
	for _, f := range WholeCatalogue().Link {
		if said[f.Default] {
			continue
		}
		kinds := f.On
		if len(kinds) == 0 {
			kinds = []string{"queue", "function"}
		}
		for _, kind := range kinds {
			with, err := link(kind, f.Path, f.Default)
			if !assert.NoError(t, err, "%s from a %s", f.Path, kind) {
				continue
			}
			without, err := link(kind, "", "")
			require.NoError(t, err)
			assert.Equal(t, without, with, "%s from a %s: %s is not its default", f.Path, kind, f.Default)
			compared++
		}
	}
	require.Greater(t, compared, 30)
}
