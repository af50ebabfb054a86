// Command wladderd is the Wide Ladder server.
//
//	wladderd -data /var/lib/wladderd -listen 127.0.0.1:8480
//	wladderd -data /var/lib/wladderd -first-admin ada -display 'Ada Rill'   # the password is a line of standard input
package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/net/netutil"

	"wladder/api"
	"wladder/console"
	"wladder/core/view"
	"wladder/engine"
	"wladder/host"
	"wladder/store"
	"wladder/store/postmaster"
	"wladder/tell"
)

// config is how the server is told to run.
type config struct {
	door
	data, database          string // database: a URL
	databaseFile            string
	lease, kept, driftEvery time.Duration
	admin, display          string
	accounts                string
	ownClimbs               bool
	showKey, showRecordKey  bool
	goOn                    string
	checkpointsTo           string // a URL
	credentials             string // a file
	tell                    string // a file
	receivers               []tell.Receiver
}

func (c *config) validate() error {
	var all []error
	if c.data == "" {
		all = append(all, errors.New("-data: is empty; want a directory of the server's own"))
	}
	if err := c.door.validate(); err != nil {
		all = append(all, err)
	}
	if c.databaseFile != "" {
		text, err := os.ReadFile(c.databaseFile)
		if err == nil {
			err = private(c.databaseFile)
		}
		c.database = strings.TrimSpace(string(text))
		all = append(all, err)
	}
	if c.lease < 500*time.Millisecond || c.lease > 5*time.Minute {
		all = append(all, fmt.Errorf("-lease: %s is out of range; want 500ms to 5m", c.lease))
	}
	if c.kept < 24*time.Hour {
		all = append(all, fmt.Errorf("-keep: %s is out of range; want 24h or more", c.kept))
	}
	if c.driftEvery != 0 && c.driftEvery < time.Minute {
		all = append(all, fmt.Errorf("-drift-every: %s is out of range; want 1m or more, or 0 for never", c.driftEvery))
	}
	if c.checkpointsTo != "" {
		all = append(all, receiver(c.checkpointsTo))
	}
	if c.tell != "" {
		text, err := os.ReadFile(c.tell)
		if err == nil {
			c.receivers, err = tell.Parse(c.tell, text)
		}
		all = append(all, err)
	}
	return errors.Join(all...)
}

func main() {
	var c config
	flag.StringVar(&c.data, "data", "", "directory for keys and, without a database elsewhere, PostgreSQL's files")
	flag.StringVar(&c.listen, "listen", "127.0.0.1:8480", "address to serve on; another than loopback wants -certificate or -behind")
	flag.StringVar(&c.certificate, "certificate", "", "file with the server's certificate and those above it, in PEM; read again when it changes")
	flag.StringVar(&c.key, "certificate-key", "", "file with the certificate's key, in PEM")
	flag.StringVar(&c.behind, "behind", "", "addresses or networks, by comma, of the proxies through which alone this server is reached, and which have TLS")
	flag.StringVar(&c.databaseFile, "database-file", "", "file with the URL of a PostgreSQL database; or the URL in WLADDERD_DATABASE; without either the server runs one of its own on loopback")
	flag.DurationVar(&c.lease, "lease", 15*time.Second, "after how long another server may take over what this one worked on")
	flag.DurationVar(&c.kept, "keep", 30*24*time.Hour, "how long the files that a change replaced are kept, here and on the hosts, to go back to them, where the policy does not say")
	flag.DurationVar(&c.driftEvery, "drift-every", 6*time.Hour, "how often each host is looked at for files that are not as they were left, spread over that time; 0 for never")
	flag.StringVar(&c.checkpointsTo, "checkpoints-to", "", "send the record's signed checkpoints to this URL as well as to the log, by POST as a CloudEvent; https, or http on loopback")
	flag.StringVar(&c.admin, "first-admin", "", "make this account an admin, its password being a line of standard input, and end; while there are fewer than two admins, and no server works there")
	flag.StringVar(&c.display, "display", "", "the name to show, with -first-admin")
	flag.StringVar(&c.accounts, "accounts", "", "where there is no account yet, make those in this file: name, display name, roles and password, between tabs")
	flag.BoolVar(&c.ownClimbs, "own-climbs", false, "policy: an author who is an operator may start the climb of their own change")
	flag.StringVar(&c.credentials, "credentials", "", "file that says with which other keys, or keys of the ssh-agent, some hosts are signed in to: a list of name, where, and key or agent")
	flag.StringVar(&c.tell, "tell", "", "file that says who is told when a review, a gate, a pause or a host asks for a person: a list of name, on, and webhook with key, or mail with from and by")
	flag.BoolVar(&c.showKey, "show-key", false, "print the public key with which the server signs in to hosts, and end")
	flag.BoolVar(&c.showRecordKey, "show-record-key", false, "print the public key of the record's checkpoints, and end")
	flag.StringVar(&c.goOn, "go-on-from-copy", "", "after the database came back from an older copy: have its record go on, as these two admins say; NAME,NAME, their passwords being two lines of standard input; and end")
	flag.Parse()
	c.database = os.Getenv("WLADDERD_DATABASE")
	err := c.validate()
	if err == nil && flag.NArg() > 0 {
		err = fmt.Errorf("unexpected %q; flags only", flag.Arg(0))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, c); err != nil {
		fmt.Fprintln(os.Stderr, "wladderd:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, c config) error {
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	if err := os.MkdirAll(c.data, 0o711); err != nil {
		return err
	}
	if err := checkData(c.data); err != nil {
		return err
	}
	keys, err := store.LoadKeys(filepath.Join(c.data, "key"))
	if err != nil {
		return err
	}
	signer, err := host.LoadSigner(filepath.Join(c.data, "ssh_key"))
	if err != nil {
		return err
	}
	others, err := credentials(c.credentials)
	if err != nil {
		return err
	}
	if c.showKey {
		fmt.Print(host.PublicKey(signer))
		for _, other := range others {
			fmt.Printf("%s %s\n", strings.TrimSpace(host.PublicKey(other.Signer)), other.Name)
		}
		return nil
	}
	if c.showRecordKey {
		fmt.Println(keys.Current.RecordKey())
		return nil
	}
	unlock, err := lock(c.data)
	if err != nil {
		return err
	}
	defer unlock()
	if c.database == "" {
		pg, err := postmaster.Start(ctx, postmaster.Config{Dir: filepath.Join(c.data, "postgres"), Log: log})
		if err != nil {
			return err
		}
		defer pg.Stop()
		if err := pg.Make(ctx, "wladder"); err != nil {
			return err
		}
		c.database = pg.URL("wladder")
	}
	if keys, err = store.FitKeys(ctx, filepath.Join(c.data, "key"), c.database); err != nil {
		return err
	}
	st, err := store.OpenWith(ctx, c.database, keys)
	if err != nil {
		return err
	}
	defer st.Close()
	st.KeepKeys(filepath.Join(c.data, "key"))
	st.OwnClimbs = c.ownClimbs
	kept := st.KeepHead(ctx, filepath.Join(c.data, "record-head"))
	if c.goOn != "" {
		return goOn(ctx, st, c.goOn)
	}
	if kept != nil { // hosts under way are finished all the same
		log.Error("nothing is approved or started", "error", kept)
	}
	if c.admin != "" {
		password, err := bufio.NewReader(os.Stdin).ReadString('\n')
		if err != nil && password == "" {
			return errors.New("no password came on standard input")
		}
		return st.FirstAdmin(ctx, c.admin, c.display, strings.TrimRight(password, "\r\n"))
	}
	if has, err := st.HasAccounts(ctx); err != nil {
		return err
	} else if c.accounts != "" && !has {
		if err := addAccounts(ctx, st, c.accounts); err != nil {
			return err
		}
	}
	return serve(ctx, c, log, st, &host.Dialer{Signer: signer, Credentials: others})
}

// goOn has the record go on from an older copy of the database.
func goOn(ctx context.Context, st *store.Store, names string) error {
	admins, in := map[string]string{}, bufio.NewReader(os.Stdin)
	for _, name := range strings.Split(names, ",") {
		password, err := in.ReadString('\n')
		if err != nil && password == "" {
			return fmt.Errorf("no password of %s came on standard input", name)
		}
		admins[name] = strings.TrimRight(password, "\r\n")
	}
	return st.GoOn(ctx, admins)
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
	server := &http.Server{Handler: api.New(api.Config{Store: st, Engine: e, Log: log, Console: console.Files(), Metrics: m.serving(st, e), TLS: c.certificate != "", Behind: c.proxies}), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10,
		BaseContext: func(net.Listener) context.Context { return work }}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(netutil.LimitListener(listener, maxConnections)) }()
	go watchRecord(work, log, st, recordEvery, c.checkpointsTo)
	go watchKept(work, log, st, e, c.kept)
	if c.receivers != nil {
		go tell.Run(work, log, st, c.receivers)
	}
	if c.driftEvery > 0 {
		go e.WatchDrift(work, c.driftEvery)
	}
	log.Info("serving", "address", c.scheme()+"://"+c.listen)
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
