package verify

import (
	"cmp"
	"fmt"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"pgregory.net/rapid"
)

// TestSurvey runs many random models and prints the shortest that contradict, by
// class; it is for work on the analysis (IRONWEIR_SURVEY=models, IRONWEIR_SEED=first,
// IRONWEIR_SYSTEMS=a generator, IRONWEIR_OF=guarantees).
func TestSurvey(t *testing.T) {
	n, _ := strconv.Atoi(os.Getenv("IRONWEIR_SURVEY"))
	if n == 0 {
		t.Skip("set IRONWEIR_SURVEY to a number of models")
	}
	first, _ := strconv.Atoi(os.Getenv("IRONWEIR_SEED"))
	only := os.Getenv("IRONWEIR_CLASS")
	gen := rapid.Custom(drawWhole)
	for _, by := range generators {
		if by.name == os.Getenv("IRONWEIR_SYSTEMS") {
			gen = rapid.Custom(by.draw)
		}
	}
	type found struct {
		text string
		c    Contradiction
		seed int
	}
	byClass := map[string][]found{}
	models, bad, claims := 0, 0, 0
	refused := map[string]int{}
	for seed := first; models < n; seed++ {
		text := gen.Example(seed)
		g, err := compiled(t, text)
		if err != nil {
			refused[err.Error()]++
			continue
		}
		models++
		hold, o := Model, Options{Length: 2 * time.Hour, Events: 60_000}
		if os.Getenv("IRONWEIR_OF") == "guarantees" {
			hold, o = Guarantees, Options{Length: time.Hour, Events: 20_000}
		}
		r, err := hold(g, o)
		if err != nil {
			t.Logf("%s\n%v", text, err)
			continue
		}
		claims += r.Claims
		if len(r.Contradictions) > 0 {
			bad++
		}
		for _, c := range r.Contradictions {
			byClass[c.Class] = append(byClass[c.Class], found{text, c, seed})
		}
	}
	fmt.Printf("%d of %d models contradict; %d claims; %d were no models\n", bad, models, claims, len(refused))
	for class, list := range byClass {
		fmt.Printf("== %s: %d\n", class, len(list))
		if only != "" && class != only {
			continue
		}
		slices.SortFunc(list, func(a, b found) int { return cmp.Compare(len(a.text), len(b.text)) })
		seen := 0
		for k, f := range list {
			if k > 0 && list[k-1].seed == f.seed {
				continue
			}
			if seen++; seen > 30 {
				break
			}
			fmt.Printf("-- seed %d: check says: %s; the run: %s\n%s", f.seed, f.c.Claim, f.c.Run, f.text)
		}
	}
}
