// Package demo is the scenario that ships with the product: the flood-warning
// office of Vellmere, made up, with stand-in hosts for its sites.
package demo

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"fmt"
	"time"

	"wladder/core/view"
	"wladder/standin"
)

//go:embed services changes images story
var files embed.FS

// File gives a file of the scenario, such as changes/5-connections.yaml.
func File(name string) []byte {
	data, err := files.ReadFile(name)
	if err != nil {
		panic(err) // embedded at build time
	}
	return data
}

// Person is somebody who can sign in.
type Person struct {
	Name, Display, Roles string
}

// Password is everybody's in the demo.
const Password = "flood-warning-demo"

// UploadToken is the secret of change 7, as made up as everything here.
const UploadToken = "made-up-Token-4711-upland"

// People are the accounts of the office.
var People = []Person{
	{"ines", "Ines Vael", "author,operator"},
	{"oda", "Oda Marsh", "reviewer"},
	{"kai", "Kai Strand", "reviewer"},
	{"tam", "Tam Reed", "operator"},
	{"ada", "Ada Thorne", "admin,operator"},
	{"ben", "Ben Quill", "admin"},
	{"vic", "Vic Lund", ""},
}

// Accounts gives them as wladderd -accounts reads them.
func Accounts() []byte {
	var b bytes.Buffer
	for _, p := range People {
		fmt.Fprintf(&b, "%s\t%s\t%s\t%s\n", p.Name, p.Display, p.Roles, Password)
	}
	return b.Bytes()
}

// Services are the definitions that are alive in the demo.
var Services = []string{"bulletin-pages", "entry", "gauge-intake"}

type role struct {
	name    string
	perSite int
	image   map[string]string
	unit    standin.UnitConfig
}

func image(name string) string { return string(File("images/" + name)) }

var roles = []role{
	{"bulletin", 8, map[string]string{"/etc/nginx/nginx.conf": image("nginx.conf"), "/var/log/nginx/error.log": ""},
		standin.UnitConfig{Name: "nginx.service", Checker: "nginx", Read: standin.WebServer("/etc/nginx/nginx.conf", "Vellmere bulletin")}},
	{"gauge", 3, map[string]string{"/etc/gauge-intake/intake.ini": image("intake.ini")},
		standin.UnitConfig{Name: "gauge-intake.service", Checker: "gauge-intake", Read: standin.Intake("/etc/gauge-intake/intake.ini")}},
	{"entry", 1, map[string]string{"/etc/ssh/sshd_config": image("sshd_config"), "/run/sshd/.keep": ""},
		standin.UnitConfig{Name: "ssh.service", Checker: "sshd", Read: standin.ShellServer("/etc/ssh/sshd_config")}},
}

// Sites are where the hosts stand.
var Sites = []string{"upland", "delta", "coast"}

// Office is the running scenario.
type Office struct {
	Hosts map[string]*standin.Host // none where the hosts are real
	Load  []view.Host              // for hosts-load
	URL   string                   // of the server
}

// Start brings up all stand-in hosts on loopback addresses 127.SECOND.SITE.N;
// client is the public key that may sign in, as a line of authorized_keys.
func Start(client []byte, second int) (*Office, error) {
	key, err := standin.Authorized(client)
	if err != nil {
		return nil, err
	}
	o := &Office{Hosts: map[string]*standin.Host{}}
	for s, site := range Sites {
		n := 0
		for r, ro := range roles {
			for i := range ro.perSite {
				n++
				name := fmt.Sprintf("%s-%s-%02d", ro.name, site, i+1)
				c := standin.Config{
					Name: name, Address: fmt.Sprintf("127.%d.%d.%d:2222", second, s+1, n), Image: ro.image,
					Cores: []int{2, 2, 4, 8}[(i+r)%4], MemoryMB: []int{2048, 2048, 4096, 16384}[(i+r)%4],
					Units: []standin.UnitConfig{ro.unit}, Signer: standin.KeyFrom(sha256.Sum256([]byte("host key of " + name))), Client: key,
				}
				h, err := standin.Start(c)
				if err != nil {
					o.Close()
					return nil, err
				}
				o.Hosts[name] = h
				o.Load = append(o.Load, view.Host{Name: name, Address: c.Address, Login: "root", HostKey: h.HostKey(),
					Labels: map[string]string{"role": ro.name, "site": site}})
			}
		}
	}
	o.script()
	return o, nil
}

// script makes a few things go wrong, as they do.
func (o *Office) script() {
	// This host's open-files limit was never raised: with more connections its
	// pages fail.
	o.Hosts["bulletin-delta-03"].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 4096"})
	// This one's intake runs out of memory soon after a shorter interval.
	o.Hosts["gauge-coast-02"].Script(&standin.Fault{Do: standin.DieAfter, For: 150 * time.Millisecond, When: "poll_seconds = 30"})
	o.Hosts["entry-delta-01"].Script(&standin.Fault{Do: standin.RefuseStart, When: "MaxAuthTries 3"})
	o.Hosts["bulletin-upland-05"].Script(&standin.Fault{Do: standin.SlowLink, For: 60 * time.Millisecond})
}

// Close takes all hosts down.
func (o *Office) Close() {
	for _, h := range o.Hosts {
		h.Close()
	}
}
