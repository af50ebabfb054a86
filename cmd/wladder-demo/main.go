// Command wladder-demo runs Wide Ladder with the scenario that ships with it:
// stand-in hosts, the server, and past changes in different states. With -tour
// it walks through one change with the client instead, and ends.
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
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"wladder/client"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/demo"
	"wladder/standin"
)

func main() {
	dir := flag.String("dir", ".demo", "directory of the demo; made anew at each start")
	listen := flag.String("listen", "127.0.0.1:8480", "address of the server")
	tour := flag.Bool("tour", false, "walk through one change with the client, then end")
	lab := flag.Bool("lab", false, "use six real hosts, booted on this machine, instead of stand-ins; wants root")
	within := flag.Bool("inside", false, "of -lab: this process is where the hosts are")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	begin := func() error { return run(ctx, *dir, *listen, *tour) }
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
	dir, url string
	bin      string // where wladderd and wladder are
	lab      bool   // real hosts
	server   *exec.Cmd
}

func run(ctx context.Context, dir, listen string, tour bool) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	o := &office{dir: dir, url: "http://" + listen, bin: filepath.Dir(self)}
	second := 71
	if tour { // beside a demo that may be running
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
		o.url = "http://" + listen
	} else if err := fresh(dir, listen); err != nil {
		return err
	}
	fmt.Println("Starting the server, its PostgreSQL and the stand-in hosts …")
	if err := o.start(ctx, listen, second); err != nil {
		return err
	}
	defer o.close()
	if tour {
		return o.tour(ctx)
	}
	return o.keepOpen(ctx)
}

// keepOpen lets past changes happen, says where to go, and waits for the end.
func (o *office) keepOpen(ctx context.Context) error {
	fmt.Println("Letting past changes happen …")
	if err := o.past(ctx); err != nil {
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
			return fmt.Errorf("%s is there and is no demo's directory; choose another with -dir", dir)
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
	out, err := exec.CommandContext(ctx, wladderd, "-data", data, "-show-key").Output()
	if err != nil {
		return fmt.Errorf("%s: %w; run make build first", wladderd, err)
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey(out)
	if err != nil {
		return err
	}
	if o.lab {
		o.Office, err = bootLab(key)
	} else {
		o.Office, err = demo.Start(key, second)
	}
	if err != nil {
		return err
	}
	log, err := os.Create(filepath.Join(o.dir, "wladderd.log"))
	if err != nil {
		return err
	}
	// One server for accounts and service: PostgreSQL starts once.
	o.server = exec.Command(wladderd, "-data", data, "-listen", listen, "-lease", "3s", "-accounts", o.accounts())
	o.server.Stdout, o.server.Stderr = log, log
	o.server.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true}
	if err := o.server.Start(); err != nil {
		return err
	}
	for deadline := time.Now().Add(60 * time.Second); ; {
		response, err := http.Get(o.url + "/readyz")
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
	o.Office.Close()
}

// accounts writes the people into a file for the server.
func (o *office) accounts() string {
	path := filepath.Join(o.dir, "accounts")
	var b strings.Builder
	for _, p := range demo.People {
		fmt.Fprintf(&b, "%s\t%s\t%s\t%s\n", p.Name, p.Display, p.Roles, demo.Password)
	}
	os.WriteFile(path, []byte(b.String()), 0o600)
	return path
}

// as signs a person in.
func (o *office) as(ctx context.Context, name string) (*client.Client, error) {
	out, err := client.New(o.url, "").SignIn(ctx, view.SignIn{Name: name, Password: demo.Password, Kind: "session", Label: "demo"})
	return client.New(o.url, out.Token), err
}

// set loads hosts and definitions.
func (o *office) set(ctx context.Context) error {
	ada, err := o.as(ctx, "ada")
	if err != nil {
		return err
	}
	ben, err := o.as(ctx, "ben")
	if err != nil {
		return err
	}
	if err := ada.LoadHosts(ctx, o.Load); err != nil {
		return err
	}
	if _, err := ada.Survey(ctx, ""); err != nil {
		return err
	}
	for _, name := range demo.Services {
		s, err := ada.LoadService(ctx, demo.File("services/"+name+".yaml"))
		if err != nil {
			return err
		}
		if err := ben.ApproveService(ctx, name, s.Digest); err != nil {
			return err
		}
	}
	return nil
}

// pastChanges are the changes of the demo, and how far each comes.
var pastChanges = []struct{ file, upTo string }{
	{"1-version", "climbed"}, {"2-poll", "climbed"}, {"3-tries", "climbed"}, {"4-gzip", "climbed"}, {"5-connections", "offered"}, {"6-range", "rehearsed"}, {"7-token", "offered"},
}

// past makes changes and brings each to where it stands when people come.
func (o *office) past(ctx context.Context) error {
	if err := o.set(ctx); err != nil {
		return err
	}
	ines, err := o.as(ctx, "ines")
	if err != nil {
		return err
	}
	oda, err := o.as(ctx, "oda")
	if err != nil {
		return err
	}
	ada, err := o.as(ctx, "ada")
	if err != nil {
		return err
	}
	if _, err := ada.PutSecret(ctx, "upload-token", demo.UploadToken); err != nil {
		return err
	}
	all, fit := pastChanges, strings.NewReplacer()
	if o.lab {
		all, fit = labChanges, labFit
	}
	for _, c := range all {
		id, d, err := rehearsed(ctx, ines, []byte(fit.Replace(string(demo.File("changes/"+c.file+".yaml")))))
		if err != nil {
			return fmt.Errorf("%s: %w", c.file, err)
		}
		if c.upTo == "rehearsed" {
			continue
		}
		if err := ines.Offer(ctx, id); err != nil {
			return fmt.Errorf("%s: %w", c.file, err)
		}
		if c.upTo == "offered" {
			continue
		}
		if err := oda.Approve(ctx, id, d.Rehearsal.Digest); err != nil {
			return err
		}
		if c.file == "4-gzip" { // somebody is quicker than the climb
			h := o.Hosts["bulletin-coast-04"]
			data, _ := h.Files.Read("/etc/nginx/nginx.conf")
			h.Files.Write("/etc/nginx/nginx.conf", append([]byte("# tam: watching the error log here tonight\n"), data...))
		}
		if err := climbed(ctx, ines, id); err != nil {
			return err
		}
	}
	return nil
}

// rehearsed drafts a change and rehearses it to the end.
func rehearsed(ctx context.Context, author *client.Client, text []byte) (id int64, d view.ChangeDetail, err error) {
	if id, err = author.Draft(ctx, 0, text); err != nil {
		return id, d, err
	}
	if err := author.Rehearse(ctx, id); err != nil {
		return id, d, err
	}
	d, err = until(ctx, author, id, func(d view.ChangeDetail) bool { return d.Rehearsal != nil && d.Rehearsal.EndedAt != nil })
	return id, d, err
}

// climbed lets a change climb until it ends, pauses or waits.
func climbed(ctx context.Context, operator *client.Client, id int64) error {
	if err := operator.Climb(ctx, id); err != nil {
		return err
	}
	_, err := until(ctx, operator, id, func(d view.ChangeDetail) bool { return d.Climb.State != ladder.Running })
	return err
}

// until waits for a change to be as wanted.
func until(ctx context.Context, c *client.Client, id int64, f func(view.ChangeDetail) bool) (d view.ChangeDetail, err error) {
	enough := errors.New("enough")
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	err = c.Follow(ctx, id, func(client.Event) error {
		if d, err = c.Change(ctx, id); err != nil {
			return err
		}
		if f(d) {
			return enough
		}
		return nil
	})
	if errors.Is(err, enough) {
		err = nil
	}
	return d, err
}

func (o *office) welcome() {
	fmt.Printf("\nThe flood-warning office of Vellmere is open: %s\n\n", o.url)
	fmt.Printf("Sign in with the password %s as\n", demo.Password)
	for _, p := range demo.People {
		roles := p.Roles
		if roles == "" {
			roles = "viewer"
		}
		fmt.Printf("  %-5s %-11s %s\n", p.Name, p.Display, strings.ReplaceAll(roles, ",", ", "))
	}
	if o.lab {
		fmt.Printf("\n%d real hosts with systemd, OpenSSH and nginx run on this machine; they are gone when this ends.\n", len(o.Load))
		fmt.Printf("\nTry: WLADDER_SERVER=%s bin/wladder sign-in tam; bin/wladder ask -where 'true' 'unit nginx.service' 'port 8080'; bin/wladder diff 2\nCtrl-C ends it.\n", o.url)
		return
	}
	fmt.Printf("\n%d stand-in hosts answer on loopback. They only pretend these things:\n", len(o.Hosts))
	for _, p := range standin.Pretended {
		fmt.Println("  -", p)
	}
	fmt.Printf("\nTry: WLADDER_SERVER=%s bin/wladder sign-in oda; bin/wladder changes; bin/wladder diff 5\nCtrl-C ends it.\n", o.url)
}
