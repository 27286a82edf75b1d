package service

import (
	"context"
	"errors"
	"fmt"

	"ironweir/demo"
	"ironweir/store"
)

// LoadDemo keeps the demo's models and scenarios, those that are not there yet.
// A model that somebody has changed stays as it is.
func LoadDemo(ctx context.Context, s *store.Store) error {
	w, err := s.EnsureWorkspace(ctx)
	if err != nil {
		return err
	}
	for _, name := range demo.Models {
		text, err := demo.Files.ReadFile(name + ".yaml")
		if err != nil {
			return err
		}
		found, err := checkHere(ctx, &textNamed{name + ".yaml", string(text)})
		if err != nil {
			return fmt.Errorf("demo model %s: %w", name, err)
		}
		r := found.revision(string(text), "the demo", "demo")
		err = s.CreateModel(ctx, w, name, r, store.Idempotency{})
		if errors.Is(err, store.ErrConflict) {
			continue
		}
		if err != nil {
			return err
		}
		for _, scenario := range demo.Scenarios {
			text, err := demo.Files.ReadFile(scenario + ".yaml")
			if err != nil {
				return err
			}
			if err := s.SaveText(ctx, store.Scenarios, w, name, scenario, string(text)); err != nil {
				return err
			}
		}
	}
	for _, name := range demo.Variants {
		text, err := demo.Files.ReadFile("variants/" + name + ".yaml")
		if err != nil {
			return err
		}
		mended := demo.Models[len(demo.Models)-1]
		_, err = s.Text(ctx, store.Variants, w, mended, name)
		if errors.Is(err, store.ErrNotFound) {
			err = s.SaveText(ctx, store.Variants, w, mended, name, string(text))
		}
		if err != nil {
			return err
		}
	}
	return nil
}
