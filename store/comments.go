package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"

	"wladder/core/render"
	"wladder/core/view"
)

// What bounds comments: the bytes of one, and how many a change has.
const (
	longestComment = 8000
	mostComments   = 1000
)

// commented is what is sealed of a comment.
type commented struct {
	Text string `json:"text"`
	Line string `json:"line"` // of the diff that it is about
}

func commentName(id int64) string { return fmt.Sprintf("comment %d", id) }

// Comment keeps what somebody says of a line of a diff group, of the whole change, or in
// answer to a comment, and gives its number.
func (s *Store) Comment(ctx context.Context, actor string, id int64, c view.NewComment) (number int64, err error) {
	text := strings.TrimSpace(c.Text)
	if text == "" || len(text) > longestComment || !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
		return 0, unfit("text: want some words, at most %d bytes", longestComment)
	}
	err = s.review(ctx, actor, id, c.Digest, func(tx pgx.Tx, r *reviewing) error {
		var so int
		if err := tx.QueryRow(ctx, `select count(*) from comments where change = $1`, id).Scan(&so); err != nil {
			return err
		}
		if so >= mostComments {
			return conflict("change %d has %d comments; no more are taken", id, so)
		}
		kept := commented{Text: text}
		var thread *int64
		switch {
		case c.To != 0 && (c.Group != "" || c.Line != 0):
			return unfit("want either a line, or the comment that this answers")
		case c.To != 0:
			var first int64
			var settled bool
			err := tx.QueryRow(ctx, `select coalesce(f.thread, f.id), (select t.settled_by is not null from comments t where t.id = coalesce(f.thread, f.id)) from comments f where f.id = $1 and f.change = $2`, c.To, id).Scan(&first, &settled)
			if err == pgx.ErrNoRows {
				return &NotFound{fmt.Sprintf("comment %d of change %d", c.To, id)}
			} else if err != nil {
				return err
			}
			if settled {
				return conflict("the thread of comment %d is settled; begin another", c.To)
			}
			thread = &first
		case c.Group != "":
			found, err := s.newestRehearsal(ctx, tx, id)
			if err != nil {
				return err
			}
			if kept.Line, err = lineOf(found, c); err != nil {
				return err
			}
		case c.File != "" || c.Line != 0:
			return unfit("group: is empty; say of which diff group the line is")
		}
		if err := tx.QueryRow(ctx, `select nextval(pg_get_serial_sequence('comments', 'id'))`).Scan(&number); err != nil {
			return err
		}
		data, err := json.Marshal(kept)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into comments (id, change, digest, grp, file, line, old, thread, account, sealed) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`,
			number, id, r.Digest, c.Group, c.File, c.Line, c.Old, thread, actor, s.key().pack(commentName(number), data)); err != nil {
			return err
		}
		told := map[string]any{"comment": number, "digest": r.Digest}
		if thread != nil {
			told["to"] = *thread
		}
		return s.happened(ctx, tx, actor, "change.commented", id, subject(id), told)
	})
	return number, err
}

// lineOf gives the line of a diff group's diff that a comment is about.
func lineOf(r *view.Rehearsal, c view.NewComment) (string, error) {
	for _, g := range r.Groups {
		if g.Key != c.Group {
			continue
		}
		if c.Line == 0 && c.File == "" {
			return "", nil // of the group as a whole
		}
		for _, l := range render.Lines(g.Diff) {
			if l.File == c.File && c.Line > 0 && l.Number(c.Old) == c.Line {
				return string(l.Sign) + l.Text, nil
			}
		}
		return "", unfit("the diff of group %s does not show line %d of %s; a comment is about a line that it shows", c.Group, c.Line, c.File)
	}
	return "", &NotFound{"diff group " + c.Group}
}

// Settle ends a thread of comments: by whoever began it, or an author of the change.
func (s *Store) Settle(ctx context.Context, actor string, id, number int64) error {
	return s.review(ctx, actor, id, "", func(tx pgx.Tx, r *reviewing) error {
		var by string
		var settled, answer bool
		err := tx.QueryRow(ctx, `select account, settled_by is not null, thread is not null from comments where id = $1 and change = $2 for update`, number, id).Scan(&by, &settled, &answer)
		switch {
		case err == pgx.ErrNoRows:
			return &NotFound{fmt.Sprintf("comment %d of change %d", number, id)}
		case err != nil:
			return err
		case answer:
			return conflict("comment %d is an answer; settle the comment that began its thread", number)
		case settled:
			return nil
		case by != actor && !r.wrote:
			return notPermitted("comment %d is %s's; they settle it, or an author of the change", number, by)
		}
		if _, err := tx.Exec(ctx, `update comments set settled_by = $2, settled_at = now() where id = $1`, number, actor); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "comment.settled", id, subject(id), map[string]any{"comment": number})
	})
}

// commentRow is how the database gives a comment.
type commentRow struct {
	ID                         int64
	Digest, Grp, File, Account string
	Line                       int
	Old                        bool
	Thread                     *int64
	Sealed                     []byte
	At                         time.Time
	SettledBy                  *string
	SettledAt                  *time.Time
}

const commentsOfChange = `select id, digest, grp, file, account, line, old, thread, sealed, at, settled_by, settled_at from comments where change = $1 order by coalesce(thread, id), id`

// commentsOf gives comments of a change, the oldest first, answers behind what they answer.
func (s *Store) commentsOf(rows []commentRow) ([]view.Comment, error) {
	all := make([]view.Comment, len(rows))
	for i, r := range rows {
		data, err := s.unpack(commentName(r.ID), r.Sealed)
		if err != nil {
			return nil, err
		}
		var kept commented
		if err := json.Unmarshal(data, &kept); err != nil {
			return nil, err
		}
		all[i] = view.Comment{ID: r.ID, Digest: r.Digest, Group: r.Grp, File: r.File, Line: r.Line, Old: r.Old, Quote: kept.Line, Account: r.Account, Text: kept.Text, At: r.At.UTC(), SettledAt: utc(r.SettledAt)}
		if r.Thread != nil {
			all[i].To = *r.Thread
		}
		if r.SettledBy != nil {
			all[i].SettledBy = *r.SettledBy
		}
	}
	return all, nil
}
