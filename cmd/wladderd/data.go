package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"wladder/host"
	"wladder/store"
	"wladder/store/postmaster"
)

// holdings are what lies in the server's directory: who holds them works alone there.
type holdings struct {
	keys   store.Keys
	dialer *host.Dialer
}

// dataKeys reads the keys of the server's directory, and makes those that are not there yet.
func dataKeys(c config) (h holdings, err error) {
	if err := os.MkdirAll(c.data, 0o711); err != nil {
		return h, err
	}
	if err := errors.Join(checkOwner(c.data), checkData(c.data)); err != nil {
		return h, err
	}
	if h.keys, err = store.LoadKeys(filepath.Join(c.data, "key")); err != nil {
		return h, err
	}
	signer, err := host.LoadSigner(filepath.Join(c.data, "ssh_key"))
	if err != nil {
		return h, err
	}
	others, err := credentials(c.credentials)
	h.dialer = &host.Dialer{Signer: signer, Credentials: others}
	return h, err
}

// opened opens the database of a server, and starts the server's own where none is named; done ends
// that and lets others at the directory.
func opened(ctx context.Context, c config, log *slog.Logger) (h holdings, st *store.Store, done func(), err error) {
	var undo []func()
	done = func() {
		for i := len(undo) - 1; i >= 0; i-- {
			undo[i]()
		}
	}
	defer func() {
		if err != nil {
			done()
		}
	}()
	if h, err = dataKeys(c); err != nil {
		return h, nil, done, err
	}
	unlock, err := lock(c.data)
	if err != nil {
		return h, nil, done, err
	}
	undo = append(undo, unlock)
	if c.database == "" {
		pg, err := postmaster.Start(ctx, postmaster.Config{Dir: filepath.Join(c.data, "postgres"), Log: log})
		if err != nil {
			return h, nil, done, err
		}
		undo = append(undo, func() { pg.Stop() })
		if err := pg.Make(ctx, "wladder"); err != nil {
			return h, nil, done, err
		}
		c.database = pg.URL("wladder")
	}
	if h.keys, err = store.FitKeys(ctx, filepath.Join(c.data, "key"), c.database); err != nil {
		return h, nil, done, err
	}
	if st, err = store.OpenWith(ctx, c.database, h.keys); err != nil {
		return h, nil, done, err
	}
	undo = append(undo, st.Close)
	st.KeepKeys(filepath.Join(c.data, "key"))
	st.OwnClimbs = c.ownClimbs
	return h, st, done, nil
}

// lock keeps others off the server's data while this one works with it.
func lock(data string) (unlock func(), err error) {
	f, err := os.OpenFile(filepath.Join(data, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		var process [20]byte
		n, _ := f.Read(process[:])
		f.Close()
		return nil, fmt.Errorf("another wladderd works with %s (process %s); what is to be done there is done through it", data, strings.TrimSpace(string(process[:n])))
	}
	f.Truncate(0)
	fmt.Fprintf(f, "%d\n", os.Getpid())
	return func() { f.Close() }, nil
}

// held tells whether a server works with a directory.
func held(data string) bool {
	f, err := os.Open(filepath.Join(data, "lock"))
	if err != nil {
		return false
	}
	defer f.Close()
	return syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB) != nil
}
