package main

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha1" // what known_hosts hashes names with (sshd(8))
	"encoding/base64"
	"encoding/csv"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/kevinburke/ssh_config"
)

// readHosts reads machines from a file, in the form that its name tells: CSV, an
// ssh_config, else YAML.
func readHosts(name string, data []byte) ([]hostLine, error) {
	switch base := filepath.Base(name); {
	case strings.EqualFold(filepath.Ext(name), ".csv"):
		return hostsOfCSV(name, data)
	case base == "config" || strings.HasPrefix(base, "ssh_config"):
		return hostsOfSSH(name, data)
	}
	var read []hostLine
	if err := yaml.UnmarshalWithOptions(data, &read, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("%s: %s", name, err)
	}
	return read, nil
}

// hostsOfCSV reads a table whose first row names the columns: name, address, login, sudo,
// host_key, via; each other one is a label.
func hostsOfCSV(name string, data []byte) (all []hostLine, err error) {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))))
	r.TrimLeadingSpace = true
	rows, err := r.ReadAll()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if len(rows) == 0 || !slices.Contains(rows[0], "name") || !slices.Contains(rows[0], "address") {
		return nil, fmt.Errorf("%s:1: want a first row that names the columns, name and address among them", name)
	}
	for i, row := range rows[1:] {
		h := hostLine{Login: "root", Labels: map[string]string{}}
		for k, column := range rows[0] {
			v := strings.TrimSpace(row[k])
			switch column = strings.TrimSpace(column); column {
			case "name":
				h.Name = v
			case "address":
				h.Address = v
			case "login":
				if v != "" {
					h.Login = v
				}
			case "host_key":
				h.HostKey = v
			case "via":
				h.Via = v
			case "sudo":
				if h.Sudo = v == "true" || v == "yes" || v == "1"; !h.Sudo && v != "" && v != "false" && v != "no" && v != "0" {
					return nil, fmt.Errorf("%s:%d: sudo is %q; want yes or no", name, i+2, v)
				}
			default:
				if v != "" {
					h.Labels[column] = v
				}
			}
		}
		all = append(all, h)
	}
	return all, nil
}

// hostsOfSSH takes each Host of an ssh_config that is one name, with what holds for it.
// What would run a command here, or goes by another machine, is refused.
func hostsOfSSH(name string, data []byte) (all []hostLine, err error) {
	for n, line := range strings.Split(string(data), "\n") {
		words := strings.FieldsFunc(line, func(r rune) bool { return r == ' ' || r == '\t' || r == '=' || r == '\r' })
		if len(words) < 2 {
			continue
		}
		switch key := strings.ToLower(words[0]); {
		case (key == "proxycommand" || key == "localcommand" || key == "knownhostscommand") && !strings.EqualFold(words[1], "none"):
			return nil, fmt.Errorf("%s:%d: %s would run a command of its own, which this server does not; load these hosts from YAML or CSV", name, n+1, words[0])
		case key == "match":
			return nil, fmt.Errorf("%s:%d: Match is not read; write what holds under Host", name, n+1)
		case key == "proxyjump" && strings.ContainsAny(words[1], ",@:"):
			return nil, fmt.Errorf("%s:%d: ProxyJump %s: name one host, as it stands behind Host or is loaded already; its own address, user and way are read there", name, n+1, words[1])
		case key == "include":
			return nil, fmt.Errorf("%s:%d: Include is not followed; load that file by itself", name, n+1)
		}
	}
	config, err := ssh_config.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	for _, h := range config.Hosts {
		for _, p := range h.Patterns {
			alias := p.String()
			if strings.ContainsAny(alias, "*?!") || slices.ContainsFunc(all, func(h hostLine) bool { return h.Name == alias }) {
				continue
			}
			get := func(key, otherwise string) string {
				if v, err := config.Get(alias, key); err == nil && v != "" {
					return v
				}
				return otherwise
			}
			user, via := get("User", "root"), get("ProxyJump", "")
			if strings.EqualFold(via, "none") || via == alias {
				via = ""
			}
			all = append(all, hostLine{Name: alias, Address: net.JoinHostPort(get("HostName", alias), get("Port", "22")), Login: user, Sudo: user != "root", Via: via})
		}
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%s: no Host there is one name", name)
	}
	return all, nil
}

// knownKey finds the key of a host in a known_hosts file (sshd(8)), of ed25519 if there are
// several; empty where it has none.
func knownKey(file []byte, address string) (key string) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		host, port = address, "22"
	}
	want := host
	if port != "22" {
		want = "[" + host + "]:" + port
	}
	for line := range strings.Lines(string(file)) {
		words := strings.Fields(line)
		if len(words) < 3 || strings.HasPrefix(words[0], "#") || strings.HasPrefix(words[0], "@") {
			continue
		}
		for one := range strings.SplitSeq(words[0], ",") {
			if one == want || hashedAs(one, want) {
				if found := words[1] + " " + words[2]; key == "" || words[1] == "ssh-ed25519" {
					key = found
				}
			}
		}
	}
	return key
}

// hashedAs tells whether a name of known_hosts is another's, hashed.
func hashedAs(entry, name string) bool {
	parts := strings.Split(entry, "|")
	if len(parts) != 4 || parts[1] != "1" {
		return false
	}
	salt, err1 := base64.StdEncoding.DecodeString(parts[2])
	sum, err2 := base64.StdEncoding.DecodeString(parts[3])
	mac := hmac.New(sha1.New, salt)
	mac.Write([]byte(name))
	return err1 == nil && err2 == nil && hmac.Equal(mac.Sum(nil), sum)
}

// withKeys gives hosts without a key the one that a known_hosts file has.
func withKeys(hosts []hostLine, file string) error {
	if file == "" {
		return nil
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	for i, h := range hosts {
		if h.HostKey == "" {
			hosts[i].HostKey = knownKey(data, h.Address)
		}
	}
	return nil
}
