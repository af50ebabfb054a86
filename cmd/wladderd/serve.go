package main

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/net/netutil"

	"wladder/api"
	"wladder/console"
	"wladder/core/view"
	"wladder/directory"
	"wladder/engine"
	"wladder/host"
	"wladder/store"
	"wladder/tell"
	"wladder/trace"
	"wladder/version"
)

var serveCommand = command{"serve", "", "serve people and programs, and work on hosts, until told to end", plain(func(ctx context.Context, t *terminal, c config) error {
	log := c.logging(t.errs)
	h, st, done, err := opened(ctx, c, log)
	if err != nil {
		return err
	}
	defer done()
	if err := st.KeepHead(ctx, filepath.Join(c.data, "record-head")); err != nil { // hosts under way are finished all the same
		log.Error("nothing is approved or started", "error", err)
	}
	if has, err := st.HasAccounts(ctx); err != nil {
		return err
	} else if c.accounts != "" && !has {
		if err := addAccounts(ctx, st, c.accounts); err != nil {
			return err
		}
	}
	return serve(ctx, c, log, st, h.dialer)
})}

func addAccount(ctx context.Context, st *store.Store, name, display, roles, password string) error {
	list := append([]string{}, strings.FieldsFunc(roles, func(r rune) bool { return r == ',' })...)
	return st.AddAccount(ctx, "setup", view.Account{Name: name, Display: display, Roles: list}, password)
}

func addAccounts(ctx context.Context, st *store.Store, path string) error {
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	for n, line := range strings.Split(strings.TrimSpace(string(data)), "\n") {
		f := strings.Split(line, "\t")
		if len(f) != 4 {
			return fmt.Errorf("%s:%d: want four fields between tabs: name, display name, roles by comma, password", path, n+1)
		}
		if err := addAccount(ctx, st, f[0], f[1], f[2], f[3]); err != nil {
			return fmt.Errorf("%s:%d: %w", path, n+1, err)
		}
	}
	return nil
}

// maxConnections bounds how many clients are connected at once; more wait.
const maxConnections = 4096

func serve(ctx context.Context, c config, log *slog.Logger, st *store.Store, dialer *host.Dialer) error {
	m := newMetrics()
	e := engine.New(engine.Config{Observe: m.step, Store: st, Dialer: engine.Over(dialer), Log: log, Lease: c.lease, HostKeys: hostKeys("/etc/ssh")})
	listener, err := c.door.open(log)
	if err != nil {
		return err
	}
	work, rest := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() { e.Run(work); close(ended) }()
	defer func() { rest(); <-ended }()
	served := api.Config{Store: st, Engine: e, Log: log, Console: console.Files(), Metrics: m.serving(st, e), TLS: c.certificate != "", Behind: c.proxies}
	if c.directory != nil {
		served.Directory = directory.New(c.directory, log)
	}
	server := &http.Server{Handler: api.New(served), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10,
		BaseContext: func(net.Listener) context.Context { return work }}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(netutil.LimitListener(listener, maxConnections)) }()
	go watchRecord(work, log, st, recordEvery, c.checkpointsTo)
	go watchKept(work, log, st, e, c.kept)
	if c.receivers != nil {
		go tell.Run(work, log, st, c.receivers)
	}
	if c.tracesTo != "" {
		go trace.Run(work, log, st, c.tracesTo)
	}
	if c.driftEvery > 0 {
		go e.WatchDrift(work, c.driftEvery)
	}
	if err := ready(); err != nil {
		log.Warn("the service manager could not be told that the server is ready", "error", err)
	}
	log.Info("serving", "version", version.Number(), "address", c.scheme()+"://"+c.listen)
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	log.Info("stopping")
	bounded, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := server.Shutdown(bounded); err != nil {
		server.Close()
	}
	return nil
}
