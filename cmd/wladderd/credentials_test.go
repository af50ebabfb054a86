package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wladder/host"
)

// TestCredentialsFile says what is wrong with a file of credentials, and which host gets which.
func TestCredentialsFile(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	key := filepath.Join(dir, "delta")
	made, err := host.LoadSigner(key)
	if err != nil {
		t.Fatal(err)
	}
	open := filepath.Join(dir, "open")
	if _, err := host.LoadSigner(open); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(open, 0o644); err != nil {
		t.Fatal(err)
	}
	t.Setenv("SSH_AUTH_SOCK", "")
	for text, want := range map[string]string{
		"- {name: delta, where: 'labels.site ==', key: " + key + "}": "credential 1 (delta): where: ",
		"- {name: delta, where: 'cores > 2', key: " + key + "}":      "a host's traits are known once it was signed in to",
		"- {where: 'true', key: " + key + "}":                        "it has no name",
		"- {name: delta, where: 'true'}":                             "want either key, a file, or agent",
		"- {name: delta, where: 'true', key: " + open + "}":          "others may read it (mode 644)",
		"- {name: delta, where: 'true', key: " + key + "-none}":      "no such file",
		"- {name: delta, where: 'true', agent: 'SHA256:x'}":          "SSH_AUTH_SOCK is empty",
		"- {name: delta, where: 'true', keys: x}":                    "unknown field",
	} {
		if _, err := credentials(write("c.yaml", text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %q", text, err, want)
		}
	}
	all, err := credentials(write("c.yaml", "- {name: delta, where: 'labels.site == \"delta\"', key: "+key+"}\n"))
	if err != nil || len(all) != 1 || string(all[0].Signer.PublicKey().Marshal()) != string(made.PublicKey().Marshal()) {
		t.Fatalf("%+v, %v", all, err)
	}
	if !all[0].Fits(host.Target{Labels: map[string]string{"site": "delta"}}) || all[0].Fits(host.Target{Name: "delta"}) {
		t.Error("it fits other hosts")
	}
}
