package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"time"

	"wladder/store"
	"wladder/version"
)

// mostLog bounds how many lines of the log go along.
const mostLog = "5000"

var diagnostics = command{"diagnostics", "FILE", "write what somebody needs who helps you, without secrets, as one tar.gz; - is standard output", func(*flag.FlagSet) action {
	return func(ctx context.Context, t *terminal, c config, operands []string) error {
		if len(operands) != 1 {
			return wrongUse{errors.New("want the name of a file that does not exist yet, or -")}
		}
		if operands[0] == "-" {
			return writeDiagnostics(ctx, t.out, c)
		}
		file, err := os.OpenFile(operands[0], os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		if err := errors.Join(writeDiagnostics(ctx, file, c), file.Close()); err != nil {
			return errors.Join(err, os.Remove(operands[0]))
		}
		fmt.Fprintf(t.out, "%s: the version, the configuration and the check, what the database holds by count, and the log of the last days. It names hosts and people, and holds no password, key, file or diff; read it before you send it\n", operands[0])
		return nil
	}
}}

// writeDiagnostics collects what can be told of a server. What cannot be had says why.
func writeDiagnostics(ctx context.Context, w io.Writer, c config) error {
	zipped := gzip.NewWriter(w)
	archive := tar.NewWriter(zipped)
	put := func(name string, text []byte) error {
		text = withoutPasswords(text, c)
		if err := archive.WriteHeader(&tar.Header{Name: "wladderd-diagnostics/" + name, Mode: 0o600, Size: int64(len(text)), ModTime: time.Now()}); err != nil {
			return err
		}
		_, err := archive.Write(text)
		return err
	}
	var conf, results bytes.Buffer
	printConfig(&conf, &c)
	printResults(&results, checked(ctx, c))
	release, _ := os.ReadFile("/etc/os-release")
	type piece struct {
		name string
		text []byte
	}
	all := []piece{
		{"version.txt", fmt.Appendf(nil, "wladderd %s\n%s %s/%s\n%s", version.Text(), runtime.Version(), runtime.GOOS, runtime.GOARCH, release)},
		{"config.yaml", conf.Bytes()},
		{"check.txt", results.Bytes()},
		{"database.json", databaseFacts(ctx, c)},
		{"unit.txt", said(ctx, "systemctl", "status", "--no-pager", "--lines=0", "wladderd.service")},
		{"log.txt", said(ctx, "journalctl", "--unit", "wladderd.service", "--since", "-3d", "--lines", mostLog, "--no-pager", "--output", "short-iso")},
	}
	if text, err := os.ReadFile(filepath.Join(c.data, "postgres", "log")); err == nil {
		all = append(all, piece{"postgresql.txt", text[max(0, len(text)-1<<20):]})
	}
	for _, f := range all {
		if err := put(f.name, f.text); err != nil {
			return err
		}
	}
	return errors.Join(archive.Close(), zipped.Close())
}

func databaseFacts(ctx context.Context, c config) []byte {
	url, err := c.address()
	if err == nil && url == "" {
		err = errors.New("the server's own database does not run")
	}
	var facts store.Facts
	if err == nil {
		bounded, cancel := context.WithTimeout(ctx, 30*time.Second)
		defer cancel()
		facts, err = store.Look(bounded, url)
	}
	if err != nil {
		return fmt.Appendln(nil, err)
	}
	text, _ := json.MarshalIndent(facts, "", "  ")
	return append(text, '\n')
}

// said gives what a program says; what it could not.
func said(ctx context.Context, name string, args ...string) []byte {
	bounded, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	out, err := exec.CommandContext(bounded, name, args...).CombinedOutput()
	if err != nil {
		out = fmt.Appendf(out, "%s: %v\n", name, err)
	}
	return out
}

// withoutPasswords takes out the database's password, wherever a program may have said it.
func withoutPasswords(text []byte, c config) []byte {
	secrets := []string{}
	if u, err := url.Parse(c.database); err == nil && u.User != nil {
		if password, has := u.User.Password(); has {
			secrets = append(secrets, password, url.QueryEscape(password))
		}
	}
	if own, err := os.ReadFile(filepath.Join(c.data, "postgres", "password")); err == nil {
		secrets = append(secrets, string(own))
	}
	for _, s := range secrets {
		if s != "" {
			text = bytes.ReplaceAll(text, []byte(s), []byte("(a password)"))
		}
	}
	return text
}
