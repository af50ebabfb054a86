package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"time"

	"wladder/core/record"
	"wladder/engine"
	"wladder/store"
)

// watchContents seals anew what an older key sealed, and takes away what nobody can go
// back to any more, here and on hosts, now and then.
func watchContents(ctx context.Context, log *slog.Logger, st *store.Store, e *engine.Engine) {
	for tick := time.NewTicker(time.Hour); ; {
		if n, err := st.Reseal(ctx); err != nil && ctx.Err() == nil {
			log.Warn("not all is sealed with the new key yet", "error", err)
		} else if n > 0 {
			log.Info("all is sealed with the new key", "anew", n)
		}
		if n, err := st.Prune(ctx, e.Kept); err != nil && ctx.Err() == nil {
			log.Warn("old contents stay for now", "error", err)
		} else if n > 0 {
			log.Info("old contents are gone", "contents", n)
		}
		if n, err := e.Sweep(ctx); err != nil && ctx.Err() == nil {
			log.Warn("what old host runs kept stays for now", "error", err)
		} else if n > 0 {
			log.Info("what old host runs kept is gone", "hosts", n)
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

// receiver tells what is wrong with a URL to which checkpoints are to go.
func receiver(text string) error {
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		return fmt.Errorf("-checkpoints-to: %q is no URL of https", text)
	case u.User != nil:
		return errors.New("-checkpoints-to: holds a name or a password, which the list of processes would show; a checkpoint is no secret, and is signed")
	case u.Scheme == "http":
		if at, err := netip.ParseAddr(u.Hostname()); u.Hostname() != "localhost" && (err != nil || !at.IsLoopback()) {
			return fmt.Errorf("-checkpoints-to: %s can be reached by others on the way; want https", text)
		}
	}
	return nil
}

// sender follows no redirection: a checkpoint goes where it was told to go.
var sender = &http.Client{Timeout: 20 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// deliver sends a checkpoint as a CloudEvent (CloudEvents 1.0, HTTP binding, structured
// mode). Whoever takes it checks the signature, not the way by which it came.
func deliver(ctx context.Context, to string, c record.Checkpoint) error {
	body, err := json.Marshal(map[string]any{
		"specversion": "1.0", "type": "wladder.record.checkpoint", "source": "wladderd", "subject": c.Key,
		"id": fmt.Sprintf("%d-%d", c.Seq, c.At.UnixMicro()), "time": c.At, "datacontenttype": "application/json", "data": c,
	})
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, "POST", to, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	res, err := sender.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10))
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return fmt.Errorf("%s answered %s", to, res.Status)
	}
	return nil
}
