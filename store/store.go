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
	"io"
	"io/fs"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"

	"wladder/core/cache"
	"wladder/core/policy"
	"wladder/core/record"
	"wladder/core/view"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is an open database. While it is open, it chains what happens.
type Store struct {
	// OwnClimbs is policy: an author who is an operator may start their own climb.
	OwnClimbs bool
	// Clock is the time by which approvals end, and windows open; time.Now where it is nil.
	Clock func() time.Time

	broken   atomic.Pointer[record.Broken] // why nothing goes forward
	origin   atomic.Int64                  // one more than the last entry without a seal; 0 where it was not read
	headMu   sync.Mutex
	headFile string       // beside the key
	headKept record.Chain // in it

	pool   *pgxpool.Pool
	leases *pgxpool.Pool // connections of its own: renewing waits for nothing else
	views  *pgxpool.Pool // and so people who look do not wait behind hundreds of hosts

	keys     atomic.Pointer[Keys]
	keyFile  string
	changing sync.Mutex // the keys

	poked  chan struct{}
	cancel context.CancelFunc
	ended  sync.WaitGroup

	plans      *cache.Cache[int64, *Plan]           // that were read and checked
	rehearsals *cache.Cache[int64, *view.Rehearsal] // that have ended, as they are shown
	policies   *cache.Cache[policyTold, *policy.Policy]
	labels     *cache.Cache[int64, []map[string]string] // of the hosts of plans
}

// Conflict tells that something is no longer as the caller thought.
type Conflict struct{ What string }

func (c *Conflict) Error() string { return c.What }

func conflict(format string, args ...any) error { return &Conflict{fmt.Sprintf(format, args...)} }

// NotPermitted tells that somebody may not do what they asked for, and who may.
type NotPermitted struct{ What string }

func (n *NotPermitted) Error() string { return n.What }

func notPermitted(format string, args ...any) error {
	return &NotPermitted{fmt.Sprintf(format, args...)}
}

// NotFound tells that there is no such thing: "change 99", without an article.
type NotFound struct{ What string }

func (n *NotFound) Error() string { return "there is no " + n.What }

// Transient tells whether an error is the database's and may pass: it went away,
// was full or busy, or had to choose between two. What it says of our own
// statements, and what this package says, stays as it is.
func Transient(err error) bool {
	var pg *pgconn.PgError
	var connect *pgconn.ConnectError
	var network net.Error
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return false
	case errors.As(err, &pg):
		class := pg.Code[:min(2, len(pg.Code))]
		return class != "22" && class != "23" && class != "42" // data, integrity, syntax: our mistake
	}
	return errors.As(err, &connect) || errors.As(err, &network) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, net.ErrClosed) || pgconn.SafeToRetry(err) || errors.Is(err, context.DeadlineExceeded)
}

// Unstorable tells that the database refuses what we gave it: a value that no column can
// hold.
func Unstorable(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (strings.HasPrefix(pg.Code, "22") || strings.HasPrefix(pg.Code, "54"))
}

// Open connects and brings the schema up to date, under an advisory lock.
func Open(ctx context.Context, url string, key Key) (*Store, error) {
	return OpenWith(ctx, url, key.Alone())
}

// Migrate gives a database the tables of this version. Open does so by itself.
func Migrate(ctx context.Context, url string) error {
	db, err := sql.Open("pgx", url)
	if err != nil {
		return err
	}
	defer db.Close()
	return migrate(ctx, db)
}

// OpenWith opens with keys that were changed.
func OpenWith(ctx context.Context, url string, keys Keys) (*Store, error) {
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
	few := config.Copy()
	few.MaxConns = 2
	leases, err := pgxpool.NewWithConfig(ctx, few)
	if err != nil {
		pool.Close()
		return nil, err
	}
	some := config.Copy()
	some.MaxConns = 4
	views, err := pgxpool.NewWithConfig(ctx, some)
	if err != nil {
		leases.Close()
		pool.Close()
		return nil, err
	}
	s := &Store{pool: pool, leases: leases, views: views, poked: make(chan struct{}, 1), plans: cache.New[int64, *Plan](plansKept), rehearsals: cache.New[int64, *view.Rehearsal](plansKept),
		policies: cache.New[policyTold, *policy.Policy](plansKept), labels: cache.New[int64, []map[string]string](plansKept)}
	s.keys.Store(&keys)
	if err := s.begin(ctx); err != nil {
		views.Close()
		leases.Close()
		pool.Close()
		return nil, err
	}
	appending, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.cancel = cancel
	s.ended.Go(func() { s.appendAlways(appending) })
	return s, nil
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

// Close chains what has happened, as far as that goes at once, and ends all
// connections.
func (s *Store) Close() {
	s.cancel()
	s.ended.Wait()
	last, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	s.AppendRecord(last) // else the next server does
	s.leases.Close()
	s.views.Close()
	s.pool.Close()
}

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

// column reads the only column of all rows.
func column[T any](ctx context.Context, q querier, sql string, args ...any) ([]T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[T])
}

// lax is many where the rows lack some of T's fields, which stay zero.
func lax[T any](ctx context.Context, q querier, sql string, args ...any) ([]T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByNameLax[T])
}

// utc gives a time without its monotonic part, as the database would.
func utc(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	u := t.UTC()
	return &u
}
