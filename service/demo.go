package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ironweir/demo"
	"ironweir/store"
)

// LoadDemo keeps the demo's models and scenarios, those that are not there yet.
// A model that somebody has changed stays as it is.
func LoadDemo(ctx context.Context, s *store.Store) error {
	for _, name := range demo.Models {
		text, err := demo.Files.ReadFile(name + ".yaml")
		if err != nil {
			return err
		}
		checked, err := checkText(name+".yaml", string(text))
		if err != nil {
			return fmt.Errorf("demo model %s: %w", name, err)
		}
		sum := checked.Check.Summary
		err = s.CreateModel(ctx, name, &store.Revision{Text: string(text), Note: "the demo", Author: "demo", Errors: sum.Errors, Warnings: sum.Warnings, Notes: sum.Notes, CreatedAt: time.Now()})
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
			if err := s.SaveScenario(ctx, name, scenario, string(text)); err != nil {
				return err
			}
		}
	}
	return nil
}
