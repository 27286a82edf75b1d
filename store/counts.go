package store

import "context"

// Counts is how much there is.
type Counts struct {
	Runs, Parts    map[string]int64 // by state
	OldestQueued   float64          // seconds; 0: none waits
	Workers, Slots int64
	Bytes          int64 // of the database
}

// Counts counts what operators watch.
func (s *Store) Counts(ctx context.Context) (*Counts, error) {
	n := &Counts{
		Runs:  map[string]int64{Queued: 0, Running: 0, Done: 0, Failed: 0, Cancelled: 0},
		Parts: map[string]int64{Queued: 0, Running: 0},
	}
	for query, into := range map[string]map[string]int64{
		"SELECT state, count(*) FROM runs GROUP BY state":                            n.Runs,
		"SELECT state, count(*) FROM run_parts WHERE state <> 'done' GROUP BY state": n.Parts,
	} {
		rows, err := s.pool.Query(ctx, query)
		if err != nil {
			return nil, mapError(err)
		}
		for rows.Next() {
			var state string
			var count int64
			if err := rows.Scan(&state, &count); err != nil {
				return nil, mapError(err)
			}
			into[state] = count
		}
		if err := rows.Err(); err != nil {
			return nil, mapError(err)
		}
	}
	err := s.pool.QueryRow(
		ctx,
		`SELECT coalesce(extract(epoch FROM now() - (SELECT min(created_at) FROM runs WHERE state = 'queued'))::float8, 0),
		(SELECT count(*) FROM workers w WHERE `+alive+`w.id)), coalesce((SELECT sum(slots) FROM workers w WHERE `+alive+`w.id)), 0), pg_database_size(current_database())`,
	).
		Scan(
			&n.OldestQueued,
			&n.Workers,
			&n.Slots,
			&n.Bytes,
		)
	return n, mapError(err)
}
