package model_test

import (
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

// everyField is a scenario in which each field of a scenario stands somewhere.
const everyField = `ironweir: scenario/1
name: every-field
about: "Says \"all\": it is long"
start: 2026-03-02T06:30:00.5+01:00
length: 2d3h
warm-up: 1h30m
seed: 7
replications: 3
breakdowns: drawn
traffic:
  steady: {into: quay, rate: 40/h, key: "in/{seq}.csv", type: "manifest", size: 2KB, max: 500}
  even: {into: quay, rate: 7/m, arrivals: even, events: [{file: a.json, weight: 3}, {data: {lines: [1, "2", true, null]}, type: b, source: s, subject: x, extensions: {lane: "3", tries: 3, late: true}}]}
  bursts: {into: quay, rate: 1/s, arrivals: {burst: {on: 1m, off: 9m, rate: 20/s}}}
  curve: {into: quay, arrivals: {curve: [[0h, 10/h], [8h30m, 90/h]]}}
  file: {into: quay, arrivals: {replay: monday.csv}}
  here: {into: quay, arrivals: {replay: [{at: 12.5s, key: in/1.csv, type: t, id: "7", source: s, size: 5B, extensions: {lane: 4}, data: [1.5]}, {at: 13s}]}}
incidents:
  fails: {at: 1h, for: 30m0.25s, node: clerk, fails: 35%, reads: true}
  slow: {at: 1h, node: clerk, slow: 2.5}
  few: {at: 1h, node: clerk, concurrency: 0}
  stopped: {at: 1h, node: clerk, stopped: true}
  crash: {at: 90s, node: clerk, crash: true}
  group: {at: 1h, group: island, fails: 100%}
  paused: {at: 1h, link: "quay:a", paused: true}
  off: {at: 1h, link: "quay:a", enabled: false}
  back: {at: 3h, send-back: {from: parked, to: quay, rate: 5/s}}
  again: {at: 3h, rewind: {link: "log:a", by: 2h}}
expect:
  none-lost: run.lost == 0
`

const scenarioModel = `ironweir: topology/1
name: m
nodes:
  quay: {kind: queue, links: {a: {to: clerk, dead-letter: parked}}}
  parked: {kind: queue}
  clerk: {kind: function}
  log: {kind: stream, rate: 1/s, links: {a: {to: clerk}}}
fails-together: {island: [clerk, quay]}
`

// What is written of a scenario is read as the same scenario, of each field of it.
func TestScenariosAreWrittenWhole(t *testing.T) {
	topology, err := model.Parse("m.yaml", []byte(scenarioModel), model.Options{})
	require.NoError(t, err)
	whole, err := model.ParseScenario("s.yaml", []byte(everyField), topology)
	require.NoError(t, err)
	set := map[string]bool{}
	fieldsOf(reflect.ValueOf(*whole), set)
	for field, is := range set {
		require.True(t, is, "%s is nowhere in the scenario of this test", field)
	}
	sameWhenWritten(t, whole, topology)

	kittiwake := readFile(t, "kittiwake.yaml")
	topology, err = model.Parse("kittiwake.yaml", kittiwake, model.Options{})
	require.NoError(t, err)
	for _, name := range []string{"friday-evening", "quiet-tuesday", "registry-down", "spring-clock-change"} {
		s, err := model.ParseScenario(name, readFile(t, name+".yaml"), topology)
		require.NoError(t, err)
		sameWhenWritten(t, s, topology)
	}
}

func readFile(t *testing.T, name string) []byte {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("../../demo", name))
	require.NoError(t, err)
	return text
}

func sameWhenWritten(t *testing.T, s *model.Scenario, topology *model.Topology) {
	t.Helper()
	text := model.WriteScenario(s)
	again, err := model.ParseScenario(s.File, []byte(text), topology)
	require.NoError(t, err, text)
	require.True(t, s.Start.Equal(again.Start))
	again.Start = s.Start
	again.TrafficGiven = s.TrafficGiven // it is always written
	for _, x := range []*model.Scenario{s, again} {
		withoutPlaces(reflect.ValueOf(x))
	}
	require.Equal(t, s, again, text)
}

// withoutPlaces clears where things stand in a file.
func withoutPlaces(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			withoutPlaces(v.Elem())
		}
	case reflect.Slice:
		for k := range v.Len() {
			withoutPlaces(v.Index(k))
		}
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[model.Position]() {
			if v.CanSet() {
				v.SetZero()
			}
			return
		}
		for k := range v.NumField() {
			if v.Type().Field(k).IsExported() {
				withoutPlaces(v.Field(k))
			}
		}
	}
}

// fieldsOf notes, for each field of the types of a scenario, whether it is set anywhere.
func fieldsOf(v reflect.Value, set map[string]bool) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			fieldsOf(v.Elem(), set)
		}
	case reflect.Slice:
		for k := range v.Len() {
			fieldsOf(v.Index(k), set)
		}
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[model.Value]() || v.Type() == reflect.TypeFor[model.Position]() ||
			v.Type().PkgPath() == "time" {
			return
		}
		for k := range v.NumField() {
			name := v.Type().Name() + "." + v.Type().Field(k).Name
			set[name] = set[name] || !v.Field(k).IsZero()
			fieldsOf(v.Field(k), set)
		}
	}
}
