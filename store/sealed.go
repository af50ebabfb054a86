package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"sync"

	"github.com/jackc/pgx/v5"

	"wladder/core/conf"
	"wladder/core/finding"
	"wladder/core/outline"
	"wladder/core/probe"
)

// What shows lines of files is sealed at rest, like the files: who reads the
// database alone, or a backup of it, learns which hosts changed and not to what.

// compressors are kept between uses: one holds near a megabyte, and making one for
// each note of a host run was a third of what a climb cost the server. What is short, as most notes
// are, is not compressed: making a compressor ready takes longer there than all the rest.
var long, short = compressors(gzip.DefaultCompression), compressors(gzip.NoCompression)

const shorter = 300 // bytes

func compressors(level int) *sync.Pool {
	return &sync.Pool{New: func() any {
		w, err := gzip.NewWriterLevel(nil, level)
		if err != nil {
			panic(err) // the levels are gzip's
		}
		return w
	}}
}

// pack compresses and seals data under a name.
func (k Key) pack(name string, data []byte) []byte {
	var zipped bytes.Buffer
	pool := long
	if len(data) < shorter {
		pool = short
	}
	w := pool.Get().(*gzip.Writer)
	defer pool.Put(w)
	w.Reset(&zipped)
	w.Write(data)
	w.Close()
	return k.seal(name, zipped.Bytes())
}

// unpack gives what pack was given under that name.
func (s *Store) unpack(name string, sealed []byte) ([]byte, error) {
	zipped, err := s.open(name, sealed)
	if err != nil {
		return nil, fmt.Errorf("%s %w", name, err)
	}
	r, err := gzip.NewReader(bytes.NewReader(zipped))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return io.ReadAll(r)
}

// shown is what a diff group shows of files.
type shown struct {
	Diff        string            `json:"diff"`
	Alterations []conf.Alteration `json:"alterations"`
	Findings    []finding.Finding `json:"findings"`
}

func shownName(rehearsal int64, key string) string {
	return fmt.Sprintf("diff %s of rehearsal %d", key, rehearsal)
}

func (s *Store) sealShown(rehearsal int64, key string, v shown) ([]byte, error) {
	v.Alterations, v.Findings = orEmpty(v.Alterations), orEmpty(v.Findings)
	data, err := json.Marshal(v)
	return s.key().pack(shownName(rehearsal, key), data), err
}

func (s *Store) openShown(rehearsal int64, key string, sealed []byte) (v shown, err error) {
	data, err := s.unpack(shownName(rehearsal, key), sealed)
	if err == nil {
		err = json.Unmarshal(data, &v)
	}
	return v, err
}

func outlineName(digest string) string { return "outline of plan " + digest }

// sealOutline seals what a plan comes to in words: people judge by it.
func (s *Store) sealOutline(digest string, o *outline.Outline) ([]byte, error) {
	data, err := json.Marshal(o)
	return s.key().pack(outlineName(digest), data), err
}

// openOutline gives it back; nil for a plan that was made before there were any.
func (s *Store) openOutline(digest string, sealed []byte) (o *outline.Outline, err error) {
	if len(sealed) == 0 {
		return nil, nil
	}
	data, err := s.unpack(outlineName(digest), sealed)
	if err == nil {
		err = json.Unmarshal(data, &o)
	}
	return o, err
}

func earlierName(run int64) string { return fmt.Sprintf("answers before host run %d", run) }

// sealEarlier seals the answers that verdicts keep, by their probes; nil where none does.
func (s *Store) sealEarlier(run int64, verdicts []probe.Verdict) ([]byte, error) {
	kept := map[string]map[string]any{}
	for _, v := range verdicts {
		if v.Answer != nil {
			kept[v.Probe] = v.Answer
		}
	}
	if len(kept) == 0 {
		return nil, nil
	}
	data, err := json.Marshal(kept)
	return s.key().pack(earlierName(run), data), err
}

// openEarlier gives verdicts the answers back that were kept.
func (s *Store) openEarlier(run int64, sealed []byte, verdicts []probe.Verdict) error {
	if len(sealed) == 0 {
		return nil
	}
	data, err := s.unpack(earlierName(run), sealed)
	if err != nil {
		return err
	}
	var kept map[string]json.RawMessage
	if err := json.Unmarshal(data, &kept); err != nil {
		return err
	}
	for i, v := range verdicts {
		if answer, there := kept[v.Probe]; there {
			if verdicts[i].Answer, err = probe.Kept(answer); err != nil {
				return err
			}
		}
	}
	return nil
}

func noteName(run int64, n int) string { return fmt.Sprintf("note %d of host run %d", n, run) }

// sealNote seals what was said at a step of a host run, as hexadecimal digits for a
// statement; what says nothing stays so.
func (s *Store) sealNote(run int64, n int, text string) string {
	if text == "" {
		return ""
	}
	return hex.EncodeToString(s.key().pack(noteName(run, n), []byte(text)))
}

func (s *Store) openNote(run int64, n int, sealed []byte) (string, error) {
	if len(sealed) == 0 {
		return "", nil
	}
	text, err := s.unpack(noteName(run, n), sealed)
	return string(text), err
}

// sealOld seals what stood open in a database of before, and drops its columns.
func (s *Store) sealOld(ctx context.Context, tx pgx.Tx) error {
	var old bool
	if err := tx.QueryRow(ctx, `select exists (select from information_schema.columns where table_schema = current_schema() and table_name = 'steps' and column_name = 'note')`).Scan(&old); err != nil || !old {
		return err
	}
	type group struct {
		Rehearsal int64
		Key       string
		shown
	}
	for {
		some, err := many[group](ctx, tx, `select rehearsal, key, diff, alterations, findings from diff_groups where sealed is null limit 200`)
		if err != nil {
			return err
		}
		if len(some) == 0 {
			break
		}
		for _, g := range some {
			sealed, err := s.sealShown(g.Rehearsal, g.Key, g.shown)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `update diff_groups set sealed = $3, diff = null, alterations = null, findings = null where rehearsal = $1 and key = $2`, g.Rehearsal, g.Key, sealed); err != nil {
				return err
			}
		}
	}
	for {
		some, err := many[struct {
			Run  int64
			N    int
			Note string
		}](ctx, tx, `select host_run as run, n, note from steps where sealed is null and note is not null limit 1000`)
		if err != nil {
			return err
		}
		if len(some) == 0 {
			break
		}
		var batch pgx.Batch
		for _, row := range some {
			batch.Queue(`update steps set sealed = decode($3, 'hex'), note = null where host_run = $1 and n = $2`, row.Run, row.N, s.sealNote(row.Run, row.N, row.Note))
		}
		if err := tx.SendBatch(ctx, &batch).Close(); err != nil {
			return err
		}
	}
	for _, statement := range []string{
		`alter table diff_groups drop column diff, drop column alterations, drop column findings, alter column sealed set not null`,
		`alter table steps drop column note`,
		`alter table steps alter column sealed set default '', alter column sealed set not null`,
	} {
		if _, err := tx.Exec(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}
