package main

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// door is how people and programs get in: by TLS of our own, or through a proxy that
// has it. On loopback neither is asked for.
type door struct {
	listen           string
	certificate, key string // files in PEM
	through          string // addresses or networks of proxies, by comma
	proxies          []netip.Prefix
}

func (c *config) validateDoor() error {
	d := &c.door
	host, _, err := net.SplitHostPort(d.listen)
	if err != nil {
		return c.wrong("listen", "%q is not an address; want one such as 127.0.0.1:8480", d.listen)
	}
	if (d.certificate == "") != (d.key == "") {
		return c.wrong("certificate", "certificate and certificate-key: want both or neither")
	}
	for _, text := range strings.FieldsFunc(d.through, func(r rune) bool { return r == ',' || r == ' ' }) {
		prefix, err := netip.ParsePrefix(text)
		if at, one := netip.ParseAddr(text); one == nil {
			prefix, err = at.Prefix(at.BitLen())
		}
		if err != nil {
			return c.wrong("proxies", "%q is neither an address nor a network", text)
		}
		d.proxies = append(d.proxies, prefix)
	}
	at, err := netip.ParseAddr(host)
	if loopback := host == "localhost" || err == nil && at.IsLoopback(); !loopback && d.certificate == "" && len(d.proxies) == 0 {
		return c.wrong("listen", "%s can be reached from elsewhere, where passwords would go in the clear; want certificate and certificate-key, or proxies with the address of one that has them", d.listen)
	}
	return nil
}

// open listens, by TLS where there is a certificate.
func (d *door) open(log *slog.Logger) (net.Listener, error) {
	if d.certificate == "" {
		return net.Listen("tcp", d.listen)
	}
	pair := &keyPair{certificate: d.certificate, key: d.key, log: log}
	if err := pair.load(); err != nil {
		return nil, err
	}
	return tls.Listen("tcp", d.listen, &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: pair.get, NextProtos: []string{"http/1.1"}})
}

func (d *door) scheme() string {
	if d.certificate != "" {
		return "https"
	}
	return "http"
}

// keyPair is a certificate with its key, read again when a file changes.
type keyPair struct {
	certificate, key string
	log              *slog.Logger

	mu     sync.Mutex
	now    *tls.Certificate
	state  string // of the files that it was read from
	looked time.Time
}

// files says how the files stand, so that a change shows.
func (k *keyPair) files() string {
	var all strings.Builder
	for _, name := range []string{k.certificate, k.key} {
		if info, err := os.Stat(name); err == nil {
			fmt.Fprintf(&all, "%d %d ", info.ModTime().UnixNano(), info.Size())
		}
	}
	return all.String()
}

func (k *keyPair) load() error {
	if err := private(k.key); err != nil {
		return err
	}
	state := k.files()
	pair, err := tls.LoadX509KeyPair(k.certificate, k.key)
	if err != nil {
		return fmt.Errorf("%s, %s: %w", k.certificate, k.key, err)
	}
	k.now, k.state = &pair, state
	return nil
}

func (k *keyPair) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if time.Since(k.looked) > time.Second {
		k.looked = time.Now()
		if k.files() != k.state {
			if err := k.load(); err != nil { // half of it may be written yet
				k.log.Error("the new certificate cannot be used; the old one is kept", "error", err)
			} else {
				k.log.Info("a new certificate is used", "file", k.certificate)
			}
		}
	}
	return k.now, nil
}

// private checks that nobody else can read a file.
func private(path string) error {
	info, err := os.Stat(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil // it is made, or missed where it is read
	}
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		err = fmt.Errorf("%s: others may read it (mode %o); want chmod 600", path, info.Mode().Perm())
	}
	return err
}

// checkOwner checks that what is made in the server's directory belongs to the server.
func checkOwner(dir string) error {
	info, err := os.Stat(dir)
	if err != nil {
		return err
	}
	if owner := info.Sys().(*syscall.Stat_t).Uid; int(owner) != os.Geteuid() {
		name := strconv.Itoa(int(owner))
		if account, err := user.LookupId(name); err == nil {
			name = account.Username
		}
		return fmt.Errorf("%s: belongs to %s, and what another account makes there %s cannot use; run this as that account: runuser -u %s -- wladderd …", dir, name, name, name)
	}
	return nil
}

// checkData checks that nobody else can put anything into the server's directory, or read its keys.
func checkData(dir string) error {
	info, err := os.Stat(dir)
	if err != nil {
		return err
	}
	if info.Mode().Perm()&0o022 != 0 {
		return fmt.Errorf("%s: others may write there (mode %o); want chmod 711", dir, info.Mode().Perm())
	}
	return errors.Join(private(filepath.Join(dir, "key")), private(filepath.Join(dir, "ssh_key")))
}
