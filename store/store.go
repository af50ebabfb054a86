// Package store keeps everything in PostgreSQL. What changes a state commits
// together with the record of it, and compares before it sets: where somebody
// else was first, it answers with a Conflict and changes nothing.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is an open database.
type Store struct {
	pool *pgxpool.Pool
	key  Key
}

// Conflict tells that something is no longer as the caller thought.
type Conflict struct{ What string }

func (c *Conflict) Error() string { return c.What }

func conflict(format string, args ...any) error { return &Conflict{fmt.Sprintf(format, args...)} }

// NotFound tells that there is no such thing.
type NotFound struct{ What string }

func (n *NotFound) Error() string { return n.What + " is not there" }

// Open connects and brings the schema up to date, under an advisory lock.
func Open(ctx context.Context, url string, key Key) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, err
	}
	config.MaxConns = max(config.MaxConns, 16)
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	if err := migrate(ctx, db); err != nil {
		pool.Close()
		return nil, fmt.Errorf("database: %w", err)
	}
	return &Store{pool, key}, nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	locker, err := lock.NewPostgresSessionLocker(lock.WithLockTimeout(1, 60))
	if err != nil {
		return err
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSessionLocker(locker))
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// Close ends all connections.
func (s *Store) Close() { s.pool.Close() }

// Ready tells whether the database answers.
func (s *Store) Ready(ctx context.Context) error { return s.pool.Ping(ctx) }

// tx runs f in one transaction.
func (s *Store) tx(ctx context.Context, f func(pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, s.pool, f)
}

type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

// one reads exactly one row into T by column names.
func one[T any](ctx context.Context, q querier, what, sql string, args ...any) (T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		var zero T
		return zero, err
	}
	v, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[T])
	if errors.Is(err, pgx.ErrNoRows) {
		err = &NotFound{what}
	}
	return v, err
}

// many reads all rows into T by column names.
func many[T any](ctx context.Context, q querier, sql string, args ...any) ([]T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[T])
}

// utc gives a time without its monotonic part, as the database would.
func utc(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	u := t.UTC()
	return &u
}
