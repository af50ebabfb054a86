package store

import (
	"bytes"
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// Answered is what a request was answered that must not happen twice.
type Answered struct {
	Status int
	Kind   string // of the body: its media type
	Body   []byte
}

// answeredFor is how long answers are kept.
const answeredFor = 24 * time.Hour

// Begin notes that a request is being carried out under a key of the caller's. Where it was
// before, its answer is given instead; request is SHA-256 over what is asked.
func (s *Store) Begin(ctx context.Context, account, key string, request []byte) (*Answered, error) {
	tag, err := s.pool.Exec(ctx, `insert into answered (account, key, request) values ($1, $2, $3) on conflict do nothing`, account, key, request)
	if err != nil || tag.RowsAffected() == 1 {
		return nil, err
	}
	var was Answered
	var asked []byte
	var at time.Time
	err = s.pool.QueryRow(ctx, `select request, status, kind, body, at from answered where account = $1 and key = $2`, account, key).Scan(&asked, &was.Status, &was.Kind, &was.Body, &at)
	switch {
	case errors.Is(err, pgx.ErrNoRows): // given back meanwhile
		return nil, conflict("a request with this Idempotency-Key has just failed; send it again")
	case err != nil:
		return nil, err
	case !bytes.Equal(asked, request):
		return nil, unfit("this Idempotency-Key was used for another request; use a new one for each")
	case was.Status == 0:
		return nil, conflict("a request with this Idempotency-Key was begun at %s, and how it ended is not known yet; look at how things stand before you send it with a new key", at.UTC().Format("15:04:05 UTC"))
	}
	return &was, nil
}

// End notes what a request was answered; one that came to nothing may be sent again.
func (s *Store) End(ctx context.Context, account, key string, a Answered) error {
	if a.Status >= 500 {
		_, err := s.pool.Exec(ctx, `delete from answered where account = $1 and key = $2`, account, key)
		return err
	}
	_, err := s.pool.Exec(ctx, `update answered set status = $3, kind = $4, body = $5 where account = $1 and key = $2`, account, key, a.Status, a.Kind, orEmpty(a.Body))
	return err
}

// ForgetAnswers takes away answers that are older than they are kept.
func (s *Store) ForgetAnswers(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, `delete from answered where at < now() - $1::interval`, answeredFor)
	return err
}
