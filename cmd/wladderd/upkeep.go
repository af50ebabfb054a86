package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"time"

	"wladder/core/record"
	"wladder/core/written"
	"wladder/engine"
	"wladder/store"
	"wladder/tell"
)

// watchKept seals anew what an older key sealed, and takes away what nobody can go
// back to any more, here and on hosts, now and then.
func watchKept(ctx context.Context, log *slog.Logger, st *store.Store, e *engine.Engine, kept time.Duration) {
	for tick := time.NewTicker(time.Hour); ; {
		if n, err := st.Reseal(ctx); err != nil && ctx.Err() == nil {
			log.Warn("not all is sealed with the new key yet", "error", err)
		} else if n > 0 {
			log.Info("all is sealed with the new key", "anew", n)
		}
		if err := prune(ctx, log, st, e, kept); err != nil && ctx.Err() == nil {
			log.Warn("what is older than it has to be kept stays for now", "error", err)
		}
		if err := st.ForgetAnswers(ctx); err != nil && ctx.Err() == nil {
			log.Warn("answers kept for requests that are sent again stay for now", "error", err)
		}
		if late, err := st.NoteOverdue(ctx); err != nil && ctx.Err() == nil {
			log.Warn("what was approved in an emergency and waits for its review is not known", "error", err)
		} else if len(late) > 0 {
			log.Warn("nobody has reviewed in time what was approved in an emergency", "changes", late)
		}
		select {
		case <-ctx.Done():
			tick.Stop()
			return
		case <-tick.C:
		}
	}
}

// prune takes away what nobody has to keep any longer, as policy says, or else kept.
func prune(ctx context.Context, log *slog.Logger, st *store.Store, e *engine.Engine, kept time.Duration) error {
	files, steps, err := st.Keeps(ctx, kept)
	if err != nil {
		return err
	}
	gone := func(what string, take func() (int64, error)) {
		n, wrong := take()
		if n > 0 {
			log.Info("older than it is kept, and gone", what, n)
		}
		err = errors.Join(err, wrong)
	}
	gone("contents", func() (int64, error) { return st.Prune(ctx, files) })
	gone("hosts", func() (int64, error) { return e.Sweep(ctx, files) })
	if steps > 0 {
		gone("steps", func() (int64, error) { return st.PruneSteps(ctx, steps) })
	}
	return err
}

// How often all of the record is read, and its end told to who keeps that elsewhere.
const recordEvery = 10 * time.Minute

// checkpoints signs where a record ends; *store.Store is one.
type checkpoints interface {
	Checkpoint(ctx context.Context) (record.Checkpoint, error)
}

// watchRecord reads the whole record now and then, signs where it ends, and tells it to
// the log and, where there is a URL, there.
func watchRecord(ctx context.Context, log *slog.Logger, st checkpoints, every time.Duration, to string) {
	for tick := time.NewTicker(every); ; {
		select {
		case <-ctx.Done():
			tick.Stop()
			return
		case <-tick.C:
		}
		end, err := st.Checkpoint(ctx)
		if err != nil {
			if ctx.Err() == nil {
				log.Error("the record", "error", err)
			}
			continue
		}
		log.Info("record checkpoint", "seq", end.Seq, "hash", end.Hash, "at", end.At, "signature", end.Signature)
		if to == "" {
			continue
		}
		if err := deliver(ctx, to, end); err != nil && ctx.Err() == nil {
			log.Error("a record checkpoint was not taken; the next one is sent all the same", "error", err)
		}
	}
}

// receiver tells what is wrong with a URL to which checkpoints or traces are to go.
func receiver(text string) error {
	if err := written.PrivateURL(text); err != nil {
		return err
	}
	if u, err := url.Parse(text); err == nil && u.User != nil {
		return errors.New("holds a name or a password, which the list of processes would show")
	}
	return nil
}

// deliver sends a checkpoint as a CloudEvent. Whoever takes it checks the signature, not the way
// by which it came.
func deliver(ctx context.Context, to string, c record.Checkpoint) error {
	return tell.Post(ctx, to, tell.Event{ID: fmt.Sprintf("%d-%d", c.Seq, c.At.UnixMicro()), Type: "wladder.record.checkpoint", Subject: c.Key, Time: c.At, Data: c}, nil)
}
