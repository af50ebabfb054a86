package store

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// gather reads several things in one round trip, so that a summary of many parts waits for the
// database once, not for each of them.
type gather struct{ batch pgx.Batch }

// gathered has the rows of a query be read into a list; row says how.
func gathered[T any](g *gather, into *[]T, row pgx.RowToFunc[T], sql string, args ...any) {
	g.batch.Queue(sql, args...).Query(func(rows pgx.Rows) (err error) {
		*into, err = pgx.CollectRows(rows, row)
		return err
	})
}

func (g *gather) read(ctx context.Context, tx pgx.Tx) error {
	return tx.SendBatch(ctx, &g.batch).Close()
}
