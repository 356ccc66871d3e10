package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"verimorph/core/change"
)

// learntKept is how many durations of a kind of step on a model are looked at; older ones say little and are dropped.
const learntKept = 200

// StepSeconds are how long steps took on devices of a model, by kind, newest first, at most limit of each kind. Steps that nobody carried
// for a while do not count. A table holds them, which a trigger keeps when a step ends.
func (s *Store) StepSeconds(ctx context.Context, model string, limit int) (map[string][]float64, error) {
	var kinds []string
	for i := range change.Kinds {
		kinds = append(kinds, string(change.Kinds[i].Kind))
	}
	rows, err := s.db.Query(ctx, `SELECT k.kind, l.seconds FROM unnest($2::text[]) AS k (kind),
		LATERAL (SELECT seconds FROM learnt_durations WHERE model = $1 AND kind = k.kind ORDER BY ended_at DESC LIMIT $3) l`, model, kinds, min(limit, learntKept))
	if err != nil {
		return nil, err
	}
	out := map[string][]float64{}
	var kind string
	var seconds float64
	_, err = pgx.ForEachRow(rows, []any{&kind, &seconds}, func() error { out[kind] = append(out[kind], seconds); return nil })
	return out, err
}

// ForgetDurations drops what is older than what StepSeconds looks at.
func (s *Store) ForgetDurations(ctx context.Context) error {
	_, err := s.db.Exec(ctx, `DELETE FROM learnt_durations l USING (
			SELECT model, kind, ended_at FROM (SELECT model, kind, ended_at, row_number() OVER (PARTITION BY model, kind ORDER BY ended_at DESC) AS n FROM learnt_durations) t WHERE n = $1) cut
		WHERE l.model = cut.model AND l.kind = cut.kind AND l.ended_at < cut.ended_at`, learntKept)
	return err
}
