package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/core/view"
)

// RecordFilter picks entries of the record; the zero of each but Limit picks all.
type RecordFilter struct {
	Change       int64
	Host         string
	By           string // an account
	Since, Until time.Time
	Before       int64 // entries with a lower number
	Limit        int
}

// Told gives entries of the record in sentences, the newest first.
func (s *Store) Told(ctx context.Context, f RecordFilter) ([]view.Sentence, error) {
	names, err := s.displayed(ctx)
	if err != nil {
		return nil, err
	}
	subject := ""
	if f.Host != "" {
		subject = "host/" + f.Host
	}
	rows, err := s.views.Query(ctx, sealedColumns+`where ($1 = 0 or change = $1) and ($2 = '' or subject = $2) and ($3 = '' or actor = $3)
			and ($4::timestamptz is null or at >= $4) and ($5::timestamptz is null or at < $5) and ($6 = 0 or seq < $6) order by seq desc limit $7`,
		f.Change, subject, f.By, orNull(f.Since), orNull(f.Until), f.Before, f.Limit)
	all, err := sealedEntries(rows, err)
	told := make([]view.Sentence, len(all))
	for i, e := range all {
		told[i] = view.Sentence{Entry: e.Entry, Says: e.Sentence(names[e.Actor]), Change: e.change}
	}
	return told, err
}

// displayed gives the names of accounts as people know them.
func (s *Store) displayed(ctx context.Context) (map[string]string, error) {
	rows, err := s.views.Query(ctx, `select name, display from accounts`)
	if err != nil {
		return nil, err
	}
	names := map[string]string{}
	var name, display string
	_, err = pgx.ForEachRow(rows, []any{&name, &display}, func() error {
		names[name] = display
		return nil
	})
	return names, err
}
