package store

import (
	"context"

	"gorm.io/gorm/clause"
)

// Place is where a node was put on the board of its model, in pixels of the board.
type Place struct {
	ModelID int64   `json:"-" gorm:"primaryKey"`
	Node    string  `json:"-" gorm:"primaryKey"`
	X       float64 `json:"x" minimum:"-1000000" maximum:"1000000"`
	Y       float64 `json:"y" minimum:"-1000000" maximum:"1000000"`
}

// MostPlaces is how many nodes of a model are put by hand at most.
const MostPlaces = 10_000

// Places gives where the nodes of a model were put by hand, by name.
func (s *Store) Places(ctx context.Context, w *Workspace, model string) (map[string]Place, error) {
	m, err := s.Model(ctx, w, model)
	if err != nil {
		return nil, err
	}
	var list []Place
	if err := s.db.WithContext(ctx).Where("model_id = ?", m.ID).Find(&list).Error; err != nil {
		return nil, mapError(err)
	}
	out := make(map[string]Place, len(list))
	for _, p := range list {
		out[p.Node] = p
	}
	return out, nil
}

// PutNodes puts nodes of a model, and releases others; ErrTooMany says that there would be too many.
func (s *Store) PutNodes(
	ctx context.Context, w *Workspace, model string, places map[string]Place, release []string,
) error {
	return s.place(ctx, w, model, func(tx transaction, m *Model) error {
		if len(release) > 0 {
			if err := tx.Where("model_id = ? AND node IN ?", m.ID, release).Delete(&Place{}).Error; err != nil {
				return err
			}
		}
		var put []Place
		for node, p := range places {
			put = append(put, Place{m.ID, node, p.X, p.Y})
		}
		if len(put) == 0 {
			return nil
		}
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(put, 1000).Error; err != nil {
			return err
		}
		var count int64
		if err := tx.Model(&Place{}).Where("model_id = ?", m.ID).Count(&count).Error; err != nil {
			return err
		}
		if count > MostPlaces {
			return ErrTooMany
		}
		return nil
	})
}

// ReleaseNodes forgets where the nodes of a model were put.
func (s *Store) ReleaseNodes(ctx context.Context, w *Workspace, model string) error {
	return s.place(ctx, w, model, func(tx transaction, m *Model) error {
		return tx.Where("model_id = ?", m.ID).Delete(&Place{}).Error
	})
}

// place changes the places of a model, and notes when.
func (s *Store) place(ctx context.Context, w *Workspace, model string, do func(tx transaction, m *Model) error) error {
	return s.alter(ctx, change{workspace: w.Name, action: "place-nodes", object: model}, func(tx transaction) error {
		m := &Model{}
		err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("workspace_id = ? AND name = ?", w.ID, model).Take(m).Error
		if err != nil {
			return err
		}
		if err := do(tx, m); err != nil {
			return err
		}
		return tx.Model(m).Update("placed_at", tx.NowFunc()).Error
	})
}
