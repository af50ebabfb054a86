package store

import (
	"context"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// gather reads several things in one round trip, all as of one moment, so that a summary of many
// parts waits for the database once, not for each of them.
type gather struct{ batch pgx.Batch }

// gathered has the rows of a query be read into a list; row says how.
func gathered[T any](g *gather, into *[]T, row pgx.RowToFunc[T], sql string, args ...any) {
	g.batch.Queue(sql, args...).Query(func(rows pgx.Rows) (err error) {
		*into, err = pgx.CollectRows(rows, row)
		return err
	})
}

func (g *gather) read(ctx context.Context, pool *pgxpool.Pool) error {
	var whole pgx.Batch
	whole.Queue(`begin isolation level repeatable read read only`)
	whole.Queue(`set local plan_cache_mode = force_generic_plan`) // planning so many takes longer than most of them
	whole.QueuedQueries = append(whole.QueuedQueries, g.batch.QueuedQueries...)
	whole.Queue(`commit`)
	return pool.SendBatch(ctx, &whole).Close() // where it fails midway, the connection is not used again
}
