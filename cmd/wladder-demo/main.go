// Command wladder-demo runs Wide Ladder with the scenario that ships with it:
// stand-in hosts, the server, and past changes in different states. With -tour
// or -story it walks through changes with the client instead, and ends.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"wladder/demo"
	"wladder/standin"
	"wladder/standin/provider"
)

func main() {
	dir := flag.String("dir", ".demo", "directory of the demo; made anew at each start")
	listen := flag.String("listen", "127.0.0.1:8480", "address of the server")
	tour := flag.Bool("tour", false, "walk through one change with the client, then end")
	story := flag.Bool("story", false, "walk through a team's review, reuse and upkeep with the client, then end")
	lab := flag.Bool("lab", false, "use six real hosts, booted on this machine, instead of stand-ins; wants root")
	within := flag.Bool("inside", false, "of -lab: this process is where the hosts are")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	walk := (*office).keepOpen
	switch {
	case *tour:
		walk = (*office).tour
	case *story:
		walk = (*office).story
	}
	begin := func() error { return run(ctx, *dir, *listen, *tour || *story, walk) }
	switch {
	case *within:
		begin = func() error { return inside(ctx, *dir, *listen) }
	case *lab:
		begin = func() error { return outside(ctx, *dir, *listen) }
	}
	if err := begin(); err != nil && !errors.Is(err, context.Canceled) && ctx.Err() == nil {
		fmt.Fprintln(os.Stderr, "wladder-demo:", err)
		stop()
		os.Exit(1)
	}
}

// office is the demo as it runs.
type office struct {
	*demo.Office
	dir       string
	bin       string // where wladderd and wladder are
	lab       bool   // real hosts
	server    *exec.Cmd
	directory net.Listener
}

func run(ctx context.Context, dir, listen string, beside bool, walk func(*office, context.Context) error) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	o := &office{dir: dir, bin: filepath.Dir(self)}
	second := 71
	if beside { // of a demo that may be running
		second = 72
		if o.dir, err = os.MkdirTemp("", "wladder-tour-"); err != nil {
			return err
		}
		defer os.RemoveAll(o.dir)
		os.Chmod(o.dir, 0o711)
		free, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		listen = free.Addr().String()
		free.Close()
	} else if err := fresh(dir, listen); err != nil {
		return err
	}
	fmt.Println("Starting the server, its PostgreSQL and the stand-in hosts …")
	if err := o.start(ctx, listen, second); err != nil {
		return err
	}
	defer o.close()
	return walk(o, ctx)
}

// keepOpen lets past changes happen, says where to go, and waits for the end.
func (o *office) keepOpen(ctx context.Context) error {
	fmt.Println("Letting past changes happen …")
	changes, fit := demo.PastChanges, strings.NewReplacer()
	if o.lab {
		changes, fit = labChanges, labFit
	}
	if err := o.Past(ctx, changes, fit); err != nil {
		return err
	}
	o.welcome()
	<-ctx.Done()
	return nil
}

// fresh empties the demo's directory, unless a demo still runs from it.
func fresh(dir, listen string) error {
	if c, err := net.DialTimeout("tcp", listen, time.Second); err == nil {
		c.Close()
		return fmt.Errorf("something already answers on %s; stop it first, or choose another address with -listen", listen)
	}
	if _, err := os.Stat(dir); err == nil {
		if _, err := os.Stat(filepath.Join(dir, "server", "key")); err != nil {
			return fmt.Errorf("%s is there and is not a demo's directory; choose another with -dir", dir)
		}
	}
	return os.RemoveAll(dir)
}

func (o *office) start(ctx context.Context, listen string, second int) error {
	data := filepath.Join(o.dir, "server")
	if err := os.MkdirAll(o.dir, 0o711); err != nil {
		return err
	}
	wladderd := filepath.Join(o.bin, "wladderd")
	out, err := exec.CommandContext(ctx, wladderd, "show-key", "-data", data).Output()
	if err != nil {
		return fmt.Errorf("%s: %w; run make build first", wladderd, err)
	}
	if o.lab {
		o.Office, err = bootLab(out)
	} else {
		o.Office, err = demo.Start(out, second)
	}
	if err != nil {
		return err
	}
	o.URL = "http://" + listen
	signIn, err := o.openDirectory()
	if err != nil {
		return err
	}
	log, err := os.Create(filepath.Join(o.dir, "wladderd.log"))
	if err != nil {
		return err
	}
	// One server for accounts and service: PostgreSQL starts once.
	o.server = exec.Command(wladderd, "serve", "-data", data, "-listen", listen, "-lease", "3s", "-accounts", o.accounts(), "-sign-in", signIn, "-own-climbs") // a small office: who writes may start it
	o.server.Stdout, o.server.Stderr = log, log
	o.server.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true}
	if err := o.server.Start(); err != nil {
		return err
	}
	for deadline := time.Now().Add(60 * time.Second); ; {
		response, err := http.Get(o.URL + "/readyz")
		if err == nil {
			response.Body.Close()
			if response.StatusCode == http.StatusOK {
				return nil
			}
		}
		if time.Now().After(deadline) || ctx.Err() != nil || syscall.Kill(o.server.Process.Pid, 0) != nil {
			said, _ := os.ReadFile(log.Name())
			o.close()
			return fmt.Errorf("the server did not come up: %s", said)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

func (o *office) close() {
	if o.server != nil && o.server.Process != nil {
		o.server.Process.Signal(syscall.SIGTERM)
		o.server.Wait()
	}
	if o.directory != nil {
		o.directory.Close()
	}
	o.Office.Close()
}

// openDirectory starts the stand-in directory, and writes the file that tells the server of it.
func (o *office) openDirectory() (path string, err error) {
	if o.directory, err = net.Listen("tcp", "localhost:0"); err != nil {
		return "", err
	}
	_, port, err := net.SplitHostPort(o.directory.Addr().String())
	if err != nil {
		return "", err
	}
	at := "http://localhost:" + port // another site than the server's, for a browser
	go http.Serve(o.directory, provider.New(at, "wide-ladder", "", provider.Person{Subject: "11", Name: "runa", Display: "Runa Lock", Groups: []string{"night-watch", "staff"}},
		provider.Person{Subject: "12", Name: "piet", Display: "Piet Dyke", Groups: []string{"staff"}}, provider.Person{Subject: "13", Name: "guest", Display: "A guest", Groups: []string{"visitors"}}))
	path = filepath.Join(o.dir, "sign-in.yaml")
	return path, os.WriteFile(path, []byte("name: the office's directory\nissuer: "+at+"\nclient: wide-ladder\naddress: "+o.URL+"\nroles: {viewer: [staff], author: [night-watch], operator: [night-watch]}\n"), 0o600)
}

// accounts writes the people into a file for the server.
func (o *office) accounts() string {
	path := filepath.Join(o.dir, "accounts")
	os.WriteFile(path, demo.Accounts(), 0o600)
	return path
}

func (o *office) welcome() {
	fmt.Printf("\nThe flood-warning office of Vellmere is open: %s\n\n", o.URL)
	fmt.Printf("Sign in with the password %s as\n", demo.Password)
	for _, p := range demo.People {
		roles := p.Roles
		if roles == "" {
			roles = "viewer"
		}
		fmt.Printf("  %-5s %-11s %s\n", p.Name, p.Display, strings.ReplaceAll(roles, ",", ", "))
	}
	fmt.Println("or with the office's directory, which stands in too.")
	if o.lab {
		fmt.Printf("\n%d real hosts with systemd, OpenSSH and nginx run on this machine; they are gone when this ends.\n", len(o.Load))
		fmt.Printf("\nTry: WLADDER_SERVER=%s bin/wladder sign-in tam; bin/wladder ask -where 'true' 'unit nginx.service' 'port 8080'; bin/wladder diff 2\nCtrl-C ends it.\n", o.URL)
		return
	}
	fmt.Printf("\n%d stand-in hosts answer on loopback. They only pretend these things:\n", len(o.Hosts))
	for _, p := range slices.Concat(standin.Pretended, provider.Pretended) {
		fmt.Println("  -", p)
	}
	fmt.Printf("\nTry: WLADDER_SERVER=%s bin/wladder sign-in oda; bin/wladder changes; bin/wladder diff 5\nCtrl-C ends it.\n", o.URL)
}
